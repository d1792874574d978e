"""What numbers of a loop can be at all: an estimate beyond is none, and nothing is built on it."""

from collections.abc import Mapping

# by name: from, to, what it is called, its unit, and what one of its units is in the unit shown (ranges of our own, no source)
RANGES: dict[str, tuple[float, float, str, str, float]] = {
    "phase_margin_deg": (-180.0, 180.0, "the phase margin", "°", 1.0),
    "gain_margin_db": (0.0, 80.0, "the gain margin", "dB", 1.0),
    "plant_delay_s": (0.0, 0.030, "the craft’s own delay", "ms", 1000.0),
    "lag_and_delay_s": (0.0, 0.5, "the craft’s lag", "ms", 1000.0),
    "rise_time_s": (0.002, 1.0, "the rise time", "ms", 1000.0),
    "delay_s": (0.0, 0.5, "the delay", "ms", 1000.0),
    "settling_time_s": (0.0, 4.0, "the settling time", "ms", 1000.0),
    "bandwidth_hz": (0.3, 150.0, "the bandwidth", "Hz", 1.0),
    "overshoot_ratio": (-0.05, 2.0, "the overshoot", "%", 100.0),
    "peak_db": (-6.0, 30.0, "the peak of the response", "dB", 1.0),
    # a loop of any order rises in about a third of the inverse of its bandwidth (Franklin, Powell & Emami-Naeini, Feedback
    # Control of Dynamic Systems, chapter 3: 1.8 / ωn); 0.27 to 0.62 on 55 loops of our own trials
    "rise_times_bandwidth": (0.15, 0.9, "rise time times bandwidth", "", 1.0),
}


def impossible_number(numbers: Mapping[str, float | None]) -> str:
    """The first number that cannot be, in words; empty where all can.

    >>> impossible_number({"phase_margin_deg": -6717.0, "delay_s": 0.01})
    'the phase margin came out as -6720°, which cannot be'
    >>> impossible_number({"phase_margin_deg": 50.0, "delay_s": None})
    ''
    """
    for name, value in numbers.items():
        if value is None or name not in RANGES:
            continue
        low, high, label, unit, factor = RANGES[name]
        if not low <= value <= high:
            shown = f"{factor * value:.3g}" if abs(factor * value) < 1000 else f"{float(f'{factor * value:.3g}'):.0f}"
            return f"{label} came out as {shown}{'' if unit in ('', '°') else ' '}{unit}, which cannot be"
    return ""
