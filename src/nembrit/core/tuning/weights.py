"""Weights of the joint ranking, fitted by `benchmarks/fit_causes.py`; see `docs/accuracy.md` for how they did since."""

BIASES: dict[str, float] = {
    "loose_mount": -7.019,
    "frame_resonance": -6.694,
    "propeller": -5.854,
    "bearing": -5.019,
    "electrical_spikes": -6.47,
    "noisy_axis": -7.34,
    "d_noise": -6.427,
    "p_high": -7.069,
    "i_low": -4.929,
    "filters_low": -10.19,
}
WEIGHTS: dict[str, tuple[float, ...]] = {
    "loose_mount": (3.034, 2.164),
    "frame_resonance": (1.137, 2.012),
    "propeller": (1.787, 1.299),
    "bearing": (1.236, 2.09),
    "electrical_spikes": (2.247, 3.513),
    "noisy_axis": (2.986,),
    "d_noise": (1.355, 1.553),
    "p_high": (1.338, 1.257, 4.542),
    "i_low": (3.667,),
    "filters_low": (3.423,),
}
