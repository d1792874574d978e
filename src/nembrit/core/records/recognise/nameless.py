"""Columns whose names say nothing: meanings from how they move with the others."""

import numpy as np

from nembrit.core.records.recognise import scales
from nembrit.core.records.recognise.preamble import scale_before
from nembrit.core.records.recognise.relations import likeness, roughness
from nembrit.core.records.recognise.study import Study, rotor_unit
from nembrit.core.records.recognise.words import tokens_of
from nembrit.core.records.units import kinds_of
from nembrit.core.types import AXES

_ALIKE = 0.6  # correlation from which two columns are taken for the same movement
MOVING = 0.35  # a measured rate stands still for less than this share of the samples


def numbered_runs(study: Study) -> None:
    """Three to eight numbered columns that move together within a known range are motors, whatever they are called."""
    runs: dict[tuple[str, ...], list[int]] = {}
    for k in study.undrafted():
        if study.guesses[k].index is not None:
            name = tuple(token for token in tokens_of(study.table.columns[k].name) if not token.isdigit())
            runs.setdefault(name, []).append(k)
    for members in runs.values():
        places = sorted(study.guesses[k].index or 0 for k in members)
        if not 3 <= len(members) <= 8 or places != list(range(1, len(members) + 1)):
            continue
        values = [study.middle(k) for k in members]
        shared = np.mean(values, axis=0)
        together = [likeness(shared, one, rate_hz=study.rate_hz).correlation for one in values]
        family = "motor_rpm" if rotor_unit(study.table.columns[members[0]].unit) else "motor"
        is_fitting = family == "motor_rpm" or scales.share_scale(np.concatenate(values)).confidence >= 0.5
        if not study.of(family) and is_fitting and float(np.median(together)) > 0.6:
            for k in members:
                study.draft(k, f"{family}.{study.guesses[k].index}", 0.6, f"{len(members)} numbered columns that move together")


def rates(study: Study) -> None:
    """Two or three columns an axis that move together, where no gyro is named: rates, told apart afterwards."""
    if study.of("gyro", "gyro_raw"):
        return
    free: dict[str, list[int]] = {axis: [] for axis in AXES}
    for k in study.undrafted():
        if study.guesses[k].axis in AXES and not kinds_of(study.table.columns[k].unit) - {"rate"}:
            free[str(study.guesses[k].axis)].append(k)
    if len({len(members) for members in free.values()}) != 1 or len(free["roll"]) not in (2, 3):
        return
    for axis in ("roll", "pitch"):
        values = [study.middle(k) for k in free[axis]]
        if min(abs(likeness(values[0], other, rate_hz=study.rate_hz).correlation) for other in values[1:]) < _ALIKE:
            return
    for axis, members in free.items():
        for k in members:
            study.draft(k, f"gyro.{axis}", 0.55, f"one of {len(members)} columns of this axis that move together")


def throttle(study: Study) -> None:
    """The column in a known range that goes with the motors best, where none is named throttle."""
    motors = [study.drafts[k].scaled(study.numbers[k]) for k in study.of("motor")]
    if len(motors) < 3 or study.of("throttle"):
        return
    found = []
    for k in study.undrafted():
        numbers = study.middle(k)
        scale = scales.share_scale(numbers)
        together = likeness(numbers, np.mean(motors, axis=0), rate_hz=study.rate_hz).correlation
        if together > 0.9 and scale.confidence >= 0.5 and np.ptp(numbers) > 0:
            found.append((scale.confidence >= 0.7, together, k, scale))
    if found:
        _, together, k, scale = max(found, key=lambda one: one[:2])
        study.draft(k, "throttle", 0.6, f"goes with the motors ({together:.0%} alike)")
        study.drafts[k].take(scale)


def gyros(study: Study) -> None:
    """Columns that follow a set-point as a gyro does; of two, the rougher one is raw."""
    roles = {draft.role for draft in study.drafts.values()}
    for wanted in study.of("setpoint"):
        axis = study.drafts[wanted].role.split(".")[1]
        if study.drafts[wanted].role.startswith("b/") or {f"gyro.{axis}", f"gyro_raw.{axis}"} & roles:
            continue
        asked = study.drafts[wanted].scaled(study.numbers[wanted])
        found = {}
        for k in study.undrafted():
            numbers = study.middle(k)
            together = abs(likeness(asked, numbers, rate_hz=study.rate_hz).correlation)
            if together > 0.85 and np.mean(np.diff(numbers) == 0) < MOVING and study.guesses[k].axis in (axis, None):
                found[k] = together
        best = sorted(sorted(found, key=lambda k: -found[k])[:2], key=lambda k: roughness(study.middle(k)))
        for k, family in zip(best, ("gyro", "gyro_raw"), strict=False):
            role = f"{family}.{axis}"
            study.draft(k, role, 0.55, f"follows the set-point of {axis} ({found[k]:.0%} alike)")
            study.drafts[k].take(scale_before(study.preamble, "gyro") or scales.rate_scale(study.numbers[k]))


def accelerometer(study: Study) -> None:
    """Three columns of an axis each whose length is that of gravity most of the time, the third nearly all of it."""
    if study.of("accel"):
        return
    triples: dict[tuple[str, ...], dict[str, int]] = {}
    for k in study.undrafted():
        if study.guesses[k].axis in AXES and not kinds_of(study.table.columns[k].unit) - {"acceleration", "raw"}:
            name = tokens_of(study.table.columns[k].name)
            triples.setdefault(name[:1], {})[str(study.guesses[k].axis)] = k
    for triple in triples.values():
        if set(triple) != set(AXES):
            continue
        x, y, z = (study.middle(triple[axis]) for axis in AXES)
        norm = np.sqrt(x**2 + y**2 + z**2)
        middle = float(np.median(norm))
        if middle > 0 and abs(np.median(z)) > 0.8 * middle and np.percentile(np.abs(norm - middle), 75) < 0.5 * middle:
            for axis, part in zip(AXES, "xyz", strict=True):
                study.draft(triple[axis], f"accel.{part}", 0.55, "three columns that together read gravity")
            return


def sticks(study: Study) -> None:
    """Columns of an axis in shares that move as its set-point does are the sticks."""
    if study.of("stick"):
        return
    setpoints = {study.drafts[k].role.split(".")[1]: k for k in study.of("setpoint")}
    for k in study.undrafted():
        if kinds_of(study.table.columns[k].unit) - {"share", "pulse"}:
            continue
        numbers, named = study.middle(k), study.guesses[k].axis
        found = {
            axis: likeness(numbers, study.drafts[wanted].scaled(study.numbers[wanted]), rate_hz=study.rate_hz)
            for axis, wanted in setpoints.items()
            if axis == named or named is None
        }
        if not found:
            continue
        axis, together = max(found.items(), key=lambda pair: pair[1].correlation)
        if together.correlation > 0.9:
            study.draft(k, f"stick.{axis}", 0.6, f"moves as the set-point of {axis} does ({together.correlation:.0%} alike)")
            study.drafts[k].take(scales.scale_for_role(study.drafts[k].role, study.table.columns[k].unit, numbers))
