"""Meanings as a document that people keep and hand on: `nembrit.meanings/1`, by the names of the columns."""

from dataclasses import replace
from typing import Any

from nembrit.core.errors import InputError
from nembrit.core.records.mapping import ClockUse, ColumnUse, Mapping, TableMapping, check_mapping
from nembrit.core.records.raw import RawLog, RawTable
from nembrit.core.records.roles import quantity_of, unit_of
from nembrit.core.records.units import parse_scale, scale_text, unit_for

SCHEMA = "nembrit.meanings/1"


class MeaningsError(InputError):
    """The document is no set of meanings, or says what cannot be."""


def meanings_document(mapping: Mapping) -> dict[str, Any]:
    """The document of a mapping: every column with its role (null: none), how its numbers are written, and the modes' names."""
    columns: dict[str, Any] = {}
    rate_hz = None
    for table in mapping.tables:
        for place, use in enumerate(table.columns):
            if place == table.clock.column and table.clock.unit_s is not None:
                columns[use.name] = {"role": "time", "scale": table.clock.unit_s}
            elif use.role is None:
                columns[use.name] = {"role": None}
            else:
                columns[use.name] = {"role": use.role, **_scale_part(use)}
        rate_hz = rate_hz or table.clock.rate_hz
    return {"schema": SCHEMA, "columns": columns, "modes": dict(mapping.modes), "sample_rate_hz": rate_hz}


def _scale_part(use: ColumnUse) -> dict[str, Any]:
    text = scale_text(str(use.role), use.factor, use.offset)
    if quantity_of(str(use.role)) == "text":
        return {}
    return {"unit": text} if parse_scale(str(use.role), text) == (use.factor, use.offset) and not _is_number(text) else {
        "scale": use.factor,
        "offset": use.offset,
    }  # fmt: skip


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def with_meanings(mapping: Mapping, raw: RawLog, document: Any) -> Mapping:
    """A mapping changed by a document: columns by name; those that it does not name stay as they are.

    Raises MeaningsError for what is no such document, for roles and units that cannot be, and where it names no column of
    the file.
    """
    if not isinstance(document, dict) or document.get("schema") != SCHEMA:
        raise MeaningsError(f'expected meanings with "schema": "{SCHEMA}"')
    columns = document.get("columns", {})
    modes = document.get("modes") or {}
    if not isinstance(columns, dict) or not isinstance(modes, dict):
        raise MeaningsError('"columns" and "modes" of the meanings must be objects')
    named = {column.name for table in raw.tables for column in table.columns}
    if columns and not named & set(columns):
        raise MeaningsError(f"these meanings name none of this file’s columns ({', '.join(sorted(named)[:6])} …)")
    rate_hz = document.get("sample_rate_hz")
    tables = tuple(_table(table, one, columns, rate_hz) for table, one in zip(mapping.tables, raw.tables, strict=True))
    found = replace(mapping, tables=tables, modes=mapping.modes | {str(number): str(name) for number, name in modes.items()})
    try:
        check_mapping(found)
    except InputError as error:
        raise MeaningsError(str(error)) from None
    return found


def _table(table: TableMapping, raw: RawTable, columns: dict[str, Any], rate_hz: Any) -> TableMapping:
    uses, clock = list(table.columns), table.clock
    for place, column in enumerate(raw.columns):
        if column.name not in columns:
            continue
        told = columns[column.name]
        if told is None:
            told = {"role": None}
        if not isinstance(told, dict):
            raise MeaningsError(f"the meaning of “{column.name}” must be an object with a role")
        if told.get("role") == "time":
            clock = ClockUse(
                column=place, unit_s=_clock_unit_s(column.name, told), confidence=1.0, reason="by the meanings given"
            )
        else:
            uses[place] = _use(column.name, told)
    if rate_hz is not None:
        if isinstance(rate_hz, bool) or not isinstance(rate_hz, (int, float)) or not 0.01 <= rate_hz <= 100_000:
            raise MeaningsError("sample_rate_hz of the meanings must be a number from 0.01 to 100000")
        clock = replace(clock, unit_s=None, rate_hz=float(rate_hz), confidence=1.0, reason="by the meanings given")
    return TableMapping(clock=clock, columns=tuple(uses))


def _use(name: str, told: dict[str, Any]) -> ColumnUse:
    role = told.get("role")
    if role is None:
        return ColumnUse(name=name, reason="by the meanings given: none")
    if not isinstance(role, str) or quantity_of(role) is None:
        raise MeaningsError(f"“{role}”, given for “{name}”, is not a known meaning")
    factor, offset = 1.0, 0.0
    centre, throw = (_number(told[key], f"{key} of “{name}”") if key in told else None for key in ("centre_us", "throw_us"))
    if centre is not None or throw is not None:
        if centre is None or throw is None or not role.removeprefix("b/").startswith("servo."):
            raise MeaningsError(
                f"“{name}”: a servo in shares of its throw needs centre_us and throw_us, and a role such as servo.1"
            )
        share = unit_for(str(told.get("unit", "1")), "share")
        if share is None and str(told.get("unit", "1")) != "1":
            raise MeaningsError(f"“{name}”: the unit of a share is %, ‰ or 1, not “{told.get('unit')}”")
        factor, offset = (share.factor if share else 1.0) * throw, centre
    elif "unit" in told:
        try:
            factor, offset = parse_scale(role, str(told["unit"]))
        except InputError as error:
            raise MeaningsError(str(error)) from None
    if "scale" in told:
        factor = _number(told["scale"], f"the scale of “{name}”")
    if "offset" in told:
        offset = _number(told["offset"], f"the offset of “{name}”")
    return ColumnUse(
        name=name, role=role, unit=unit_of(role), factor=factor, offset=offset, confidence=1.0, reason="by the meanings given"
    )


def _clock_unit_s(name: str, told: dict[str, Any]) -> float:
    if "scale" in told:
        return _number(told["scale"], f"the scale of “{name}”")
    unit = unit_for(str(told.get("unit", "s")), "time")
    if unit is None:
        raise MeaningsError(f"“{name}”: a clock is in s, ms, µs or ns, not “{told.get('unit')}”")
    return unit.factor


def _number(value: Any, what: str) -> float:
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not abs(value) < 1e12:
        raise MeaningsError(f"{what} must be a number, got {str(value)[:40]}")
    return float(value)
