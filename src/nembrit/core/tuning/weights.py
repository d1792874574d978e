"""Weights of the joint ranking, fitted by `benchmarks/fit_causes.py`; see `docs/accuracy.md` for how they did since."""

BIASES: dict[str, float] = {
    "loose_mount": -6.962,
    "frame_resonance": -6.692,
    "propeller": -5.864,
    "bearing": -5.02,
    "electrical_spikes": -6.417,
    "noisy_axis": -7.278,
    "d_noise": -5.942,
    "p_high": -5.704,
    "i_low": -4.85,
    "filters_low": -10.066,
}
WEIGHTS: dict[str, tuple[float, ...]] = {
    "loose_mount": (3.002, 2.145),
    "frame_resonance": (1.14, 2.0),
    "propeller": (1.794, 1.284),
    "bearing": (1.291, 2.034),
    "electrical_spikes": (2.226, 3.479),
    "noisy_axis": (2.966,),
    "d_noise": (1.188, 1.339),
    "p_high": (0.263, 2.011, 1.0),
    "i_low": (3.164,),
    "filters_low": (3.385,),
}
