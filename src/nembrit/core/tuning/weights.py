"""Weights of the joint ranking, fitted by `benchmarks/fit_causes.py`; see `docs/accuracy.md` for how they did since."""

BIASES: dict[str, float] = {
    "loose_mount": -4.39,
    "frame_resonance": -8.962,
    "propeller": -3.574,
    "bearing": -6.62,
    "electrical_spikes": -5.188,
    "noisy_axis": -6.115,
    "d_noise": -9.0,
    "p_high": -2.759,
    "i_low": -3.479,
    "filters_low": -9.0,
}
WEIGHTS: dict[str, tuple[float, ...]] = {
    "loose_mount": (3.324, 2.145),
    "frame_resonance": (2.0, 1.0),
    "propeller": (3.824, 0.0),
    "bearing": (2.171, 1.969),
    "electrical_spikes": (3.13, 4.631),
    "noisy_axis": (4.091,),
    "d_noise": (2.566, 0.0),
    "p_high": (0.432, 2.649),
    "i_low": (2.354,),
    "filters_low": (2.784,),
}
