"""Tables as a reader hands them over: columns with names and numbers, nobody yet knows what they mean."""

from dataclasses import dataclass
from datetime import datetime

import numpy as np

from nembrit.core.records.log import QualityNote
from nembrit.core.types import AnyArray, FloatArray


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RawColumn:
    """One column as written: number = samples / divisor; a text column's samples are positions in `labels`."""

    name: str  # header text without its unit
    unit: str  # unit as the file states it, "" where it does not
    samples: AnyArray  # (n_rows,)
    divisor: float = 1.0
    labels: tuple[str, ...] | None = None
    counted_from: datetime | None = None  # for times: the moment of the number 0, where the file states it

    def numbers(self, *, first: int = 0, last: int | None = None) -> FloatArray:
        """The numbers as written, all or those of some rows; missing ones are NaN."""
        numbers = self.samples[first:last].astype(np.float64)
        return numbers / self.divisor if self.divisor != 1.0 else numbers


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RawTable:
    """Columns that share rows; a file of mixed rates holds several."""

    columns: tuple[RawColumn, ...]
    name: str = ""

    @property
    def n_rows(self) -> int:
        return int(self.columns[0].samples.size) if self.columns else 0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RawLog:
    """What a reader found in a file."""

    format_key: str
    tables: tuple[RawTable, ...]
    rows_read: int
    rows_dropped: int = 0
    preamble: tuple[tuple[str, str], ...] = ()  # key–value lines before the table, as written
    understood: tuple[str, ...] = ()  # what the reader found out about the form, in words
    notes: tuple[QualityNote, ...] = ()
    started_at: datetime | None = None  # moment of the first row, where the file states it; without a zone if it has none
