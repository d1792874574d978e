"""One gyro axis that is noisy by itself: its quietest moments are louder than those of the next."""

import numpy as np

from nembrit.core.causes.cause import ELECTRICAL, LEAST_S, Cause, Measured, Repair, Shown, Values, Words, over
from nembrit.core.causes.sight import Sight
from nembrit.core.records.needs import Need


def _measure(sight: Sight) -> Measured:
    frames = sight.frames
    if frames is None:
        return Measured(untested=sight.reasons["frames"])
    top = frames.frequency_hz >= 0.3 * frames.sample_rate_hz
    if len(sight.gyro_roles) < 3 or frames.is_low.sum() < 6 or not top.any():
        return Measured(untested="needs all three gyro axes and a throttle that moves")
    quiet = {}
    for role in sight.gyro_roles:
        power = frames.power[role][frames.is_low][:, top].mean(axis=1)
        quiet[role.split(".")[-1]] = 10 * np.log10(max(float(np.quantile(power, 0.15)), 1e-12))
    ranked = sorted(quiet, key=lambda axis: -quiet[axis])
    return Measured(values={"noisy_axis_db": quiet[ranked[0]] - quiet[ranked[1]]}, seen=ranked[0])


def _evidence(v: Values) -> tuple[float, ...] | None:
    return (over(v["noisy_axis_db"], 2.0, 2.0),) if "noisy_axis_db" in v else None


def _words(v: Values, axis: str) -> Words:
    return Words(
        axis=axis,
        highlight=f"The quietest moments of {axis} are {v['noisy_axis_db']:.0f} dB louder than those of the next axis",
        conclusion=": the sensor of this axis is noisy.",
        evidence={"level_db": v["noisy_axis_db"]},
    )


CAUSE = Cause(
    code="noisy_axis",
    kind=ELECTRICAL,
    name="one noisy gyro axis",
    needs=Need(rate_hz=450, seconds=LEAST_S, any_of=("gyro_raw.", "gyro.")),
    measure=_measure,
    evidence=_evidence,
    n_evidence=1,
    words=_words,
    look_alikes=(
        (
            "a source of vibration on that axis",
            "record ten seconds on the ground, motors off: the noise stays if the chip is the cause",
        ),
    ),
    shows=(Shown(name="noisy_axis_db", label="quietest level above the next axis", unit="dB"),),
    proof="Record ten seconds at rest, motors off: if this axis still stands out, the chip is noisy; replace the board.",
    repair=Repair(
        part="flight controller board", title="Swapped the board", button="Record the board swap", metric="jitter_noise.{axis}"
    ),
)
