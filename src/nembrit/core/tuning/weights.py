"""Weights of the joint ranking, fitted by `benchmarks/fit_causes.py`; see `docs/accuracy.md` for how they did since."""

BIASES: dict[str, float] = {
    "loose_mount": -6.064,
    "frame_resonance": -6.738,
    "propeller": -5.388,
    "bearing": -7.956,
    "electrical_spikes": -6.453,
    "noisy_axis": -7.396,
    "d_noise": -7.499,
    "p_high": -5.262,
    "i_low": -5.642,
    "filters_low": -8.724,
}
WEIGHTS: dict[str, tuple[float, ...]] = {
    "loose_mount": (3.055, 2.02),
    "frame_resonance": (0.678, 2.019),
    "propeller": (1.996, 0.859),
    "bearing": (2.3, 1.94),
    "electrical_spikes": (2.197, 3.7),
    "noisy_axis": (3.061,),
    "d_noise": (0.461, 0.377, 2.838),
    "p_high": (2.424, 0.725),
    "i_low": (4.953,),
    "filters_low": (1.629, 2.286),
}
