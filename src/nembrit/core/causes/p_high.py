"""P too high: the loop swings, passes every step, or asks for more than the motors have."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from nembrit.core.causes.cause import LEAST_S, TUNE, Cause, Measured, Shown, Values, Words, log2, or_neutral, over
from nembrit.core.causes.sight import Sight
from nembrit.core.records.needs import Need
from nembrit.core.types import AXES

_MOSTLY, _LOUD_SWING_DB = 0.6, 12.0
# of the sensitivity peak: sound by the upper end of its interval, too high by the lower one (our own, no source)
_SOUND_PEAK, _PEAK_UNIT, _HIGH_PEAK, _HIGH_UNIT = 1.7, 0.5, 1.8, 0.4
_LATE_MS = (4.0, 5.0)  # from here on the filters are to blame for what a loop does, at the end for all of it


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
    peaks = [own.loop.sensitivity_peak for axis, own in sight.loops.items() if axis in AXES[:2] and own.loop is not None]
    if peaks:
        values["sensitivity_peak_low"] = max(peak.low for peak in peaks)
    if len(peaks) == 2:  # a loop that could not be measured may be any
        values["sensitivity_peak_high"] = max(peak.high for peak in peaks)
    return Measured(values=values, seen=seen, untested=untested)


def _evidence(v: Values) -> tuple[float, ...] | None:
    if not {"oscillation_db", "overshoot_ratio", "lost_share", "sensitivity_peak_low"} & v.keys():
        return None
    swing_db = or_neutral(v, "oscillation_db", 0.0)  # with the set-point it is always measured
    past = over(v["overshoot_ratio"], 0.2, 0.06) if "overshoot_ratio" in v else 0.0
    # a swing that no sound craft shows is enough by itself; from 50 Hz on it is a mount rather than the loop
    loud = (
        over(swing_db, 10.0, 2.0) * float(np.clip((50 - or_neutral(v, "oscillation_hz", 0.0)) / 10, 0.0, 1.0))
        if swing_db > 0
        else 0.0
    )
    # motors at their limits for most of the flight: whatever the sticks do, the loop asks for more than there is
    beyond = over(v["lost_share"], 0.55, 0.1) if "lost_share" in v else 0.0
    # P high above D: the loop oscillates more than D holds against (a second sign, counted only beside the first)
    lead = over(2.2 - log2(v["d_over_p"]), 0.0, 0.4) if swing_db > 2.5 and "d_over_p" in v else 0.0
    # a loop that is measured to be far from oscillation is not too quick, whatever its steps look like
    near = float(np.clip((or_neutral(v, "sensitivity_peak_high", np.inf) - _SOUND_PEAK) / _PEAK_UNIT, 0.0, 1.0))
    steep = over(v["sensitivity_peak_low"], _HIGH_PEAK, _HIGH_UNIT) if "sensitivity_peak_low" in v else 0.0
    delay_ms = or_neutral(v, "chain_delay_ms", _LATE_MS[0])
    late = 1 - float(np.clip((delay_ms - _LATE_MS[0]) / (_LATE_MS[1] - _LATE_MS[0]), 0.0, 1.0))
    return tuple(sign * late for sign in (max(loud, past, beyond) * near, lead * near, steep))


def _is_only_a_sign(v: Values) -> bool:
    """Without margins that are measured too low, or motors at their limits, steps and spectra alone call for no action."""
    if "lost_share" in v and v["lost_share"] > _MOSTLY:
        return False
    if "sensitivity_peak_low" in v:
        return v["sensitivity_peak_low"] < _SOUND_PEAK
    return not ("oscillation_db" in v and v["oscillation_db"] > _LOUD_SWING_DB)


def _words(v: Values, seen: Swing) -> Words:
    axis = seen.overshoot_axis
    if axis and (or_neutral(v, "overshoot_ratio", 0.0) > 0.25 or not seen.oscillations):
        return Words(
            axis=axis,
            highlight=f"{axis.capitalize()} overshoots by at least {100 * v['overshoot_ratio']:.0f} %",
            conclusion=": the loop is close to oscillation, P is too high.",
            evidence={"overshoot_ratio": v["overshoot_ratio"]},
        )
    if or_neutral(v, "lost_share", 0.0) > _MOSTLY and or_neutral(v, "oscillation_db", 0.0) < _LOUD_SWING_DB:
        return Words(
            highlight=f"The motors were at their limits for {v['lost_share']:.0%} of the flight at middle throttle",
            conclusion=": the loop demands more than they can give, P is too high.",
            evidence={"lost_share": v["lost_share"]},
        )
    if not seen.oscillations or ("sensitivity_peak_low" in v and v["sensitivity_peak_low"] >= _SOUND_PEAK):
        return Words(
            highlight=f"The sensitivity peak is {v['sensitivity_peak_low']:.1f} or more",
            conclusion=": the loop has a low stability margin, P is too high.",
            evidence={"sensitivity_peak_low": v["sensitivity_peak_low"]},
        )
    axis = max(seen.oscillations, key=lambda name: seen.oscillations[name][0])
    level_db, frequency_hz = seen.oscillations[axis]
    return Words(
        axis=axis,
        highlight=f"{axis.capitalize()} oscillates at {frequency_hz:.0f} Hz, {level_db:.0f} dB above the noise around it",
        conclusion=": the loop is close to oscillation, P is too high.",
        evidence={"level_db": level_db, "frequency_hz": frequency_hz},
    )


CAUSE = Cause(
    code="p_high",
    kind=TUNE,
    name="P too high",
    needs=Need(rate_hz=250, seconds=LEAST_S, all_of=("gyro.", "setpoint.")),
    measure=_measure,
    evidence=_evidence,
    n_evidence=3,
    words=_words,
    is_only_a_sign=_is_only_a_sign,
    look_alikes=(
        ("filters too low", "compare raw and filtered gyro: more than 3 ms between them means the filters"),
        ("heavier propellers", "change one thing at a time"),
    ),
    shows=(
        Shown(name="sensitivity_peak_low", label="sensitivity peak, lower end", unit=""),
        Shown(name="oscillation_db", label="oscillation above the noise around it", unit="dB"),
        Shown(name="overshoot_ratio", label="overshoot, lower end", unit="%", scale=100.0),
    ),
    proof="Fly the same card with a lower P: the oscillation must fade.",
)
