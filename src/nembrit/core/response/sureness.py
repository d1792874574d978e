"""How sure a loop's numbers are: what blocks of one flight cannot see, and from when on an interval says more than its number."""

from nembrit.core.response.estimate import Estimate

# half intervals that no flight goes below, as standard errors; those of ratios as ratios (measured: docs/accuracy.md)
FLOORS = {
    "phase_margin_deg": 1.6, "gain_margin_db": 1.3, "sensitivity_peak": 0.042, "bandwidth_hz": 0.038, "rise_time_s": 0.022,
    "delay_s": 0.0007, "peak_db": 0.12, "settling_time_s": 0.06, "overshoot_ratio": 0.016,
}  # fmt: skip
# what a number is wanted within at the most: the caps of the methods' acceptance table (settling: our own)
_WANTED_WITHIN = {
    "phase_margin_deg": 5.0, "gain_margin_db": 3.5, "sensitivity_peak": 0.12, "bandwidth_hz": 0.10, "rise_time_s": 0.12,
    "delay_s": 0.0025, "peak_db": 1.0, "settling_time_s": 0.5, "overshoot_ratio": 0.04,
}  # fmt: skip
_AS_RATIO = ("sensitivity_peak", "bandwidth_hz", "rise_time_s", "settling_time_s")


def is_rough(name: str, own: Estimate | None) -> bool:
    """Whether a flight leaves one of a loop's numbers so open that only its interval should be told.

    >>> is_rough("phase_margin_deg", Estimate(value=60.0, low=54.0, high=66.0))
    True
    >>> is_rough("rise_time_s", Estimate(value=0.030, low=0.027, high=0.033))
    False
    """
    if own is None:
        return False
    return own.error > _WANTED_WITHIN[name] * (abs(own.value) if name in _AS_RATIO else 1.0)
