"""How sure a loop's numbers are: what blocks of one flight cannot see, and from when on an interval says more than its number."""

from collections.abc import Mapping

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


def rough_of(told: Mapping[str, Estimate | None]) -> dict[str, bool]:
    """By name of a loop's numbers, which should be told by their intervals alone.

    The rise goes with bandwidth and phase margin: where a flight leaves both open, it leaves the rise open too, whatever
    its blocks agree on (trials of our own: `docs/accuracy.md`).

    >>> rise, wide = Estimate(value=0.03, low=0.029, high=0.031), Estimate(value=60.0, low=40.0, high=80.0)
    >>> rough_of({"rise_time_s": rise, "bandwidth_hz": wide, "phase_margin_deg": wide})["rise_time_s"]
    True
    """
    found = {name: is_rough(name, told.get(name)) for name in FLOORS}
    found["rise_time_s"] |= told.get("rise_time_s") is not None and found["bandwidth_hz"] and found["phase_margin_deg"]
    return found
