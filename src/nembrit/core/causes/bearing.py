"""A worn bearing: one motor is rough at high frequencies, away from its lines."""

import numpy as np

from nembrit.core.causes.cause import LEAST_S, MECHANICAL, Cause, Measured, Repair, Shown, Values, Words, log2, over
from nembrit.core.causes.propeller import NO_COMMANDS, every_motors_speed
from nembrit.core.causes.sight import Sight
from nembrit.core.noise.motors import MotorShares, rough_noise
from nembrit.core.records.needs import Need


def _measure(sight: Sight) -> Measured:
    if sight.frames is None:
        return Measured(untested=sight.reasons["frames"])
    track = every_motors_speed(sight)
    if track is None:
        return Measured(untested=NO_COMMANDS)
    rough = rough_noise(sight.frames, track)
    if rough is None:
        return Measured(untested="needs the gyro at 1 kHz or more, and a throttle that moves")
    level = max(value for value in rough.values if np.isfinite(value))
    return Measured(values={"rough_over_second": rough.over_second, "rough_level": level}, seen=rough)


def _evidence(v: Values) -> tuple[float, ...] | None:
    if "rough_over_second" not in v:
        return None
    # a motor that leads by chance among smooth ones is no worn bearing: the lead counts by how much there is of it
    lead, level = over(log2(v["rough_over_second"]), 0.5, 0.5), float(np.log10(max(v["rough_level"], 1e-6)))
    return (min(lead, over(level, -2.5, 0.5)), min(lead, over(level, -1.0, 0.5)))


def _words(v: Values, rough: MotorShares) -> Words:
    return Words(
        motor=rough.motor,
        highlight=f"Motor {rough.motor} is {rough.over_second:.0f} times noisier than the next at high frequencies",
        conclusion=": its bearing is probably worn.",
        evidence={"over_second": rough.over_second},
    )


CAUSE = Cause(
    code="bearing",
    kind=MECHANICAL,
    name="bearing",
    needs=Need(rate_hz=1000, seconds=LEAST_S, any_of=("gyro_raw.", "gyro.")),
    measure=_measure,
    evidence=_evidence,
    n_evidence=2,
    words=_words,
    look_alikes=(("the speed controller", "spin each motor alone, propellers off, and listen"),),
    shows=(
        Shown(name="rough_over_second", label="broadband noise, compared with the next motor", unit="times"),
        Shown(name="rough_level", label="broadband noise at 100 revolutions per second", unit="(deg/s)²"),
    ),
    proof="Propellers off, spin each motor alone and by hand: the one that feels rough needs a bearing or a new motor.",
    repair=Repair(
        part="motor {motor}", title="New bearing or motor", button="Record motor {motor} repair", metric="jitter_noise.roll"
    ),
    is_about_motors=True,
)
