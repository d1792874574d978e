"""Nembrit's own CSV: one header of roles with units, one row per sample.

Comma separated, UTF-8, decimal points, no quoting; lines that start with ``#`` may stand before the
header. An empty cell is a missing sample. The full description is in `docs/formats.md`.
"""

import io
import re
from collections.abc import Sequence

import numpy as np
import polars as pl

from nembrit.core.errors import InputError, LogReadError
from nembrit.core.formats.compact import exact_integers
from nembrit.core.formats.guard import readable
from nembrit.core.formats.source import Source
from nembrit.core.formats.table import text_column
from nembrit.core.progress import Progress, no_progress
from nembrit.core.records.raw import RawColumn, RawLog, RawTable
from nembrit.core.records.roles import ColumnMeaning, column_meaning, header_of, quantity_of
from nembrit.core.types import FloatArray

KEY = "nembrit_csv"
LABEL = "Nembrit's own CSV"
_MAX_COLUMNS = 400


def matches(head: bytes) -> bool:
    """True for a text whose header starts with ``time [unit]`` and mostly names roles."""
    text = head.decode("utf-8-sig", errors="replace")
    header = next((line for line in text.splitlines() if line.strip() and not line.startswith("#")), "")
    cells = [cell.strip() for cell in header.split(",")]
    if not re.fullmatch(r"time ?\[[^\]]*\]", cells[0]):
        return False
    known = sum(bool(quantity_of(cell.split("[")[0].strip()) or cell.startswith("other.")) for cell in cells[1:])
    return known >= max(1, (len(cells) - 1) / 2)


def check_head(head: bytes) -> None:
    """Refuse a file by its header alone; raises LogReadError."""
    _header(head)


def read(source: Source, *, progress: Progress = no_progress, n_bytes: int | None = None) -> RawLog:
    """Read a whole file, or refuse it with the row, the column and what was expected.

    Rows are counted as a text editor does, from 1 and with the header. Raises LogReadError.
    """
    content = source.all()
    progress("reading the header", 0.0)
    body, meanings, header_row = _header(content)
    if not body.strip():
        raise LogReadError("only a header and no rows of samples; expected at least two rows")
    _check_row_lengths(body, n_columns=len(meanings), first_row=header_row + 1)
    progress("reading the numbers", 0.1)
    frame = _frame(body, meanings, first_row=header_row + 1)
    t_s = frame["c0"].to_numpy() * meanings[0].factor
    _check_time(t_s, first_row=header_row + 1)
    columns = [_column(frame["c0"], meanings[0])]
    for index, meaning in enumerate(meanings[1:], start=1):
        progress(f"understanding column {index} of {len(meanings) - 1}", 0.4 + 0.6 * index / len(meanings))
        columns.append(_column(frame[f"c{index}"], meaning))
    return RawLog(format_key=KEY, tables=(RawTable(columns=tuple(columns)),), rows_read=int(t_s.size), preamble=())


def _header(content: bytes) -> tuple[bytes, list[ColumnMeaning], int]:
    """Rows below the header, what each column means, and the row that the header stands in."""
    if not content.strip():
        raise LogReadError("the file is empty; expected a header row that starts with “time [s]”")
    if b"\0" in content[:4096]:
        raise LogReadError(f"byte {content.index(0)}: this is not a text file; expected {LABEL}")
    rest, row = content.removeprefix(b"\xef\xbb\xbf"), 0
    while rest:
        line, _, rest = rest.partition(b"\n")
        row += 1
        if line.strip() and not line.startswith(b"#"):
            return rest, _meanings(line, row=row), row
    raise LogReadError("no header row; expected one that starts with “time [s]”")


def _meanings(line: bytes, *, row: int) -> list[ColumnMeaning]:
    try:
        cells = line.decode("utf-8").strip().split(",")
    except UnicodeDecodeError:
        raise LogReadError(f"row {row}: the header is not UTF-8 text") from None
    if len(cells) > _MAX_COLUMNS:
        raise LogReadError(f"row {row}: {len(cells)} columns; at most {_MAX_COLUMNS} can be read")
    if not cells[0].startswith("time"):
        raise LogReadError(f"row {row}, column 1: expected “time [s]”, found “{cells[0][:40]}”")
    meanings = []
    for number, cell in enumerate(cells, start=1):
        try:
            meanings.append(column_meaning(cell))
        except InputError as error:
            raise LogReadError(f"row {row}, column {number}: {error}") from None
    names = [meaning.name for meaning in meanings]
    for number, name in enumerate(names, start=1):
        if names.index(name) + 1 < number:
            raise LogReadError(f"row {row}, column {number}: “{name}” is in column {names.index(name) + 1} already")
    if len(meanings) < 2:
        raise LogReadError(f"row {row}: only a time column; expected at least one channel beside it")
    return meanings


def _check_row_lengths(body: bytes, *, n_columns: int, first_row: int) -> None:
    """Refuse the first row with too few or too many cells; a cut-off last row is one of these."""
    text = np.frombuffer(body.rstrip(b"\r\n") + b"\n", dtype=np.uint8)
    ends = np.flatnonzero(text == ord("\n"))
    commas = np.searchsorted(np.flatnonzero(text == ord(",")), ends)
    n_cells = np.diff(commas, prepend=0) + 1
    wrong = np.flatnonzero(n_cells != n_columns)
    if wrong.size:
        row = int(wrong[0])
        raise LogReadError(
            f"row {first_row + row}: {n_cells[row]} cell{'s' if n_cells[row] > 1 else ''}, expected {n_columns} as in the header"
        )


def _frame(body: bytes, meanings: list[ColumnMeaning], *, first_row: int) -> pl.DataFrame:
    schema: dict[str, type[pl.DataType]] = {
        f"c{index}": pl.String if meaning.quantity == "text" else pl.Float64 for index, meaning in enumerate(meanings)
    }
    frame = _parse(body, schema)
    for index, meaning in enumerate(meanings):
        column = frame[f"c{index}"]
        if column.dtype != pl.Float64:
            continue
        if column.null_count():
            _refuse_text(body, schema, index=index, meaning=meaning, first_row=first_row)
        if (infinite := column.is_infinite().fill_null(False)).any():
            row = int(infinite.arg_true()[0]) + first_row
            raise LogReadError(f"row {row}, column {index + 1} ({meaning.name}): an infinite value; expected a number")
    return frame.with_columns(pl.col(pl.Float64).fill_null(float("nan")))


def _parse(body: bytes, schema: dict[str, type[pl.DataType]]) -> pl.DataFrame:
    with readable("the table below the header"):
        return pl.read_csv(
            io.BytesIO(body), has_header=False, schema=schema, ignore_errors=True, quote_char=None, encoding="utf8-lossy"
        )


def _refuse_text(
    body: bytes, schema: dict[str, type[pl.DataType]], *, index: int, meaning: ColumnMeaning, first_row: int
) -> None:
    """Refuse a column whose unread cells hold text; empty cells are missing samples."""
    cells = _parse(body, dict.fromkeys(schema, pl.String))[f"c{index}"].str.strip_chars().fill_null("")
    numbers = cells.cast(pl.Float64, strict=False)
    is_text = (cells != "") & numbers.is_null()
    if is_text.any():
        row = int(is_text.arg_true()[0])
        raise LogReadError(
            f"row {first_row + row}, column {index + 1} ({meaning.name}): expected a number, found “{cells[row][:40]}”"
        )


def _check_time(t_s: FloatArray, *, first_row: int) -> None:
    if t_s.size < 2:
        raise LogReadError(f"only {t_s.size} row{'s' if t_s.size != 1 else ''} of samples; expected at least two")
    bad = np.flatnonzero(~np.isfinite(t_s))
    if bad.size:
        raise LogReadError(f"row {first_row + int(bad[0])}, column 1 (time): no time; every row needs one")
    backward = np.flatnonzero(np.diff(t_s) <= 0)
    if backward.size:
        at = int(backward[0])
        raise LogReadError(
            f"row {first_row + at + 1}, column 1 (time): {t_s[at + 1]:.6g} s after {t_s[at]:.6g} s; expected time to rise"
        )


def _column(column: pl.Series, meaning: ColumnMeaning) -> RawColumn:
    if meaning.quantity == "text":
        return text_column(meaning.name, column.fill_null("").to_list())
    samples, divisor = exact_integers(column.to_numpy())
    return RawColumn(name=meaning.name, unit=meaning.stated_unit, samples=samples, divisor=divisor)


def write(
    log_channels: Sequence[tuple[str, FloatArray | Sequence[str]]], t_s: FloatArray, *, decimals: dict[str, int] | None = None
) -> bytes:
    """Write channels given as (role, values) in the role's own unit, text roles as words; `decimals` by family of role.

    A value that is NaN becomes an empty cell. Reading the result gives the written numbers back.
    """
    places = decimals or {}
    columns: dict[str, FloatArray | list[str]] = {"time [s]": np.round(t_s, 6)}
    for role, values in log_channels:
        family = role.split(".")[0]
        if isinstance(values, np.ndarray):
            columns[header_of(role)] = np.round(values, places[family]) if family in places else values
        else:
            columns[header_of(role)] = [str(word) for word in values]
    frame = pl.DataFrame(columns).with_columns(pl.col(pl.Float64).fill_nan(None))
    buffer = io.BytesIO()
    frame.write_csv(buffer)
    return buffer.getvalue()
