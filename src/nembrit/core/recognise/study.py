"""One table under study: its columns' names, numbers, and what is thought of each so far."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.recognise import scales
from nembrit.core.recognise.clock import clock_of_table
from nembrit.core.recognise.names import NameGuess, guesses_of
from nembrit.core.recognise.notes import notes_of
from nembrit.core.records.raw import RawColumn, RawTable
from nembrit.core.records.relations import held, middle_rows
from nembrit.core.records.units import Unit, unit_for, units_of
from nembrit.core.types import FloatArray

_CLOCK_ROWS = 200_000
_ONLY_AN_AXIS = 0.45


@dataclass(slots=True)
class Draft:
    """What is thought of one column so far."""

    column: RawColumn
    guess: NameGuess
    role: str
    factor: float = 1.0
    offset: float = 0.0
    confidence: float = 0.0
    reason: str = ""
    has_stated_unit: bool = False

    def scaled(self, numbers: FloatArray) -> FloatArray:
        return numbers * self.factor + self.offset

    def doubt(self, confidence: float, reason: str) -> None:
        self.confidence, self.reason = min(self.confidence, confidence), f"{self.reason}; {reason}"

    def take(self, scale: scales.Scale) -> None:
        self.factor, self.offset = scale.factor, scale.offset
        self.confidence = min(self.confidence, scale.confidence)
        self.reason = f"{self.reason}; {scale.reason}"


class Study:
    """The table and what is thought of its columns."""

    def __init__(self, table: RawTable, preamble: tuple[tuple[str, str], ...], rates_hz: tuple[float, ...]) -> None:
        self.table, self.preamble, self.notes = table, preamble, notes_of(preamble)
        names = tuple(column.name for column in table.columns)
        self.guesses = guesses_of(names, tuple(column.unit for column in table.columns))
        self.clock = clock_of_table(table, self.guesses, rates_hz)
        self.rate_hz = self._rate_hz(rates_hz)
        self.numbers: dict[int, FloatArray] = {}
        self.drafts: dict[int, Draft] = {}

    def _rate_hz(self, rates_hz: tuple[float, ...]) -> float:
        if self.clock.rate_hz:
            return self.clock.rate_hz
        if self.clock.column is not None and self.clock.unit_s:
            numbers = self.table.columns[self.clock.column].numbers(last=_CLOCK_ROWS)
            steps = np.diff(numbers[np.isfinite(numbers)])
            usual = float(steps[steps > 0].sum() / steps.size) if (steps > 0).any() else 1.0
            return 1 / max(usual * self.clock.unit_s, 1e-6)
        return rates_hz[0] if rates_hz else 1000.0

    def of(self, *families: str) -> list[int]:
        return [k for k, draft in self.drafts.items() if draft.role.removeprefix("b/").split(".")[0] in families]

    def undrafted(self) -> list[int]:
        """Columns of numbers that no name explains."""
        return [
            k
            for k, column in enumerate(self.table.columns)
            if k not in self.drafts and k != self.clock.column and column.labels is None and not quantity_stated(column)
        ]

    def barely_drafted(self) -> list[int]:
        """Columns of whose meaning the name tells an axis only, without a unit."""
        return [k for k, draft in self.drafts.items() if draft.guess.confidence <= _ONLY_AN_AXIS and not draft.column.unit]

    def draft(self, k: int, role: str, confidence: float, reason: str) -> None:
        first, last = middle_rows(self.table.n_rows)
        column = self.table.columns[k]
        self.drafts[k] = Draft(column=column, guess=self.guesses[k], role=role, confidence=confidence, reason=reason)
        self.numbers[k] = held(column.numbers(first=first, last=last))

    def middle(self, k: int) -> FloatArray:
        """The numbers of a column, as written, in the middle of the table."""
        first, last = middle_rows(self.table.n_rows)
        return held(self.table.columns[k].numbers(first=first, last=last))


def quantity_stated(column: RawColumn) -> bool:
    """True where the file states a unit that settles what kind of quantity a column is."""
    kinds = {unit.quantity for unit in units_of(column.unit)} - {"raw", "share", "pulse", "time", "rate", "frequency", "speed"}
    return bool(kinds)


def rotor_unit(text: str) -> Unit | None:
    """The unit of a motor's speed where a file states one that means other things elsewhere."""
    if text.lower() == "hz":
        return unit_for("hz_rotor", "speed")
    rate = unit_for(text, "rate") if text else None
    return Unit(quantity="speed", factor=rate.factor / 6) if rate else None  # deg/s to rpm
