"""What the columns of a running source mean: by the same recogniser as a file's, from its first rows."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.recognise.propose import propose
from nembrit.core.records.raw import RawColumn, RawLog, RawTable
from nembrit.core.records.units import split_header

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
