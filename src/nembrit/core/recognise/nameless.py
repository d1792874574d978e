"""Columns whose names say nothing: meanings from how they move with the others."""

import numpy as np

from nembrit.core.recognise import scales
from nembrit.core.recognise.preamble import scale_before
from nembrit.core.recognise.study import Study, rotor_unit
from nembrit.core.recognise.words import tokens_of
from nembrit.core.records.relations import likeness, roughness
from nembrit.core.records.units import kinds_of, unit_for
from nembrit.core.types import AXES, FloatArray

_SAME = 0.95  # correlation from which one column is the other in another scale
_MOVES_LIKE = {"term_p": "goes with the error of the rates", "command": "the sum of the terms"}
_ALIKE = 0.6  # correlation from which two columns are taken for the same movement
_DEG_PER_RAD = 57.29577951308232
_LED = 0.8  # correlation of a motor's speed with its command
MOVING = 0.35  # a measured rate stands still for less than this share of the samples


def lettered_rates(study: Study) -> None:
    """Columns called p, q and r: the rates of flight mechanics (ISO 1151), where no gyro is named.

    A weak guess that a column of the same letter is a command is dropped: whether the rate follows it is told by the data.
    """
    if study.of("gyro", "gyro_raw"):
        return
    names = {tokens_of(study.table.columns[k].name): k for k in study.undrafted()}
    letters = [names.get((letter,)) for letter in "pqr"]
    found = [k for k in letters if k is not None]
    if len(found) < 3:
        return
    for axis, k in zip(AXES, found, strict=True):
        study.draft(k, f"gyro.{axis}", 0.7, "called p, q and r: the rates of flight mechanics")
    for k in study.of("command"):
        if {"p", "q", "r"} & set(tokens_of(study.table.columns[k].name)):
            del study.drafts[k]


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
        unit = study.table.columns[members[0]].unit
        is_speed = bool(rotor_unit(unit) or kinds_of(unit) & {"speed"}) or _go_with_motors(study, values)
        family = "motor_rpm" if is_speed else "motor"
        is_fitting = family == "motor_rpm" or scales.share_scale(np.concatenate(values)).confidence >= 0.5
        if not study.of(family) and is_fitting and float(np.median(together)) > 0.6:
            for k in members:
                study.draft(k, f"{family}.{study.guesses[k].index}", 0.6, f"{len(members)} numbered columns that move together")
        elif unit_for(unit, "pulse") and not study.of("servo"):
            for k in members:
                study.draft(
                    k, f"servo.{study.guesses[k].index}", 0.5, f"{len(members)} numbered columns of pulses, each on its own"
                )


def _go_with_motors(study: Study, values: list[FloatArray]) -> bool:
    """True for as many columns as there are motors, each never negative and led by its own motor's command: speeds."""
    motors = sorted(study.of("motor"), key=lambda k: study.drafts[k].guess.index or 0)
    if len(motors) != len(values) or min(float(column.min(initial=0.0)) for column in values) < 0:
        return False
    together = [
        likeness(study.numbers[k], column, rate_hz=study.rate_hz, most_lag_s=0.2).correlation
        for k, column in zip(motors, values, strict=True)
    ]
    return float(np.median(together)) > _LED


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


def setpoints(study: Study) -> None:
    """Where an axis has a gyro and no set-point: the column that the gyro follows, one to one, in some unit of rates."""
    known = {study.drafts[k].role for k in study.of("setpoint")}
    for k in [*study.of("gyro"), *study.of("gyro_raw")]:
        role = study.drafts[k].role
        axis = role.split(".")[-1]
        if role.startswith("b/") or f"setpoint.{axis}" in known:
            continue
        measured = study.drafts[k].scaled(study.numbers[k])
        found = []
        for j in [*study.undrafted(), *study.barely_drafted()]:
            if j == k or study.guesses[j].axis not in (axis, None) or kinds_of(study.table.columns[j].unit) - {"rate", "raw"}:
                continue
            numbers = study.middle(j)
            if np.mean(np.diff(numbers) == 0) < MOVING and roughness(numbers) >= roughness(measured):
                continue  # as rough as what is measured: another gyro
            together = likeness(numbers, measured, rate_hz=study.rate_hz)
            factor = next((f for f in (1.0, study.drafts[k].factor, _DEG_PER_RAD, 0.1) if 0.75 < together.slope / f < 1.33), None)
            if together.correlation > 0.9 and factor is not None:
                found.append((together.correlation, j, factor))
        if found:
            correlation, j, factor = max(found)
            study.draft(j, f"setpoint.{axis}", 0.6, f"the gyro of {axis} follows it ({correlation:.0%} alike)")
            study.drafts[j].factor = factor
            known.add(f"setpoint.{axis}")


def raw_gyros(study: Study) -> None:
    """A rougher column that moves one to one as an axis's only gyro does is its raw one."""
    known = {draft.role for draft in study.drafts.values()}
    for k in study.of("gyro"):
        axis = study.drafts[k].role.split(".")[-1]
        if study.drafts[k].role.startswith("b/") or f"gyro_raw.{axis}" in known:
            continue
        for j in study.undrafted():
            if study.guesses[j].axis not in (axis, None) or kinds_of(study.table.columns[j].unit) - {"rate", "raw"}:
                continue
            together = likeness(study.middle(j), study.numbers[k], rate_hz=study.rate_hz)
            is_rougher = roughness(study.middle(j)) > 1.2 * roughness(study.numbers[k])
            if is_rougher and together.correlation > _SAME and 0.9 < together.slope < 1.1:
                study.draft(j, f"gyro_raw.{axis}", 0.6, f"moves as “{study.drafts[k].column.name}” does, and is noisier")
                study.drafts[j].factor = study.drafts[k].factor
                break


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


def controller(study: Study) -> None:
    """Three columns of an axis each that go with the error of the rates: the P term; that sum up the terms: the command."""
    triples: dict[tuple[str, ...], dict[str, int]] = {}
    for k in study.undrafted():
        axis = study.guesses[k].axis
        if axis in AXES and not kinds_of(study.table.columns[k].unit) - {"share", "raw"}:
            words = tokens_of(study.table.columns[k].name)
            triples.setdefault((*words[:1], str(len(words))), {})[str(axis)] = k
    for triple in triples.values():
        if set(triple) != set(AXES):
            continue
        for family, wanted in (("term_p", _errors(study)), ("command", _sums(study))):
            if study.of(family) or not wanted:
                continue
            together = [
                likeness(study.middle(triple[axis]), wanted[axis], rate_hz=study.rate_hz, most_lag_s=0.0).correlation
                for axis in AXES[:2]
            ]
            if min(together) > _SAME:
                for axis, k in triple.items():
                    study.draft(k, f"{family}.{axis}", 0.6, f"{_MOVES_LIKE[family]} ({min(together):.0%} alike)")
                break


def _errors(study: Study) -> dict[str, FloatArray]:
    """Set-point less gyro of roll and pitch, where both are there."""
    found = {study.drafts[k].role: study.drafts[k].scaled(study.numbers[k]) for k in study.of("gyro", "setpoint")}
    errors = {a: found[f"setpoint.{a}"] - found[f"gyro.{a}"] for a in AXES[:2] if {f"setpoint.{a}", f"gyro.{a}"} <= set(found)}
    return errors if len(errors) == 2 else {}


def _sums(study: Study) -> dict[str, FloatArray]:
    """Sums of the terms of roll and pitch, as written, where at least two terms of both are there."""
    sums = {}
    for axis in AXES[:2]:
        terms = [study.numbers[k] for k in study.of(*(f"term_{t}" for t in "pidf")) if study.drafts[k].role.endswith(axis)]
        if len(terms) >= 2:
            sums[axis] = np.sum(terms, axis=0)
    return sums if len(sums) == 2 else {}
