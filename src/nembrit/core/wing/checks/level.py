"""Level of the board: the attitude that it tells while the plane lies level, the table's own slope taken out."""

import math

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.records.log import Recording
from nembrit.core.types import BoolArray, FloatArray
from nembrit.core.wing.checks.criteria import CheckResult, Measured
from nembrit.core.wing.track import stretches

_STILL_S, _STILL_DEG_S, _CLOSED = 4.0, 2.0, 0.03
_TURNED_DEG = 25.0
_TABLE_DEG = 1.0  # how level a table is by eye
_READING_DEG = 0.2


def offsets_deg(first: tuple[float, float], turned: tuple[float, float] | None) -> tuple[tuple[float, float], float]:
    """Offset of roll and pitch of the board [deg], and the half-width of its 95 % interval.

    Turned round by 180°, a table's slope changes its sign and the board's own offset stays: the mean of both readings is the
    offset (reversal method, common practice of levels). One reading alone leaves the table's slope in it.

    >>> offsets_deg((2.5, 1.0), (1.5, -1.0))
    ((2.0, 0.0), 0.2)
    """
    if turned is None:
        return first, _TABLE_DEG + _READING_DEG
    return ((first[0] + turned[0]) / 2, (first[1] + turned[1]) / 2), _READING_DEG


def level_of(recording: Recording) -> CheckResult:
    """The board's offset while the plane lay still, from one placement or from two that are turned by 180°.

    Raises NotEnoughData without attitude, or where it never lay still with the throttle closed for four seconds.
    """
    roll, pitch = recording.channels.get("attitude.roll"), recording.channels.get("attitude.pitch")
    if roll is None or pitch is None:
        raise NotEnoughData("roll and pitch attitude are needed: switch their logging on, or enter what the screen shows")
    rate_hz = recording.sample_rate_hz
    parts = stretches(_still(recording, roll, pitch), round(_STILL_S * rate_hz))
    if not parts:
        raise NotEnoughData("the plane never lay still for four seconds with the throttle closed")
    heading = recording.channels.get("heading")
    places = [(_mean(roll, part), _mean(pitch, part), _heading(heading, part)) for part in parts]
    first = places[0]
    other = next((one for one in places[1:] if _is_turned(first[2], one[2])), None)
    at_s = recording.start_s + parts[0].start / rate_hz
    return result_of((first[0], first[1]), (other[0], other[1]) if other is not None else None, at_s=at_s)


def result_of(first: tuple[float, float], turned: tuple[float, float] | None, *, at_s: float | None = None) -> CheckResult:
    """The check from one or two readings of roll and pitch [deg]."""
    (roll, pitch), error = offsets_deg(first, turned)
    more = "Measured on one side only: turn the plane round by 180° and measure again." if turned is None else (
        f"The table itself slopes by {abs(first[0] - turned[0]) / 2:.1f}° and {abs(first[1] - turned[1]) / 2:.1f}°."
    )  # fmt: skip
    return CheckResult(
        key="level", at_s=at_s, measured={
            "roll_deg": Measured(value=abs(roll), error=error), "pitch_deg": Measured(value=abs(pitch), error=error),
        },
        headline=f"The board reads roll {roll:+.1f}° and pitch {pitch:+.1f}° when level, ± {error:.1f}°", more=(more,),
    )  # fmt: skip


def _still(recording: Recording, roll: FloatArray, pitch: FloatArray) -> BoolArray:
    still = np.isfinite(roll) & np.isfinite(pitch)
    window = max(2, round(recording.sample_rate_hz))
    rates = [recording.channels.get(f"gyro.{axis}") for axis in ("roll", "pitch", "yaw")]
    for values in rates:
        if values is not None:
            still &= np.abs(np.nan_to_num(values)) < _STILL_DEG_S
    if all(values is None for values in rates):
        for values in (roll, pitch):
            moved = np.abs(np.concatenate([np.zeros(window), values[window:] - values[:-window]]))[: values.size]
            still &= ~(moved > 0.3)
    for role, most in (("throttle", _CLOSED), ("ground_speed", 1.5)):
        values = recording.channels.get(role)
        if values is not None:
            still &= np.nan_to_num(values) <= most
    return np.asarray(still)


def _mean(values: FloatArray, part: slice) -> float:
    return float(np.nanmean(values[part]))


def _heading(values: FloatArray | None, part: slice) -> float | None:
    if values is None or not np.isfinite(values[part]).any():
        return None
    own = np.radians(values[part][np.isfinite(values[part])])
    return math.degrees(math.atan2(float(np.sin(own).mean()), float(np.cos(own).mean())))


def _is_turned(first: float | None, other: float | None) -> bool:
    if first is None or other is None:
        return False
    return abs(abs((other - first + 180.0) % 360.0 - 180.0) - 180.0) < _TURNED_DEG
