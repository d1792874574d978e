"""Weights of the joint ranking, fitted by `benchmarks/fit_causes.py`; see `docs/accuracy.md` for how they did since."""

BIASES: dict[str, float] = {
    "loose_mount": -6.116,
    "frame_resonance": -6.811,
    "propeller": -5.472,
    "bearing": -7.961,
    "electrical_spikes": -6.46,
    "noisy_axis": -7.408,
    "d_noise": -7.564,
    "p_high": -5.921,
    "i_low": -5.662,
    "filters_low": -8.495,
    "idle_low": -6.249,
}
WEIGHTS: dict[str, tuple[float, ...]] = {
    "loose_mount": (3.064, 2.015),
    "frame_resonance": (0.406, 2.29),
    "propeller": (1.975, 0.867),
    "bearing": (2.284, 1.91),
    "electrical_spikes": (2.172, 3.659),
    "noisy_axis": (3.041,),
    "d_noise": (0.506, 0.465, 2.832),
    "p_high": (2.23, 0.805),
    "i_low": (4.869,),
    "filters_low": (1.545, 2.38),
    "idle_low": (3.89,),
}
