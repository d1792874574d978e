"""JSON Lines: one object a row; objects with other keys are other streams, so rates may be mixed."""

import json
from typing import Any

import numpy as np

from nembrit.core.errors import LogReadError
from nembrit.core.formats.compact import exact_integers
from nembrit.core.formats.source import Source
from nembrit.core.formats.table import MOST_COLUMNS, text_column
from nembrit.core.formats.text import as_utf8
from nembrit.core.given import clean_text
from nembrit.core.progress import Progress, no_progress
from nembrit.core.records.log import QualityNote
from nembrit.core.records.raw import RawColumn, RawLog, RawTable
from nembrit.core.records.units import split_header

KEY = "jsonl"
LABEL = "JSON Lines"
_MOST_STREAMS = 24
_MOST_NOTES, _MOST_NAME = 6, 500


def matches(head: bytes) -> bool:
    """True where the first line that is not empty is an object."""
    text = head.removeprefix(b"\xef\xbb\xbf").lstrip()
    return text.startswith(b"{") and b'"' in text[:4096] and not text.startswith(b"{\\rtf")


def check_head(head: bytes) -> None:
    """Nothing more can be told from the first bytes."""


def read(source: Source, *, progress: Progress = no_progress, n_bytes: int | None = None) -> RawLog:
    """Read every line; lines that are no objects are left out and told. Raises LogReadError where none is."""
    content = source.all()
    text, _ = as_utf8(content)
    lines = text.split(b"\n")
    if len(lines) <= 2 and len(text) > 1_000_000:
        raise LogReadError("row 1: one very long line; JSON Lines have one small object per line")
    rows: dict[tuple[str, ...], list[list[Any]]] = {}
    settings: list[tuple[str, str]] = []
    notes: list[QualityNote] = []
    n_bad = n_good = 0
    for number, line in enumerate(lines, start=1):
        if number % 20_000 == 0:
            progress("reading the lines", 0.8 * number / len(lines))
        if not line.strip():
            continue
        try:
            document = json.loads(line)
            if not isinstance(document, dict):
                raise ValueError("no object")
            flat = _flat(document)
        except (ValueError, RecursionError):
            n_bad += 1
            if n_bad <= _MOST_NOTES:
                notes.append(QualityNote(code="row", severity="warning", detail=f"row {number}: no JSON object; left out"))
            continue
        if len(flat) < 2:
            settings += [(key, str(value)[:500]) for key, value in flat.items()]
            continue
        n_good += 1
        keys = tuple(flat)
        if keys not in rows:
            if len(rows) >= _MOST_STREAMS:
                raise LogReadError(f"row {number}: more than {_MOST_STREAMS} kinds of objects, too many for a log")
            if len(keys) > MOST_COLUMNS:
                raise LogReadError(f"row {number}: {len(keys)} values; at most {MOST_COLUMNS} can be read")
            rows[keys] = []
        rows[keys].append(list(flat.values()))
    tables = []
    for keys, values in rows.items():
        if len(values) == 1:
            settings += [(key, str(value)[:500]) for key, value in zip(keys, values[0], strict=True)]
            n_good -= 1
        else:
            tables.append(_table(keys, values))
    if not tables:
        raise LogReadError(f"no objects in {len(lines)} rows; at least two objects with the same keys are expected")
    return RawLog(
        format_key=KEY,
        tables=tuple(tables),
        rows_read=n_good,
        rows_dropped=n_bad,
        preamble=tuple(settings[:2000]),
        understood=(f"{len(tables)} stream{'s' if len(tables) > 1 else ''} of objects",),
        notes=tuple(notes),
    )


def _flat(document: dict[str, Any], prefix: str = "") -> dict[str, Any]:
    """Nested objects and lists as one level: ``gyro.x``, ``motor[0]``."""
    found: dict[str, Any] = {}
    for key, value in document.items():
        name = clean_text(f"{prefix}{key}", most=_MOST_NAME)
        if isinstance(value, dict):
            found |= _flat(value, f"{name}.")
        elif isinstance(value, list):
            found |= _flat({f"{name}[{k}]": each for k, each in enumerate(value[:64])})
        else:
            found[name] = value
    return found


def _table(keys: tuple[str, ...], rows: list[list[Any]]) -> RawTable:
    return RawTable(columns=tuple(_column(key, list(cells)) for key, cells in zip(keys, zip(*rows, strict=True), strict=True)))


def _column(key: str, cells: list[Any]) -> RawColumn:
    name, unit = split_header(key)
    words = sum(isinstance(cell, str) for cell in cells)
    if words > len(cells) / 2:
        return text_column(name, [clean_text(cell, most=_MOST_NAME) for cell in cells])
    values = np.array([_number(cell) for cell in cells])
    samples, divisor = exact_integers(np.where(np.isinf(values), np.nan, values))
    return RawColumn(name=name, unit=unit, samples=samples, divisor=divisor)


def _number(cell: Any) -> float:
    try:
        return float("nan") if cell is None else float(cell)
    except (TypeError, ValueError, OverflowError):
        return float("nan")
