"""Weights of the joint ranking, fitted by `benchmarks/fit_causes.py`; see `docs/accuracy.md` for how they did since."""

BIASES: dict[str, float] = {
    "loose_mount": -6.085,
    "frame_resonance": -6.773,
    "propeller": -5.363,
    "bearing": -7.941,
    "electrical_spikes": -6.445,
    "noisy_axis": -7.387,
    "d_noise": -6.552,
    "p_high": -5.33,
    "i_low": -5.637,
    "filters_low": -8.676,
}
WEIGHTS: dict[str, tuple[float, ...]] = {
    "loose_mount": (3.047, 2.025),
    "frame_resonance": (0.734, 1.96),
    "propeller": (1.968, 0.949),
    "bearing": (2.303, 1.931),
    "electrical_spikes": (2.194, 3.696),
    "noisy_axis": (3.059,),
    "d_noise": (1.65, 1.272),
    "p_high": (0.0, 0.715, 3.521, 1.129),
    "i_low": (4.987,),
    "filters_low": (1.632, 2.26),
}
