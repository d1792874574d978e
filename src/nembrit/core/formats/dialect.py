"""Finds out how a table of text is written: separator, decimals, header, units, what stands before it."""

import csv
import re
from dataclasses import dataclass

from nembrit.core.errors import LogReadError
from nembrit.core.records.units import split_header, units_of

BLANKS = " "
_SEPARATORS = (",", ";", "\t", "|", BLANKS)
_NAMES = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars", BLANKS: "blanks"}
_COMMENTS = ("#", "//", "%", "'", "*")
_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")
_COMMA_NUMBER = re.compile(r"[-+]?(?:\d+,\d*|,\d+)(?:[eE][-+]?\d+)?")
_MISSING = frozenset(("", "nan", "-nan", "inf", "-inf", "+inf", "null", "none", "na", "n/a", "-", "--"))
_RUN = 5  # rows that must look alike for a table to begin
_MOST_CELL_CHARS = 4000


@dataclass(frozen=True, slots=True, kw_only=True)
class TextDialect:
    """How one file is written. Line numbers count from 0 in the whole text."""

    separator: str
    has_decimal_comma: bool
    has_quotes: bool
    comment: str  # "" where the file has none
    names: tuple[str, ...]
    units: tuple[str, ...]
    is_text: tuple[bool, ...]
    is_long_integer: tuple[bool, ...]
    first_data_line: int
    preamble: tuple[tuple[str, str], ...]
    has_header: bool

    def in_words(self) -> tuple[str, ...]:
        said = [f"columns separated by {_NAMES[self.separator]}"]
        if self.has_decimal_comma:
            said.append("decimal commas")
        if not self.has_header:
            said.append("no header, columns are numbered")
        if self.preamble:
            said.append(f"{len(self.preamble)} line{'s' if len(self.preamble) > 1 else ''} of settings before the table")
        return tuple(said)


def dialect_of(text: str) -> TextDialect:
    """Find the dialect from the first part of a file (whole lines). Raises LogReadError where there is no table."""
    lines = text.split("\n")
    if len(lines) == 1 and len(lines[0]) > _MOST_CELL_CHARS and not any(mark in lines[0] for mark in _SEPARATORS[:4]):
        raise LogReadError("row 1: one very long line without separators; expected a table with rows")
    kept = [(number, line) for number, line in enumerate(lines) if line.strip() and not line.lstrip().startswith(_COMMENTS)]
    comments = [line.strip() for line in lines if line.lstrip().startswith(_COMMENTS)]
    if not kept:
        raise LogReadError("the file has no rows; expected a header and at least two rows of numbers")
    best = max((_candidate(kept, separator) for separator in _SEPARATORS), key=lambda found: found[0])
    score, separator, comma, start, cells = best
    if score <= 0:
        first = kept[0][1].strip()[:60]
        raise LogReadError(
            f"row {kept[0][0] + 1}: no table of numbers in the first {len(lines)} rows (“{first}”); "
            "expected a header and rows of numbers"
        )
    n_columns = len(cells[0])
    header, units, head_start = _header(kept, start, separator, n_columns)
    if header is None:
        header, units, comments = _commented_header(lines[: kept[start][0]], comments, separator, n_columns)
    has_quotes = any('"' in line for _, line in kept[start : start + 200])
    names, split_units = [], []
    for number, cell in enumerate(header or [""] * n_columns, start=1):
        name, unit = split_header(cell)
        names.append(name[:200] or f"column {number}")
        split_units.append(unit)
    columns = list(zip(*(row for row in cells if len(row) == n_columns), strict=True))
    return TextDialect(
        separator=separator,
        has_decimal_comma=comma,
        has_quotes=has_quotes,
        comment=next((mark for mark in _COMMENTS for comment in comments if comment.startswith(mark)), ""),
        names=tuple(names),
        units=tuple(unit or split for unit, split in zip(units or [""] * n_columns, split_units, strict=True)),
        is_text=tuple(_is_text_column(column) for column in columns),
        is_long_integer=tuple(_is_long(column) for column in columns),
        first_data_line=kept[start][0],
        preamble=_preamble([line for _, line in kept[:head_start]], comments, separator),
        has_header=header is not None,
    )


def split_row(line: str, separator: str) -> list[str]:
    """Cells of one row, quotes taken off.

    >>> split_row('1;"a;b";3', ";"), split_row("  1   2\\t3 ", " ")
    (['1', 'a;b', '3'], ['1', '2', '3'])
    """
    if separator == BLANKS:
        line = " ".join(line.split())
    if '"' in line:
        try:
            return [cell.strip() for cell in next(csv.reader([line], delimiter=separator, skipinitialspace=True))]
        except (csv.Error, StopIteration):
            return [line]
    return [cell.strip() for cell in line.split(separator)]


def is_number(cell: str, *, comma: bool) -> bool:
    return bool(_NUMBER.fullmatch(cell) or (comma and _COMMA_NUMBER.fullmatch(cell)))


_Candidate = tuple[float, str, bool, int, list[list[str]]]


def _candidate(kept: list[tuple[int, str]], separator: str) -> _Candidate:
    """Score, separator, decimal comma, index of the first row of numbers, the rows from there."""
    rows = [split_row(line, separator) for _, line in kept]
    comma = separator != "," and _prefers_comma(rows)
    shares = [_numeric_share(row, comma=comma) for row in rows]
    for start in range(len(rows)):
        width = len(rows[start])
        block = range(start, min(start + _RUN, len(rows)))
        if width < 2 or any(len(rows[k]) != width or shares[k] < 0.5 for k in block):
            continue
        if len(block) == 1 and len(rows) > 1 and start < len(rows) - 1:
            continue
        alike = sum(len(row) == width for row in rows[start:]) / len(rows[start:])
        share = sum(shares[start : start + 50]) / len(shares[start : start + 50])
        header_fits = start > 0 and len(rows[start - 1]) == width
        score = share * alike + (0.3 if header_fits else 0.0) + min(width, 400) / 4000 - (0.02 if separator == BLANKS else 0.0)
        return score, separator, comma, start, rows[start:]
    # a table whose rows differ in length still shows where most have the commonest width
    return 0.0, separator, comma, 0, rows


def _prefers_comma(rows: list[list[str]]) -> bool:
    cells = [cell for row in rows[-50:] for cell in row]
    commas = sum(bool(_COMMA_NUMBER.fullmatch(cell)) for cell in cells)
    points = sum("." in cell and bool(_NUMBER.fullmatch(cell)) for cell in cells)
    return commas > points


def _numeric_share(row: list[str], *, comma: bool) -> float:
    numbers = sum(is_number(cell, comma=comma) for cell in row)
    if not numbers:
        return 0.0
    missing = sum(cell.lower() in _MISSING for cell in row)
    return (numbers + missing) / len(row)


def _header(
    kept: list[tuple[int, str]], start: int, separator: str, n_columns: int
) -> tuple[list[str] | None, list[str] | None, int]:
    """Header cells, unit cells, and the index in `kept` of the first of the two."""
    above = [split_row(line, separator) for _, line in kept[max(0, start - 2) : start]]
    if not above or not _fits(above[-1], n_columns):
        return None, None, start
    last = _cut(above[-1], n_columns)
    filled = [cell for cell in last if cell]
    are_units = bool(filled) and sum(bool(units_of(cell)) or cell in ("1", "-") for cell in filled) >= 0.6 * len(filled)
    if are_units and len(above) == 2 and _fits(above[0], n_columns):
        units = [cell.strip("[]() ") if units_of(cell) else "" for cell in last]
        return _cut(above[0], n_columns), units, start - 2
    return last, None, start - 1


def _commented_header(
    above: list[str], comments: list[str], separator: str, n_columns: int
) -> tuple[list[str] | None, list[str] | None, list[str]]:
    """Names, and units, that stand in comment lines above the data; and the comments that are left."""
    told = [line.strip() for line in above if line.lstrip().startswith(_COMMENTS)]
    rows = [split_row(line.lstrip("".join(_COMMENTS)).strip(), separator) for line in told]
    fitting = [k for k, row in enumerate(rows) if len(row) == n_columns and _are_names(row)]
    if not fitting:
        return None, None, comments
    last = fitting[-1]
    units: list[str] | None = None
    used: tuple[int, ...] = (last,)
    if sum(bool(units_of(cell.strip("[]() "))) for cell in rows[last]) >= 0.6 * n_columns and last - 1 in fitting:
        units = [cell.strip("[]() ") for cell in rows[last]]
        used = (last - 1, last)
    return rows[used[0]], units, [line for line in comments if line not in {told[k] for k in used}]


def _are_names(row: list[str]) -> bool:
    return all(row) and not any(is_number(cell, comma=True) for cell in row) and len(set(row)) > len(row) / 2


def _fits(cells: list[str], n_columns: int) -> bool:
    return len(cells) == n_columns or (len(cells) == n_columns + 1 and not cells[-1]) or len(cells) == n_columns - 1 > 2


def _cut(cells: list[str], n_columns: int) -> list[str]:
    return [*cells, ""][:n_columns]


def _is_text_column(column: tuple[str, ...]) -> bool:
    filled = [cell for cell in column if cell.lower() not in _MISSING]
    words = sum(not _NUMBER.fullmatch(cell) and not _COMMA_NUMBER.fullmatch(cell) for cell in filled)
    return bool(filled) and words > len(filled) / 2


def _is_long(column: tuple[str, ...]) -> bool:
    """Whole numbers with more digits than a float64 holds: clocks in ns since long ago."""
    return any(len(cell) > 15 for cell in column) and all(cell.lstrip("-").isdigit() for cell in column)


def _preamble(lines: list[str], comments: list[str], separator: str) -> tuple[tuple[str, str], ...]:
    pairs = []
    for line in [*(comment.lstrip("#/%'* ") for comment in comments), *lines]:
        for mark in ("=", ":", separator):
            if mark != BLANKS and mark in line:
                key, _, value = line.partition(mark)
                key, value = key.strip().strip('"'), value.strip().strip('"').strip(separator).strip()
                if key and value and len(key) < 120:
                    pairs.append((key, value[:500]))
                    break
        else:
            told = re.fullmatch(r"\s*([^\d=:]*[^\d\s=:])\s+([-+]?\d.*)", line)  # “sampled at 2000 Hz”
            if told and len(told[1]) < 120:
                pairs.append((told[1], told[2].strip()[:500]))
    return tuple(pairs[:2000])
