"""Apache Parquet: one table; columns keep their types, ``role [unit]`` headers mean what they say."""

import io

import numpy as np
import polars as pl

from nembrit.core.errors import LogReadError
from nembrit.core.formats.compact import exact_integers
from nembrit.core.formats.guard import readable
from nembrit.core.formats.source import Source
from nembrit.core.formats.table import MOST_COLUMNS, text_column
from nembrit.core.progress import Progress, no_progress
from nembrit.core.records.log import QualityNote
from nembrit.core.records.raw import RawColumn, RawLog, RawTable
from nembrit.core.records.units import split_header

KEY = "parquet"
LABEL = "Apache Parquet"
MOST_VALUES = 150_000_000  # 1.2 GB as numbers of eight bytes: an hour of forty channels at 1 kHz
_MAGIC = b"PAR1"
_MOST_TEXT = 200  # characters of a word in a text column; more is no mode and no event


def matches(head: bytes) -> bool:
    return head.startswith(_MAGIC)


def check_head(head: bytes) -> None:
    """Nothing more can be told from the first bytes."""


def check_size(content: bytes) -> None:
    """Refuse what would unpack beyond all measure: its own description says how many numbers there are, before any is read.

    Raises LogReadError, also for a file that is cut off or damaged.
    """
    if not content.endswith(_MAGIC):
        raise LogReadError("this Parquet file is cut off: its end is missing")
    with readable("this Parquet file"):
        described = pl.scan_parquet(io.BytesIO(content))
        n_columns = len(described.collect_schema())
        n_rows = int(described.select(pl.len()).collect().item())
    if n_columns > MOST_COLUMNS:
        raise LogReadError(f"{n_columns} columns; at most {MOST_COLUMNS} can be read")
    if n_rows * n_columns > MOST_VALUES:
        millions = f"{n_rows * n_columns / 1e6:.0f} million numbers; at most {MOST_VALUES / 1e6:.0f} million"
        raise LogReadError(f"this Parquet file unpacks to {millions} can be read: split it first")


def read(source: Source, *, progress: Progress = no_progress, n_bytes: int | None = None) -> RawLog:
    """Read all columns that hold numbers or words. Raises LogReadError for a broken file."""
    content = source.all()
    progress("reading the columns", 0.0)
    check_size(content)
    with readable("this Parquet file"):
        frame = pl.read_parquet(io.BytesIO(content))
    if frame.height < 2:
        raise LogReadError(f"only {frame.height} rows; at least two are expected")
    columns, notes = [], []
    for k, series in enumerate(frame):
        progress(f"understanding column {k + 1} of {frame.width}", k / frame.width)
        column = _column(series)
        if column is None:
            detail = f"holds {series.dtype}, neither numbers nor words; left out"
            notes.append(QualityNote(code="column", severity="warning", column=series.name, detail=detail))
        else:
            columns.append(column)
    if not columns:
        raise LogReadError("this Parquet file holds no columns of numbers")
    return RawLog(format_key=KEY, tables=(RawTable(columns=tuple(columns)),), rows_read=frame.height, notes=tuple(notes))


def _column(series: pl.Series) -> RawColumn | None:
    name, unit = split_header(series.name or "column")
    kind = series.dtype
    if kind.is_temporal():
        if kind == pl.Date:
            return None
        nanoseconds = series.cast(pl.Int64)
        per_s = {"ms": 1e3, "us": 1e6, "ns": 1e9}.get(getattr(kind, "time_unit", "ns") or "ns", 1e9)
        return RawColumn(name=name, unit="s", samples=nanoseconds.fill_null(0).to_numpy().astype(np.int64), divisor=per_s)
    if kind in (pl.String, pl.Categorical, pl.Enum):
        return text_column(name, series.cast(pl.String).str.slice(0, _MOST_TEXT).fill_null("").to_list())
    if kind == pl.Boolean or kind.is_integer() or kind.is_float():
        values = series.cast(pl.Float64).fill_null(float("nan")).to_numpy()
        samples, divisor = exact_integers(np.where(np.isinf(values), np.nan, values))
        return RawColumn(name=name, unit=unit, samples=samples, divisor=divisor)
    return None
