"""Weights of the joint ranking, fitted by `benchmarks/fit_causes.py`; see `docs/accuracy.md` for how they did since."""

BIASES: dict[str, float] = {
    "loose_mount": -6.13,
    "frame_resonance": -6.9,
    "propeller": -5.475,
    "bearing": -7.955,
    "electrical_spikes": -6.459,
    "noisy_axis": -7.404,
    "d_noise": -7.517,
    "p_high": -5.956,
    "i_low": -5.669,
    "filters_low": -8.435,
    "idle_low": -4.111,
}
WEIGHTS: dict[str, tuple[float, ...]] = {
    "loose_mount": (3.024, 2.004),
    "frame_resonance": (0.628, 2.13),
    "propeller": (1.978, 0.88),
    "bearing": (2.288, 1.909),
    "electrical_spikes": (2.176, 3.663),
    "noisy_axis": (3.044,),
    "d_noise": (0.47, 0.374, 2.815),
    "p_high": (2.488, 0.932),
    "i_low": (4.867,),
    "filters_low": (1.527, 2.423),
    "idle_low": (5.168,),
}
