"""What the columns of a running source mean: by the same recogniser as a file's, from its first rows."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.recognise.propose import propose
from nembrit.core.records.meanings import SCHEMA
from nembrit.core.records.raw import RawColumn, RawLog, RawTable
from nembrit.core.records.roles import quantity_of, unit_of
from nembrit.core.records.units import parse_scale, split_header, unit_for

Value = float | str
LEAST_ROWS = 12
# what telemetry has and no log is analysed by: word in the name → (key, what it is called, unit)
_BESIDES = (
    (("lq", "link", "rssi", "signal"), "link_quality"), (("used", "consumed", "mah"), "used_mah"),
    (("sats", "satellites", "numsat"), "satellites"), (("seq", "counter", "frame"), "counter"),
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class LiveColumn:
    """One column: value in the meaning's unit = number × factor + offset. `key` empty: not understood."""

    name: str
    key: str = ""
    unit: str = ""
    factor: float = 1.0
    offset: float = 0.0
    confidence: float = 0.0


LIVE_ONLY = {
    "link_quality": "link quality",
    "used_mah": "used charge, mAh",
    "satellites": "satellites",
    "counter": "line counter",
}


def chosen(name: str, key: str, scale: str) -> LiveColumn:
    """A column as the tuner says: a role, one of `LIVE_ONLY`, `time`, or empty for none; `scale` is a unit or a factor.

    Raises InputError for what cannot be.
    """
    if not key:
        return LiveColumn(name=name, confidence=1.0)
    if key in LIVE_ONLY or key == "time":
        factor = 1.0
        if scale.strip() and (key != "time" or (unit := unit_for(scale.strip(), "time")) is None):
            factor, _ = parse_scale("throttle" if key == "link_quality" else "gain.roll.p", scale)
        elif scale.strip() and unit is not None:
            factor = unit.factor
        return LiveColumn(name=name, key=key, factor=factor, confidence=1.0)
    if quantity_of(key) is None:
        raise InputError(f"“{key[:40]}” is no meaning; choose one from the list")
    factor, offset = parse_scale(key, scale) if scale.strip() and quantity_of(key) != "text" else (1.0, 0.0)
    return LiveColumn(name=name, key=key, unit=unit_of(key), factor=factor, offset=offset, confidence=1.0)


def document_of(columns: Sequence[LiveColumn]) -> dict[str, Any]:
    """The same meanings for the log that a recording becomes (`nembrit.meanings/1`)."""
    found: dict[str, Any] = {}
    for one in columns:
        if one.key == "link_quality" and one.factor == 1.0:  # its range is known only from the whole recording
            continue
        role = one.key if quantity_of(one.key) is not None else None
        scales = {"scale": one.factor, "offset": one.offset} if role and quantity_of(role) != "text" else {}
        found[split_header(one.name)[0]] = {"role": role, **scales}
    return {"schema": SCHEMA, "columns": found}


def columns_of(rows: Sequence[Mapping[str, Value]]) -> tuple[LiveColumn, ...]:
    """A meaning for every column that these rows have; `time` is the sender's own clock [s]."""
    names = list(dict.fromkeys(name for row in rows for name in row))
    raw = []
    names = [name for name in names if any(row.get(name) is not None for row in rows)]
    for name in names:
        own = [row.get(name) for row in rows]
        header, unit = split_header(name)
        if any(isinstance(value, str) for value in own):
            labels = tuple(dict.fromkeys(str(value) for value in own if value is not None))
            places = [labels.index(str(value)) if value is not None else -1 for value in own]
            raw.append(RawColumn(name=header, unit=unit, samples=np.array(places, dtype=np.int32), labels=labels))
        else:
            numbers = np.array([np.nan if value is None else float(value) for value in own], dtype=np.float64)
            whole = (
                np.isfinite(numbers).all() and bool(np.all(numbers == np.round(numbers))) and bool(np.abs(numbers).max() < 2e9)
            )
            raw.append(RawColumn(name=header, unit=unit, samples=numbers.astype(np.int32) if whole else numbers))
    if not raw:
        return ()
    log = RawLog(format_key="telemetry", tables=(RawTable(columns=tuple(raw)),), rows_read=len(rows))
    (table,) = propose(log).tables
    found = []
    for position, (name, use) in enumerate(zip(names, table.columns, strict=True)):
        if position == table.clock.column and table.clock.unit_s:
            found.append(LiveColumn(name=name, key="time", unit="s", factor=table.clock.unit_s, confidence=0.9))
        elif use.role is not None:
            found.append(
                LiveColumn(
                    name=name, key=use.role, unit=use.unit, factor=use.factor, offset=use.offset, confidence=use.confidence
                )
            )
        else:
            found.append(_besides(name))
    return tuple(found)


def _besides(name: str) -> LiveColumn:
    words = split_header(name)[0].lower().replace("_", " ").replace(".", " ").split()
    key = next((key for known, key in _BESIDES if any(word in known for word in words)), "")
    return LiveColumn(name=name, key=key, confidence=0.7 if key else 0.0)


def values_of(row: Mapping[str, Value], columns: Sequence[LiveColumn]) -> dict[str, Value]:
    """A row by what its columns mean, in their own units; shares of link quality above 1 are per cent."""
    found: dict[str, Value] = {}
    for one in columns:
        value = row.get(one.name)
        if value is None or not one.key:
            continue
        if isinstance(value, str):
            found[one.key] = value
            continue
        number = value * one.factor + one.offset
        found[one.key] = number / 100 if one.key == "link_quality" and number > 1.5 else number
    return found
