"""What recorders of planes write, and sticks and modes of any craft: told by notes, by units in names, and by movement."""

import numpy as np

from nembrit.core.recognise import scales
from nembrit.core.recognise.study import Study
from nembrit.core.recognise.words import concepts_of, tokens_of
from nembrit.core.records.relations import likeness
from nembrit.core.records.roles import quantity_of
from nembrit.core.records.units import loose_unit, unit_for
from nembrit.core.types import AXES, FloatArray

_CENTRED_US, _OFF_CENTRE = 1500.0, 60.0  # a stick at rest; a throttle is seldom there
_MOST_MODES, _LEAST_STAY = 24, 0.98  # a mode is one of few numbers and stays
_FOLLOWS = 0.8
_PULSE_US = (700.0, 2300.0)
_AXIS_LETTERS, _RATE_LETTERS = frozenset((*AXES, "r", "p", "y", "bank", "nose")), frozenset(("g", "x", "q", "rate", "w", "omega"))


def loose_units(study: Study) -> None:
    """Units that stand as the last word of a name, or in the notes before the table for whole numbers."""
    for draft in study.drafts.values():
        quantity = quantity_of(draft.role) or ""
        if draft.has_stated_unit or draft.column.unit:
            continue
        unit, said = loose_unit(draft.column.name, quantity), "as its name ends"
        note = study.notes.units.get(quantity)
        if unit is None and note and draft.column.samples.dtype.kind == "i":
            unit, said = unit_for(note, quantity), f"“{note}”, as said before the table"
        if unit is not None:
            draft.factor, draft.offset, draft.has_stated_unit = unit.factor, unit.offset, True
            draft.reason += f"; {said}"


def stick_families(study: Study) -> None:
    """Numbered families of four to eight stick channels: one that is not centred is the throttle, the others are axes in order.

    The order of roll, pitch and yaw is a convention (common practice, no source): where a set-point tells, it is checked.
    """
    families: dict[tuple[str, ...], dict[int, int]] = {}
    for k, column in enumerate(study.table.columns):
        words = tokens_of(column.name)
        if column.labels is None and len(words) > 1 and words[-1].isdigit() and "stick" in concepts_of(words[:-1]):
            families.setdefault(words[:-1], {})[int(words[-1])] = k
    for members in families.values():
        if not 4 <= len(members) <= 8 or len(study.of("stick")) > 3:
            continue
        ordered = [members[number] for number in sorted(members)][:4]
        values = {k: study.middle(k) for k in ordered}
        away = {k: abs(float(np.median(own)) - _middle(own)) for k, own in values.items()}
        lever = max(away, key=away.__getitem__)
        if away[lever] < _OFF_CENTRE or study.of("throttle"):
            continue
        study.draft(lever, "throttle", 0.7, "of four stick channels the one that does not rest in the middle")
        study.drafts[lever].take(scales.share_scale(values[lever]))
        for axis, k in zip(AXES, [k for k in ordered if k != lever], strict=True):
            if k not in study.drafts or study.drafts[k].role.startswith("stick"):
                study.draft(k, f"stick.{axis}", 0.6, "one of four stick channels, in the usual order")
                study.drafts[k].take(scales.stick_scale(values[k]))
        _by_setpoints(study, [k for k in ordered if k != lever])


def _middle(values: FloatArray) -> float:
    return _CENTRED_US if _PULSE_US[0] < float(np.median(values)) < _PULSE_US[1] else 0.0


def _by_setpoints(study: Study, members: list[int]) -> None:
    """Sticks on the axes whose set-points they move with; where that contradicts the usual order, what moves decides."""
    wanted = {study.drafts[k].role.split(".")[1]: k for k in study.of("setpoint") if not study.drafts[k].role.startswith("b/")}
    alike = {
        (k, axis): likeness(study.drafts[j].scaled(study.numbers[j]), study.numbers[k], rate_hz=study.rate_hz).correlation
        for k in members
        for axis, j in wanted.items()
    }
    sure = {k: axis for (k, axis), value in alike.items() if value > _FOLLOWS}
    if len(set(sure.values())) != len(sure):
        return
    rest = [axis for axis in AXES if axis not in sure.values()]
    for k in members:
        axis = sure.get(k) or rest.pop(0)
        study.drafts[k].role = f"stick.{axis}"
        if k in sure:
            study.drafts[k].confidence = max(study.drafts[k].confidence, 0.7)
            study.drafts[k].reason = f"moves as the set-point of {axis} does"


def wanted_attitudes(study: Study) -> None:
    """Wanted values that the attitude follows better than the gyro does, and those named like them, are wanted attitudes."""
    families: dict[tuple[str, ...], list[int]] = {}
    for k in study.of("setpoint"):
        draft = study.drafts[k]
        words = tuple(word for word in tokens_of(draft.column.name) if word not in _AXIS_LETTERS)
        is_rate = draft.has_stated_unit and bool(draft.column.unit) and unit_for(draft.column.unit, "rate") is not None
        if not draft.role.startswith("b/") and not is_rate and not set(tokens_of(draft.column.name)) & _RATE_LETTERS:
            families.setdefault(words, []).append(k)
    for members in families.values():
        if any(_follows_tilt(study, k) for k in members):
            for k in members:
                _as_attitude(study, k)


def _follows_tilt(study: Study, k: int) -> bool:
    axis = study.drafts[k].role.split(".")[1]
    tilt = next((j for j in study.of("attitude") if study.drafts[j].role == f"attitude.{axis}"), None)
    turn = next((j for j in study.of("gyro", "gyro_raw") if study.drafts[j].role.endswith(f".{axis}")), None)
    if tilt is None or turn is None:
        return False
    by_tilt, by_turn = (
        likeness(study.numbers[k], study.numbers[j], rate_hz=study.rate_hz, most_lag_s=1.5).correlation for j in (tilt, turn)
    )
    return by_tilt > max(0.6, by_turn + 0.1)


def _as_attitude(study: Study, k: int) -> None:
    draft = study.drafts[k]
    draft.role = f"attitude_wanted.{draft.role.split('.')[1]}"
    draft.doubt(0.75, "the attitude follows it")
    note = study.notes.units.get("angle")
    noted = unit_for(note, "angle") if note and draft.column.samples.dtype.kind == "i" else None
    tilt = next((study.drafts[j] for j in study.of("attitude")), None)
    draft.factor, draft.offset = (noted.factor, noted.offset) if noted else (tilt.factor if tilt else 1.0, 0.0)
    draft.has_stated_unit = True


def modes(study: Study) -> None:
    """Modes written as numbers: named so, or one of few whole numbers whose names stand before the table."""
    if study.of("mode"):
        return
    for k, column in enumerate(study.table.columns):
        if k == study.clock.column or column.labels is not None or column.samples.dtype.kind != "i":
            continue
        words = tokens_of(column.name)
        numbers = column.numbers()
        found = np.unique(numbers[np.isfinite(numbers)])
        if found.size > _MOST_MODES or float(np.mean(np.diff(numbers) == 0)) < _LEAST_STAY:
            continue
        told = bool(study.notes.modes) and {f"{value:.0f}" for value in found} <= set(study.notes.modes)
        if "mode" in concepts_of(words) or (told and (found.size > 1 or words[0] in ("m", "md", "fm"))):
            reason = "its numbers are named before the table" if told else f"one of {found.size} numbers: say what they mean"
            study.draft(k, "mode", 0.8 if told else 0.7, reason)
            return


def phases(study: Study) -> None:
    """A column of few words that stay is the mode, where none is named so."""
    if study.of("mode"):
        return
    for k, column in enumerate(study.table.columns):
        if column.labels is None or not 1 <= len(column.labels) <= _MOST_MODES or k in study.drafts:
            continue
        if set(tokens_of(column.name)) & {"phase", "state", "status", "flight"}:
            study.draft(k, "mode", 0.65, "few words, each for a while")
            return


def servos(study: Study) -> None:
    """Servos in µs as they stand; in shares of a throw around a centre only where both are said before the table."""
    members = study.of("servo")
    for k in members:
        draft, values = study.drafts[k], study.numbers[k]
        if draft.has_stated_unit and unit_for(draft.column.unit, "pulse"):
            continue
        low, high = float(np.min(values, initial=np.inf)), float(np.max(values, initial=-np.inf))
        if _PULSE_US[0] <= low and high <= _PULSE_US[1]:
            draft.factor, draft.offset = 1.0, 0.0
            draft.confidence, draft.reason = max(draft.confidence, 0.8), f"{draft.reason}; runs like a pulse in µs"
            continue
        notes = study.notes
        unit = unit_for(draft.column.unit, "share") if draft.column.unit else None
        share = unit.factor if unit else notes.servo_share
        centre, throw = notes.centre_us(draft.column.name), notes.servo_throw_us
        if share and centre and throw:
            draft.factor, draft.offset, draft.has_stated_unit = share * throw, centre, True
            draft.reason += f"; ±{throw:g} µs around {centre:g}, as said before the table"
        else:
            draft.doubt(0.4, "no pulse in µs: say its centre and throw")


def lone_motor(study: Study) -> None:
    """One column called a motor, beside servos: the motor of a plane."""
    if not study.of("servo") or study.of("motor"):
        return
    for k in study.undrafted():
        words = tokens_of(study.table.columns[k].name)
        if "motor" in concepts_of(words) and study.guesses[k].axis is None:
            scale = scales.share_scale(study.middle(k))
            if scale.confidence >= 0.5:
                study.draft(k, "motor.1", 0.6, "the only motor, beside servos")
                study.drafts[k].take(scale)
            return
