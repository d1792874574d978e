"""Tables of text in any dialect: read block by block, so that large files need little memory.

Rows are counted as a text editor does, from 1 and with the header. What can be kept is kept: a row of
wrong length is left out and told, text among numbers is a missing value and told.
"""

import io
import re

import numpy as np
import polars as pl

from nembrit.core.errors import LogReadError
from nembrit.core.formats.compact import CompactColumn
from nembrit.core.formats.dialect import BLANKS, TextDialect, dialect_of
from nembrit.core.formats.progress import Progress, no_progress
from nembrit.core.formats.text import as_utf8, encoding_of
from nembrit.core.records.log import QualityNote
from nembrit.core.records.raw import RawColumn, RawLog, RawTable
from nembrit.core.types import BoolArray, FloatArray

KEY = "table"
LABEL = "a table of text"
MOST_COLUMNS = 400
_HEAD_LINES = 400
_HEAD_BYTES = 262_144
_BLOCK_BYTES = 8 * 1024 * 1024
_MOST_NOTES = 6
_MOST_LABELS = 1000


def matches(head: bytes) -> bool:
    """Any text may be a table; asked last."""
    try:
        encoding_of(head)
    except LogReadError:
        return False
    return True


def check_head(head: bytes) -> None:
    """Refuse a file by its first bytes; raises LogReadError."""
    if not head.strip():
        raise LogReadError("the file is empty; a header and at least two rows of numbers are expected")
    text, _ = as_utf8(head)
    _dialect(text)


def read(content: bytes, *, progress: Progress = no_progress) -> RawLog:
    """Read a whole table. Raises LogReadError with the row and what was expected where there is none."""
    if not content.strip():
        raise LogReadError("the file is empty; a header and at least two rows of numbers are expected")
    progress("finding out how the table is written", 0.0)
    text, encoding = as_utf8(content)
    del content
    dialect = _dialect(text)
    if len(dialect.names) > MOST_COLUMNS:
        raise LogReadError(f"row {dialect.first_data_line + 1}: {len(dialect.names)} columns; at most {MOST_COLUMNS} can be read")
    builder = _Builder(dialect)
    start = _line_start(text, dialect.first_data_line)
    while start < len(text):
        progress("reading the numbers", start / len(text))
        end = text.find(b"\n", start + _BLOCK_BYTES)
        end = len(text) if end < 0 else end + 1
        builder.add(text[start:end])
        start = end
    if encoding != "utf-8":
        said = {"cp1252": "Western European letters", "utf-16-le": "UTF-16", "utf-16-be": "UTF-16"}.get(encoding, encoding)
        return builder.finish((said,))
    return builder.finish(())


def _dialect(text: bytes) -> TextDialect:
    """The dialect, from the first whole lines."""
    head = text[:_HEAD_BYTES].decode("utf-8", errors="replace")
    if len(text) > _HEAD_BYTES and "\n" in head:
        head = head[: head.rfind("\n")]
    return dialect_of("\n".join(head.split("\n")[:_HEAD_LINES]))


def _line_start(text: bytes, line: int) -> int:
    at = 0
    for _ in range(line):
        at = text.index(b"\n", at) + 1
    return at


class _Builder:
    """Gathers the columns of one table."""

    def __init__(self, dialect: TextDialect) -> None:
        self.dialect = dialect
        self.next_row = dialect.first_data_line + 1
        self.columns = [None if is_text else CompactColumn() for is_text in dialect.is_text]
        self.texts: dict[int, list[str]] = {k: [] for k, is_text in enumerate(dialect.is_text) if is_text}
        self.notes: list[QualityNote] = []
        self.n_rows = self.n_dropped = 0
        self.n_text_cells: dict[int, int] = {}

    def add(self, block: bytes) -> None:
        n_lines = block.count(b"\n") + (not block.endswith(b"\n"))
        block, row_numbers = self._plain(block, n_lines)
        if not block.strip():
            self.next_row += n_lines
            return
        kept = self._check_lengths(block, row_numbers)
        frame = self._frame(block, self._schema())
        if kept is not None and frame.height == kept.size:
            frame, row_numbers = frame.filter(pl.Series(kept)), row_numbers[kept]
        self.n_rows += frame.height
        for k, column in enumerate(self.columns):
            series = frame.to_series(k)
            if column is None:
                self.texts[k] += series.fill_null("").to_list()
                continue
            self._note_unread(k, series, block, kept, row_numbers)
            column.add(self._numbers(series))
        self.next_row += n_lines

    def _plain(self, block: bytes, n_lines: int) -> tuple[bytes, "np.ndarray[tuple[int], np.dtype[np.int64]]"]:
        """The block without comments and empty lines, single blanks between cells; and the row of every line left."""
        rows = np.arange(self.next_row, self.next_row + n_lines)
        mark = self.dialect.comment.encode()
        has_comments = bool(mark) and (block.startswith(mark) or b"\n" + mark in block)
        if self.dialect.separator == BLANKS:
            block = re.sub(rb"(?m)^ | $", b"", re.sub(rb"[ \t]+", b" ", block))
        if has_comments or b"\n\n" in block or block.startswith(b"\n"):
            lines = block.split(b"\n")
            if block.endswith(b"\n"):
                lines.pop()
            keep = [bool(line.strip()) and not (has_comments and line.lstrip().startswith(mark)) for line in lines]
            block = b"\n".join(line for line, kept in zip(lines, keep, strict=True) if kept) + b"\n"
            rows = rows[np.array(keep, dtype=bool)]
        return block, rows

    def _check_lengths(self, block: bytes, rows: "np.ndarray[tuple[int], np.dtype[np.int64]]") -> BoolArray | None:
        """True for rows of the right length; None where all are. Quoted tables are left to the parser."""
        separator, wanted = self.dialect.separator.encode(), len(self.dialect.names) - 1
        if self.dialect.has_quotes or block.count(separator) == wanted * rows.size:
            return None
        text = np.frombuffer(block.rstrip(b"\n") + b"\n", dtype=np.uint8)
        ends = np.flatnonzero(text == ord("\n"))
        found = np.diff(np.searchsorted(np.flatnonzero(text == separator[0]), ends), prepend=0)
        # an extra separator at the end of every row is a common habit
        kept: BoolArray = (found == wanted) | ((found == wanted + 1) & (text[ends - 1] == separator[0]))
        for at in np.flatnonzero(~kept):
            self.n_dropped += 1
            if self.n_dropped <= _MOST_NOTES:
                n = int(found[at]) + 1
                detail = f"row {rows[at]}: {n} cell{'s' if n > 1 else ''}, {wanted + 1} expected; the row is left out"
                self.notes.append(QualityNote(code="row", severity="warning", detail=detail))
        return None if kept.all() else kept

    def _schema(self) -> dict[str, type[pl.DataType]]:
        kinds = zip(self.dialect.is_text, self.dialect.is_long_integer, strict=True)
        return {
            f"c{k}": pl.String if is_text else pl.Int64 if is_long else pl.Float64 for k, (is_text, is_long) in enumerate(kinds)
        }

    def _frame(self, block: bytes, schema: dict[str, type[pl.DataType]]) -> pl.DataFrame:
        try:
            return pl.read_csv(
                io.BytesIO(block),
                has_header=False,
                schema=schema,
                separator=self.dialect.separator,
                quote_char='"' if self.dialect.has_quotes else None,
                decimal_comma=self.dialect.has_decimal_comma,
                ignore_errors=True,
                truncate_ragged_lines=True,
                encoding="utf8-lossy",
            )
        except pl.exceptions.PolarsError as error:
            raise LogReadError(f"rows from {self.next_row} on cannot be read as a table: {str(error)[:120]}") from None

    def _numbers(self, series: pl.Series) -> FloatArray:
        values = series.cast(pl.Float64).fill_null(float("nan")).to_numpy()
        infinite = np.isinf(values)
        return np.where(infinite, np.nan, values) if infinite.any() else values

    def _note_unread(
        self, k: int, series: pl.Series, block: bytes, kept: BoolArray | None, rows: "np.ndarray[tuple[int], np.dtype[np.int64]]"
    ) -> None:
        """Tell the first cell of a column that is text, and count them all."""
        if not series.null_count():
            return
        cells = self._frame(block, dict.fromkeys(self._schema(), pl.String)).to_series(k).fill_null("").str.strip_chars()
        if kept is not None and cells.len() == kept.size:
            cells = cells.filter(pl.Series(kept))
        is_text = series.is_null() & ~cells.str.to_lowercase().is_in(["", "nan", "null", "none", "na", "n/a", "-", "--"])
        n = int(is_text.sum())
        if n and k not in self.n_text_cells:
            at = int(is_text.arg_true()[0])
            row = rows[at] if at < rows.size else self.next_row
            detail = f"row {row}: “{cells[at][:40]}” is no number; taken as missing"
            self.notes.append(QualityNote(code="text", severity="warning", column=self.dialect.names[k], detail=detail))
        if n:
            self.n_text_cells[k] = self.n_text_cells.get(k, 0) + n

    def finish(self, said: tuple[str, ...]) -> RawLog:
        if self.n_rows < 2:
            raise LogReadError(
                f"only {self.n_rows} row{'' if self.n_rows == 1 else 's'} of numbers below the header; at least two are expected"
            )
        if self.n_dropped > self.n_rows:
            raise LogReadError(f"{self.n_dropped} of {self.n_dropped + self.n_rows} rows have another length than the first ones")
        if self.n_dropped > _MOST_NOTES:
            detail = f"{self.n_dropped} rows of another length are left out in all"
            self.notes.append(QualityNote(code="row", severity="warning", detail=detail))
        columns = tuple(self._column(k) for k in range(len(self.columns)))
        return RawLog(
            format_key=KEY,
            tables=(RawTable(columns=columns),),
            rows_read=self.n_rows,
            rows_dropped=self.n_dropped,
            preamble=self.dialect.preamble,
            understood=(*said, *self.dialect.in_words()),
            notes=tuple(self.notes),
        )

    def _column(self, k: int) -> RawColumn:
        name, unit = self.dialect.names[k], self.dialect.units[k]
        column = self.columns[k]
        if column is None:
            return text_column(name, self.texts[k])
        samples, divisor = column.finish()
        return RawColumn(name=name, unit=unit, samples=samples, divisor=divisor)


def text_column(name: str, texts: list[str]) -> RawColumn:
    """Words as positions in a list of labels; beyond a thousand different ones the rest share a label."""
    labels = sorted(set(texts))
    if len(labels) > _MOST_LABELS:
        labels = [*labels[:_MOST_LABELS], "(other)"]
    position = {label: code for code, label in enumerate(labels)}
    codes = np.array([position.get(text, len(labels) - 1) for text in texts], dtype=np.int32)
    return RawColumn(name=name, unit="", samples=codes, labels=tuple(labels))
