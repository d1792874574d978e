"""P too high: the loop swings, passes every step, or asks for more than the motors have."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from nembrit.core.causes.cause import LEAST_S, TUNE, Cause, Measured, Values, Words, log2, over
from nembrit.core.causes.sight import Sight
from nembrit.core.records.needs import Need
from nembrit.core.types import AXES

_MOSTLY, _LOUD_SWING_DB = 0.6, 12.0
_SOUND_PEAK, _PEAK_UNIT = 1.7, 0.5  # of the sensitivity peak, by the upper end of its interval (our own, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class Swing:
    """How the loop swings by axis (dB, Hz), and the one of roll and pitch that overshoots more."""

    oscillations: Mapping[str, tuple[float, float]]
    overshoot_axis: str | None = None


def _measure(sight: Sight) -> Measured:
    values: dict[str, float] = {}
    if sight.oscillations:
        values["oscillation_db"], values["oscillation_hz"] = max(sight.oscillations.values())
    if sight.lost_share is not None:
        values["lost_share"] = sight.lost_share
    known = {axis: ratio for axis, ratio in sight.least_overshoots.items() if axis in AXES[:2]}
    past = max(known, key=known.__getitem__, default=None)
    if past is not None:
        values["overshoot_ratio"] = known[past]
    untested = "" if sight.oscillations else "needs set-point and gyro at 300 Hz or more"
    seen = Swing(oscillations=sight.oscillations, overshoot_axis=past)
    if not any(_evidence(values) or ()):  # nothing speaks of it: the loops, which take a second, need not be measured for it
        return Measured(values=values, seen=seen, untested=untested)
    peaks = [own.loop.sensitivity_peak for axis, own in sight.loops.items() if axis in AXES[:2] and own.loop is not None]
    if len(peaks) == 2:
        values["sensitivity_peak_high"] = max(peak.high for peak in peaks)
    return Measured(values=values, seen=seen, untested=untested)


def _evidence(v: Values) -> tuple[float, ...] | None:
    if not {"oscillation_db", "overshoot_ratio", "lost_share"} & v.keys():
        return None
    slow_chain = float(np.clip((v.get("chain_delay_ms", 2.0) - 4.0) / 1.0, 0.0, 1.0))
    swing_db = v.get("oscillation_db", 0.0)
    # P high above D: the loop swings more than D holds against (a second sign, counted only beside the first)
    lead = over(2.2 - log2(v.get("d_over_p", 8.0)), 0.0, 0.4) if swing_db > 2.5 else 0.0
    past = over(v.get("overshoot_ratio", 0.0), 0.2, 0.06)
    # a swing that no sound craft shows is enough by itself; from 50 Hz on it is a mount rather than the loop
    loud = over(swing_db, 10.0, 2.0) * float(np.clip((50 - v.get("oscillation_hz", 0.0)) / 10, 0.0, 1.0))
    # motors at their limits for most of the flight: whatever the sticks do, the loop asks for more than there is
    beyond = over(v.get("lost_share", 0.0), 0.55, 0.1)
    # a loop that is measured to be far from oscillation is not too quick, whatever its steps look like
    near = float(np.clip((v.get("sensitivity_peak_high", 9.0) - _SOUND_PEAK) / _PEAK_UNIT, 0.0, 1.0))
    return tuple(sign * (1 - slow_chain) * near for sign in (max(loud, past, beyond), lead))


def _words(v: Values, seen: Swing) -> Words:
    axis = seen.overshoot_axis
    if axis and (v.get("overshoot_ratio", 0.0) > 0.25 or not seen.oscillations):
        return Words(
            axis=axis,
            highlight=f"{axis.capitalize()} overshoots every step by {100 * v['overshoot_ratio']:.0f} % or more",
            conclusion=": the loop is near its limit, P is too high.",
            evidence={"overshoot_ratio": v["overshoot_ratio"]},
        )
    if v.get("lost_share", 0.0) > _MOSTLY and v.get("oscillation_db", 0.0) < _LOUD_SWING_DB:
        return Words(
            highlight=f"The motors were at their limits for {v['lost_share']:.0%} of the flight at middle throttle",
            conclusion=": the loop asks for more than they can give, P is too high.",
            evidence={"lost_share": v["lost_share"]},
        )
    axis = max(seen.oscillations, key=lambda name: seen.oscillations[name][0])
    level_db, frequency_hz = seen.oscillations[axis]
    return Words(
        axis=axis,
        highlight=f"{axis.capitalize()} swings at {frequency_hz:.0f} Hz, {level_db:.0f} dB above its surroundings",
        conclusion=": the loop is near its limit, P is too high.",
        evidence={"level_db": level_db, "frequency_hz": frequency_hz},
    )


CAUSE = Cause(
    code="p_high",
    kind=TUNE,
    name="P too high",
    needs=Need(rate_hz=250, seconds=LEAST_S, all_of=("gyro.", "setpoint.")),
    measure=_measure,
    evidence=_evidence,
    n_evidence=2,
    words=_words,
    look_alikes=(
        ("filters too low", "compare raw and filtered gyro: more than 3 ms between them points at the filters"),
        ("heavier propellers", "change one thing at a time"),
    ),
    proof="Lower P by a fifth and fly the same card: the swing must fade.",
)
