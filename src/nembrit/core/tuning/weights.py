"""Weights of the joint ranking, fitted by `benchmarks/fit_causes.py`; see `docs/accuracy.md` for how they did since."""

BIASES: dict[str, float] = {
    "loose_mount": -4.472,
    "frame_resonance": -6.114,
    "propeller": -3.653,
    "bearing": -6.762,
    "electrical_spikes": -5.168,
    "noisy_axis": -6.11,
    "d_noise": -9.0,
    "p_high": -2.678,
    "i_low": -3.441,
    "filters_low": -9.0,
}
WEIGHTS: dict[str, tuple[float, ...]] = {
    "loose_mount": (3.279, 2.154),
    "frame_resonance": (0.0, 1.969),
    "propeller": (4.247, 0.0),
    "bearing": (2.16, 2.047),
    "electrical_spikes": (3.091, 4.963),
    "noisy_axis": (4.419,),
    "d_noise": (2.568, 0.0),
    "p_high": (0.454, 2.672),
    "i_low": (2.423,),
    "filters_low": (2.819,),
}
