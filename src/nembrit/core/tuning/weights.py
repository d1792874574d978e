"""Weights of the joint ranking, fitted by `benchmarks/fit_causes.py`; see `docs/accuracy.md` for how they did since."""

BIASES: dict[str, float] = {
    "loose_mount": -6.13,
    "frame_resonance": -6.895,
    "propeller": -5.475,
    "bearing": -7.953,
    "electrical_spikes": -6.461,
    "noisy_axis": -7.403,
    "d_noise": -7.514,
    "p_high": -5.973,
    "i_low": -5.67,
    "filters_low": -8.429,
    "idle_low": -4.11,
}
WEIGHTS: dict[str, tuple[float, ...]] = {
    "loose_mount": (3.024, 2.005),
    "frame_resonance": (0.621, 2.133),
    "propeller": (1.977, 0.88),
    "bearing": (2.284, 1.912),
    "electrical_spikes": (2.174, 3.664),
    "noisy_axis": (3.044,),
    "d_noise": (0.47, 0.374, 2.816),
    "p_high": (2.601, 0.74),
    "i_low": (4.868,),
    "filters_low": (1.524, 2.422),
    "idle_low": (5.168,),
}
