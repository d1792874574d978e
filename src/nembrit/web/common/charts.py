"""Chart specifications: what the browser's chart module draws, described without saying how.

`docs/architecture.md` (recipe "a new picture") explains the parts.
"""

import math
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

from django.http import HttpRequest, JsonResponse


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """One line. `look` names a style of the module: raw, filtered, before, after, setpoint, plain and more
    (`style.js`)."""

    label: str
    x: Sequence[float | None]
    y: Sequence[float | None]
    look: str = "plain"
    colour: str = "ink"  # ink, roll, pitch or yaw
    low: Sequence[float | None] | None = None  # an area around the line
    high: Sequence[float | None] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Band:
    """A marked range of the x axis."""

    start: float
    end: float
    label: str
    is_marked: bool = False  # highlighter: a finding rests on it


@dataclass(frozen=True, slots=True, kw_only=True)
class Mark:
    """A labelled point."""

    x: float
    y: float
    label: str
    is_marked: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Axis:
    """One axis with its unit and, where fixed, its range."""

    label: str
    unit: str
    low: float | None = None
    high: float | None = None
    from_x: float | None = None  # y axis: chosen by what lies right of here
    is_log: bool = False  # values are given as log10, and shown as what they stand for


@dataclass(frozen=True, slots=True, kw_only=True)
class Chart:
    """A whole picture. `title` is its spoken name and the stem of saved files."""

    title: str
    x: Axis
    y: Axis
    lines: list[Line]
    bands: list[Band] = field(default_factory=list)
    marks: list[Mark] = field(default_factory=list)
    is_small: bool = False  # lines are named beside it, not in it
    level: float | None = None  # a thin horizontal line, such as the target of a step

    def as_json(self) -> dict[str, Any]:
        return asdict(self)


def decibels(density: Sequence[float | None]) -> list[float | None]:
    """Density in dB; nothing for values that are missing or not above 0."""
    return [None if value is None or value <= 0 else round(10 * math.log10(value), 3) for value in density]


def sample_chart(request: HttpRequest) -> JsonResponse:
    """A chart with every part, for the style page."""
    x: list[float | None] = [float(k) for k in range(201)]
    wave: list[float | None] = [math.exp(-k / 60) * math.cos(k / 9) for k in range(201)]
    chart = Chart(
        title="Sample",
        x=Axis(label="time", unit="ms"),
        y=Axis(label="unit step", unit="1"),
        lines=[
            Line(label="before", x=x, y=[(v or 0) * 0.6 + 0.1 for v in wave], look="before"),
            Line(
                label="after", x=x, y=wave, look="after", low=[(v or 0) - 0.1 for v in wave], high=[(v or 0) + 0.1 for v in wave]
            ),
        ],
        bands=[Band(start=40, end=90, label="a band"), Band(start=110, end=130, label="marked", is_marked=True)],
        marks=[Mark(x=57, y=0.39, label="a point")],
        level=0.0,
    )
    return JsonResponse(chart.as_json())
