"""What one sum consists of: fields to fill in, an answer, rows, its formula and its source."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from nembrit.web.common.charts import Chart


@dataclass(frozen=True, slots=True, kw_only=True)
class Box:
    """One number to fill in; `value` is what the craft says, or a usual value."""

    name: str
    label: str
    value: float
    from_craft: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Answer:
    """What comes out, the answer first."""

    headline: str
    rows: tuple[tuple[str, str], ...] = ()
    notes: tuple[str, ...] = ()
    chart: Chart | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Sheet:
    """One sum: how it is filled in and worked out."""

    key: str
    title: str
    boxes: Sequence[Box]
    work: Callable[[Mapping[str, float]], Answer]
    formula: str
    source: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Filled:
    """A box with what was typed."""

    box: Box
    text: str

    @property
    def name(self) -> str:
        return self.box.name


@dataclass(frozen=True, slots=True, kw_only=True)
class Sum:
    """One sum as the page shows it."""

    sheet: Sheet
    filled: list[Filled]
    answer: Answer | None
    problem: str = ""
    is_open: bool = False

    @property
    def chart(self) -> dict[str, Any] | None:
        return self.answer.chart.as_json() if self.answer is not None and self.answer.chart is not None else None

    @property
    def chart_id(self) -> str:
        return f"chart-{self.sheet.key}"
