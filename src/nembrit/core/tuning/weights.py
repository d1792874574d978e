"""Weights of the joint ranking, fitted by `benchmarks/fit_causes.py`; see `docs/accuracy.md` for how they did since."""

BIASES: dict[str, float] = {
    "loose_mount": -6.073,
    "frame_resonance": -6.789,
    "propeller": -5.356,
    "bearing": -7.899,
    "electrical_spikes": -6.409,
    "noisy_axis": -7.351,
    "d_noise": -6.564,
    "p_high": -5.557,
    "i_low": -5.603,
    "filters_low": -8.628,
}
WEIGHTS: dict[str, tuple[float, ...]] = {
    "loose_mount": (3.0, 2.001),
    "frame_resonance": (0.798, 1.906),
    "propeller": (1.959, 0.952),
    "bearing": (2.288, 1.904),
    "electrical_spikes": (2.175, 3.664),
    "noisy_axis": (3.038,),
    "d_noise": (1.667, 1.264, 0.0),
    "p_high": (0.892, 0.628, 2.821, 0.0),
    "i_low": (4.907,),
    "filters_low": (1.624, 2.241),
}
