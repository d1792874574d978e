"""The form of a cause: everything that is known about one thing that can be wrong stands in one file of this form.

Every cause is judged by its own evidence only; `ranking.py` sets them against each other and against “clean”.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from nembrit.core.causes.sight import Sight
from nembrit.core.records.needs import Need

MECHANICAL, ELECTRICAL, TUNE = "mechanical", "electrical", "tune"
Values = Mapping[str, float]


LEAST_S = 4.0  # of flight, for any cause


@dataclass(frozen=True, slots=True, kw_only=True)
class Measured:
    """What a cause's measurement found; `values` may be read by other causes too, `seen` only by its own words."""

    values: dict[str, float] = field(default_factory=dict)
    seen: Any = None
    untested: str = ""  # what is missing and how to get it


@dataclass(frozen=True, slots=True, kw_only=True)
class Words:
    """What was measured, what it means, and the numbers; where it sits if that can be told."""

    highlight: str
    conclusion: str
    evidence: dict[str, float]
    axis: str | None = None
    motor: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Repair:
    """What to write into the build book when the fault is mended, and the number that must get better.

    `{axis}` and `{motor}` stand for where the fault sits.
    """

    part: str
    title: str
    button: str
    metric: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Shown:
    """A number that speaks for or against a cause, as its panel shows it."""

    name: str  # among the measured values
    label: str
    unit: str
    scale: float = 1.0  # from the value to the unit


@dataclass(frozen=True, slots=True, kw_only=True)
class Cause:
    """One thing that can be wrong; `evidence` gives numbers from 0 (nothing) up, None where it cannot be judged."""

    code: str
    kind: str
    name: str
    needs: Need  # below this it is not measured at all
    measure: Callable[[Sight], Measured]
    evidence: Callable[[Values], tuple[float, ...] | None]
    n_evidence: int
    words: Callable[[Values, Any], Words]
    look_alikes: tuple[tuple[str, str], ...]  # other cause → the test that tells them apart
    proof: str
    shows: tuple[Shown, ...]
    repair: Repair | None = None
    title: str = ""  # in place of the name, where findings are listed
    is_about_motors: bool = False  # told on the page of the motors too
    marks_order: int | None = None  # of the motors' speeds, in pictures
    marks_hz: tuple[float, float] | None = None  # a band, in pictures of roll and pitch
    is_only_a_sign: Callable[[Values], bool] = lambda values: False  # likely, yet not worth acting on by itself


def over(value: float, start: float, unit: float, most: float = 4.0) -> float:
    """0 up to `start`, then one for every `unit` more.

    >>> over(5.0, 3.0, 2.0), over(1.0, 3.0, 2.0)
    (1.0, 0.0)
    """
    return float(np.clip((value - start) / unit, 0.0, most))


def or_neutral(v: Values, name: str, neutral: float) -> float:
    """A number, or the value that neither blames nor clears where it was not measured."""
    return v.get(name, neutral)


def log2(value: float) -> float:
    return float(np.log2(max(value, 1e-6)))


def within_limits(v: Values) -> float:
    """0 where the motors were at their limits for most of the flight: then neither I nor idle can be judged."""
    return 1 - float(np.clip((v["lost_share"] - 0.5) / 0.25, 0.0, 1.0)) if "lost_share" in v else 1.0
