"""Tables of text in any dialect: read block by block, so that large files need little memory.

Rows are counted as a text editor does, from 1 and with the header. What can be kept is kept: a row of
wrong length is left out and told, text among numbers is a missing value and told.
"""

import re
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import datetime, timedelta

import numpy as np
import polars as pl

from nembrit.core.errors import LogReadError
from nembrit.core.formats.calendar import seconds_of
from nembrit.core.formats.compact import Block, CompactColumn, compacted, exact_integers
from nembrit.core.formats.dialect import BLANKS, TextDialect, dialect_of
from nembrit.core.formats.guard import readable
from nembrit.core.formats.source import HEAD_BYTES, Source
from nembrit.core.formats.text import as_utf8, count_of, encoding_of
from nembrit.core.progress import Progress, no_progress
from nembrit.core.records.log import QualityNote
from nembrit.core.records.raw import RawColumn, RawLog, RawTable
from nembrit.core.together import together
from nembrit.core.types import BoolArray, FloatArray, IntArray

KEY = "table"
LABEL = "a table of text"
MOST_COLUMNS = 400
_HEAD_LINES = 400
_BLOCK_BYTES = 8 * 1024 * 1024
_MOST_NOTES = 6
_NO_VALUE = ("", "nan", "null", "none", "na", "n/a", "-", "--")
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
        raise LogReadError("the file is empty; expected a header and at least two rows of numbers")
    text, _ = as_utf8(head)
    _dialect(text)


def read(source: Source, *, progress: Progress = no_progress, n_bytes: int | None = None) -> RawLog:
    """Read a whole table. Raises LogReadError with the row and what was expected where there is none.

    `n_bytes` is the size of the file where it is known, for the progress alone.
    """
    if not source.head.strip():
        raise LogReadError("the file is empty; expected a header and at least two rows of numbers")
    progress("finding out how the table is written", 0.0)
    encoding, mark = encoding_of(source.head[:65536])
    is_plain = encoding == "utf-8" and not (b"\r" in source.head and b"\n" not in source.head)
    if is_plain:
        dialect, blocks = _dialect(source.head), source.lines(_BLOCK_BYTES)
    else:
        text, _ = as_utf8(source.all())
        dialect, blocks, mark = _dialect(text), Source(text).lines(_BLOCK_BYTES), 0
    if len(dialect.names) > MOST_COLUMNS:
        raise LogReadError(f"row {dialect.first_data_line + 1}: {len(dialect.names)} columns; at most {MOST_COLUMNS} can be read")
    table = _Table(dialect)
    done = 0
    for number, part in enumerate(_parsed(table, blocks, mark)):
        table.merge(part)
        done += part.n_bytes
        progress("reading the numbers", done / n_bytes if n_bytes else 1 - 0.9**number)
    said = {"cp1252": "Western European letters", "utf-16-le": "UTF-16", "utf-16-be": "UTF-16", "utf-8": ""}.get(
        encoding, encoding
    )
    return table.finish((said,) if said else ())


def _dialect(text: bytes) -> TextDialect:
    """The dialect, from the first whole lines of UTF-8 text."""
    head = text[:HEAD_BYTES].decode("utf-8-sig", errors="replace").replace("\r\n", "\n").replace("\r", "\n")
    if len(text) >= HEAD_BYTES and "\n" in head:
        head = head[: head.rfind("\n")]
    return dialect_of("\n".join(head.split("\n")[:_HEAD_LINES]))


def _parsed(table: "_Table", blocks: Iterator[bytes], mark: int) -> Iterator["_Part"]:
    """Parse blocks on two threads, in order, never more than three ahead."""
    skip, row = table.dialect.first_data_line, 1
    waiting: deque[Future[_Part]] = deque()
    with ThreadPoolExecutor(max_workers=2) as pool:
        for block in blocks:
            if mark:
                block, mark = block[mark:], 0
            if b"\r" in block:
                block = block.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
            if not block.endswith(b"\n"):
                block += b"\n"
            n_lines = count_of(block, b"\n")
            first_row, row = row, row + n_lines
            if skip:
                n_skipped = min(skip, n_lines)
                block, first_row, skip = block[_line_start(block, n_skipped) :], first_row + n_skipped, skip - n_skipped
                n_lines -= n_skipped
            if n_lines:
                waiting.append(pool.submit(table.parse, block, first_row, n_lines))
            if len(waiting) > 3:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()


def _line_start(text: bytes, line: int) -> int:
    at = 0
    for _ in range(line):
        end = text.find(b"\n", at)
        if end < 0:
            return len(text)
        at = end + 1
    return at


@dataclass(slots=True, kw_only=True)
class _Part:
    """What one block held: its columns, and what was wrong with it."""

    n_bytes: int
    n_rows: int = 0
    numbers: dict[int, Block] = field(default_factory=dict)
    texts: dict[int, list[str]] = field(default_factory=dict)
    notes: list[QualityNote] = field(default_factory=list)
    n_dropped: int = 0
    text_cells: dict[int, QualityNote] = field(default_factory=dict)  # the first cell of a column that is no number


class _Table:
    """Parses blocks, on any thread, and gathers their parts in order."""

    def __init__(self, dialect: TextDialect) -> None:
        self.dialect = dialect
        self.columns = {k: CompactColumn() for k, is_text in enumerate(dialect.is_text) if not is_text}
        self.texts: dict[int, list[str]] = {k: [] for k, is_text in enumerate(dialect.is_text) if is_text}
        self.notes: list[QualityNote] = []
        self.n_rows = self.n_dropped = self.n_irregular = 0
        self.told: set[int] = set()
        kinds = zip(dialect.is_text, dialect.is_long_integer, strict=True)
        self.schema: dict[str, type[pl.DataType]] = {
            f"c{k}": pl.String if is_text else pl.Int64 if is_long else pl.Float64 for k, (is_text, is_long) in enumerate(kinds)
        }

    def parse(self, block: bytes, first_row: int, n_lines: int) -> _Part:
        """One block of whole lines, the first of which is row `first_row`."""
        part = _Part(n_bytes=len(block))
        rows, kept = np.arange(first_row, first_row + n_lines), None
        frame = self._regular(block, n_lines)
        if frame is None:
            block, rows = self._plain(block, rows)
            if rows.size == 0:
                return part
            kept = self._check_lengths(block, rows, part)
            frame = self._frame(block, self.schema, first_row)
            if kept is not None and frame.height == kept.size:
                frame, rows = frame.filter(pl.Series(kept)), rows[kept]
            else:
                kept = None
        part.n_rows = frame.height
        for k in range(frame.width):
            series = frame.to_series(k)
            if k in self.texts:
                part.texts[k] = series.fill_null("").to_list()
                continue
            if series.null_count():
                self._find_text(k, series, block, kept, rows, part)
            part.numbers[k] = compacted(_numbers(series), least_decimals=self.columns[k].decimals)
        return part

    def _regular(self, block: bytes, n_lines: int) -> pl.DataFrame | None:
        """A block parsed as it stands; None unless it shows that all its lines are rows of the right length.

        Too long a row is an error here, too short a row lacks its last cell, and a comment or an empty line
        has no number in front. Blocks that fail are looked at line by line, and after a few no more are tried.
        """
        if self.dialect.separator == BLANKS or self.dialect.is_text[0] or len(block) < 64 or self.n_irregular > 2:
            return None
        try:
            frame = self._parsed(block, self.schema, cuts_long_rows=False)
        except (pl.exceptions.PolarsError, ValueError):
            frame = None
        if frame is None or frame.height != n_lines or frame[:, 0].null_count() or frame[:, -1].null_count():
            self.n_irregular += 1
            return None
        return frame

    def _plain(self, block: bytes, rows: IntArray) -> tuple[bytes, IntArray]:
        """The block without comments and empty lines, single blanks between cells; and the row of every line left."""
        mark = self.dialect.comment.encode()
        has_comments = bool(mark) and (block.startswith(mark) or b"\n" + mark in block)
        if self.dialect.separator == BLANKS:
            block = re.sub(rb"(?m)^ | $", b"", re.sub(rb"[ \t]+", b" ", block))
        if has_comments or b"\n\n" in block or block.startswith(b"\n") or len(block) < 64:
            lines = block.split(b"\n")[:-1]
            keep = [bool(line.strip()) and not (has_comments and line.lstrip().startswith(mark)) for line in lines]
            block = b"\n".join(line for line, kept in zip(lines, keep, strict=True) if kept) + b"\n"
            rows = rows[np.array(keep, dtype=bool)]
        return block, rows

    def _check_lengths(self, block: bytes, rows: IntArray, part: _Part) -> BoolArray | None:
        """True for rows of the right length; None where all are. Quoted tables are left to the parser."""
        separator, wanted = self.dialect.separator.encode(), len(self.dialect.names) - 1
        if self.dialect.has_quotes or not separator:
            return None
        text = np.frombuffer(block.rstrip(b"\n") + b"\n", dtype=np.uint8)
        ends = np.flatnonzero(text == ord("\n"))
        found = np.diff(np.searchsorted(np.flatnonzero(text == separator[0]), ends), prepend=0)
        # an extra separator at the end of every row is a common habit
        kept: BoolArray = (found == wanted) | ((found == wanted + 1) & (text[ends - 1] == separator[0]))
        wrong = np.flatnonzero(~kept)
        part.n_dropped = int(wrong.size)
        for at in wrong[:_MOST_NOTES]:
            n = int(found[at]) + 1
            detail = f"row {rows[at]}: {n} cell{'s' if n > 1 else ''}, {wanted + 1} expected; the row is left out"
            part.notes.append(QualityNote(code="row", severity="warning", detail=detail))
        return kept if wrong.size else None

    def _frame(self, block: bytes, schema: dict[str, type[pl.DataType]], first_row: int) -> pl.DataFrame:
        # the parser takes the first row's length for that of all; an empty row of the right one goes before
        first = self.dialect.separator.encode() * (len(self.dialect.names) - 1) + b"\n"
        with readable(f"the table from row {first_row} on"):
            return self._parsed(first + block, schema, cuts_long_rows=True)[1:]

    def _parsed(self, block: bytes, schema: dict[str, type[pl.DataType]], *, cuts_long_rows: bool) -> pl.DataFrame:
        return pl.read_csv(
            block,
            has_header=False,
            schema=schema,
            separator=self.dialect.separator,
            quote_char='"' if self.dialect.has_quotes else None,
            decimal_comma=self.dialect.has_decimal_comma,
            ignore_errors=True,
            truncate_ragged_lines=cuts_long_rows,
            encoding="utf8-lossy",
        )

    def _find_text(self, k: int, series: pl.Series, block: bytes, kept: BoolArray | None, rows: IntArray, part: _Part) -> None:
        """Tell the first cell of a column of numbers that is text."""
        cells = (
            self._frame(block, dict.fromkeys(self.schema, pl.String), int(rows[0])).to_series(k).fill_null("").str.strip_chars()
        )
        if kept is not None:
            cells = cells.filter(pl.Series(kept))
        is_text = series.is_null() & ~cells.str.to_lowercase().is_in(_NO_VALUE)
        if not is_text.any():
            return
        at = int(is_text.arg_true()[0])
        row = rows[at] if at < rows.size else rows[-1]
        detail = f"row {row}: “{cells[at][:40]}” is not a number; treated as missing"
        part.text_cells[k] = QualityNote(code="text", severity="warning", column=self.dialect.names[k], detail=detail)

    def merge(self, part: _Part) -> None:
        """Take the next part, in the order of the file."""
        self.n_rows += part.n_rows
        room = max(0, _MOST_NOTES - self.n_dropped)
        self.notes += part.notes[:room]
        self.n_dropped += part.n_dropped
        for k, block in part.numbers.items():
            self.columns[k].add(block)
        for k, texts in part.texts.items():
            self.texts[k] += texts
        for k, note in part.text_cells.items():
            if k not in self.told:
                self.told.add(k)
                self.notes.append(note)

    def finish(self, said: tuple[str, ...]) -> RawLog:
        if self.n_rows < 2:
            raise LogReadError(
                f"only {self.n_rows} row{'' if self.n_rows == 1 else 's'} of numbers below the header; at least two are expected"
            )
        if self.n_dropped > self.n_rows:
            raise LogReadError(f"{self.n_dropped} of {self.n_dropped + self.n_rows} rows differ in length from the first ones")
        if self.n_dropped > _MOST_NOTES:
            detail = f"{self.n_dropped} rows of a different length are left out in total"
            self.notes.append(QualityNote(code="row", severity="warning", detail=detail))
        columns = tuple(together(self._column, range(len(self.dialect.names))))
        return RawLog(
            format_key=KEY,
            tables=(RawTable(columns=columns),),
            rows_read=self.n_rows,
            rows_dropped=self.n_dropped,
            preamble=self.dialect.preamble,
            understood=(*said, *self.dialect.in_words()),
            notes=tuple(self.notes),
            started_at=next((began for began in map(_began, columns) if began), None),
        )

    def _column(self, k: int) -> RawColumn:
        name, unit = self.dialect.names[k], self.dialect.units[k]
        if k in self.texts:
            return text_column(name, self.texts.pop(k))
        samples, divisor = self.columns.pop(k).finish()
        return RawColumn(name=name, unit=unit, samples=samples, divisor=divisor)


def _began(column: RawColumn) -> datetime | None:
    """The moment of the first row, where a column of times states it."""
    first = float(column.numbers(last=1)[0]) if column.counted_from else np.nan
    return column.counted_from + timedelta(seconds=first) if column.counted_from and np.isfinite(first) else None


def _numbers(series: pl.Series) -> FloatArray:
    """A column as float64; missing and infinite values are NaN."""
    if series.dtype != pl.Float64:
        series = series.cast(pl.Float64)
    values = (series.fill_null(float("nan")) if series.null_count() else series).to_numpy()
    return np.where(np.isinf(values), np.nan, values) if not np.isfinite(values.sum()) else values


def text_column(name: str, texts: list[str]) -> RawColumn:
    """Times of day as seconds; other words as positions in a list of labels, of which those beyond a thousand share one."""
    clock = seconds_of(texts)
    if clock is not None:
        samples, divisor = exact_integers(clock[0])
        return RawColumn(name=name, unit="s", samples=samples, divisor=divisor, counted_from=clock[1])
    labels = sorted(set(texts))
    if len(labels) > _MOST_LABELS:
        labels = [*labels[:_MOST_LABELS], "(other)"]
    position = {label: code for code, label in enumerate(labels)}
    codes = np.array([position.get(text, len(labels) - 1) for text in texts], dtype=np.int32)
    return RawColumn(name=name, unit="", samples=codes, labels=tuple(labels))
