"""I too low: the nose takes many seconds to come back after a change of throttle."""

import numpy as np

from nembrit.core.causes.cause import LEAST_S, TUNE, Cause, Measured, Shown, Values, Words, log2, over, within_limits
from nembrit.core.causes.sight import Sight
from nembrit.core.records.needs import Need
from nembrit.core.response.loop import integral_over_proportional
from nembrit.core.types import AXES

MOSTLY_LOST = 0.75  # of the flying at middle throttle
_SOUND_PEAK = 2.0
AT_LIMITS = "the motors were at their limits for most of the flight; fix that first"


def _measure(sight: Sight) -> Measured:
    recording, usable = sight.recording, sight.usable
    ratios = [r for axis in AXES[:2] if (r := integral_over_proportional(recording, axis, usable.get(axis))) is not None]
    if not ratios and sight.controller is not None:  # not logged: as the settings have it
        gains = [sight.controller.gains[axis] for axis in AXES[:2]]
        ratios = [gain.i / gain.p for gain in gains if gain.p > 0]
    values = {"integral_ratio": max(ratios)} if ratios else {}
    untested = "" if ratios else "needs the P and the I term in the log, and flying within the motors' limits"
    if (sight.lost_share or 0.0) > MOSTLY_LOST:
        untested = AT_LIMITS
    return Measured(values=values, untested=untested)


def _evidence(v: Values) -> tuple[float, ...] | None:
    if "integral_ratio" not in v:
        return None
    # the P term of a loop that swings or overshoots is large whatever I does
    steady = 1 - float(np.clip((v["oscillation_db"] - 9) / 3, 0.0, 1.0)) if "oscillation_db" in v else 1.0
    if "overshoot_ratio" in v:
        steady *= 1 - float(np.clip((v["overshoot_ratio"] - 0.2) / 0.1, 0.0, 1.0))
    if "sensitivity_peak_high" in v and v["sensitivity_peak_high"] < _SOUND_PEAK:
        steady = 1.0  # measured to be sound: then nothing else makes P large
    return (over(-log2(v["integral_ratio"]), -0.3, 0.5) * steady * within_limits(v),)


def _words(v: Values, seen: None) -> Words:
    return Words(
        highlight=f"I is low (I/P = {v['integral_ratio']:.2f} per second)",
        conclusion=": attitude takes seconds to recover after a throttle change.",
        evidence={"ratio": v["integral_ratio"]},
    )


CAUSE = Cause(
    code="i_low",
    kind=TUNE,
    name="I too low",
    needs=Need(rate_hz=50, seconds=LEAST_S, all_of=("gyro.", "setpoint.")),
    measure=_measure,
    evidence=_evidence,
    n_evidence=1,
    words=_words,
    look_alikes=(("I at its limit", "log the I term; hover, then more throttle: a limit shows as a flat top"),),
    shows=(Shown(name="integral_ratio", label="I over P", unit="per second"),),
    proof="With more I, fly hover and punches: the nose must hold its attitude.",
)
