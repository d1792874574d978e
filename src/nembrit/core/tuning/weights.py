"""Weights of the joint ranking, fitted by `benchmarks/fit_causes.py`; see `docs/accuracy.md` for how they did since."""

BIASES: dict[str, float] = {
    "loose_mount": -7.053,
    "frame_resonance": -7.361,
    "propeller": -5.784,
    "bearing": -7.838,
    "electrical_spikes": -6.511,
    "noisy_axis": -7.376,
    "d_noise": -7.107,
    "p_high": -6.817,
    "i_low": -5.703,
    "filters_low": -8.201,
}
WEIGHTS: dict[str, tuple[float, ...]] = {
    "loose_mount": (3.088, 2.15),
    "frame_resonance": (0.606, 2.394),
    "propeller": (1.771, 1.23),
    "bearing": (2.286, 2.114),
    "electrical_spikes": (2.272, 3.543),
    "noisy_axis": (3.003,),
    "d_noise": (2.339, 0.774),
    "p_high": (0.655, 1.266, 3.987),
    "i_low": (4.901,),
    "filters_low": (1.471, 2.407),
}
