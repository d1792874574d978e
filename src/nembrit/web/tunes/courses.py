"""Key numbers over a craft's flights as small pictures, the changes marked."""

from dataclasses import dataclass

from nembrit.core.trials.metrics import metric_kind, metric_label
from nembrit.web.bench.results import metrics_by_flight
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft

_KEYS = ("motion_noise.roll", "motor_roughness", "overshoot.roll", "tracking_error.roll")
_WING_KEYS = ("pull", "held_trim.roll", "sway", "off_line")
_MOST_FLIGHTS, _LEFT, _WIDE, _HIGH = 40, 6.0, 228.0, 46.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Dot:
    """One flight in a small picture."""

    x: float
    y: float
    number: int
    shown: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Course:
    """One number over the flights, oldest first."""

    label: str
    unit: str
    dots: tuple[Dot, ...]
    changes: tuple[float, ...]  # where settings or build change
    low: float
    high: float

    @property
    def line(self) -> str:
        return " ".join(f"{dot.x},{dot.y}" for dot in self.dots)

    @property
    def spoken(self) -> str:
        return ", ".join(f"flight {dot.number}: {dot.shown:.3g}" for dot in self.dots)


@while_unchanged
def courses_of(craft: Craft) -> list[Course]:
    """Key numbers of the newest forty flights, where two or more have them: noise and tracking, or a plane's trims and path."""
    flights = sorted(craft.flights.active()[:_MOST_FLIGHTS], key=lambda one: one.number)
    known = metrics_by_flight(flights)
    return [
        course
        for name in (_WING_KEYS if craft.kind == Craft.Kind.FIXED_WING else _KEYS)
        if (course := _course(name, flights, known)) is not None
    ]


def _course(name: str, flights: list[Flight], known: dict[int, dict[str, float]]) -> Course | None:
    kind = metric_kind(name)
    rows = [
        (flight, known[flight.pk][name] * (kind.factor if kind else 1.0))
        for flight in flights
        if name in known.get(flight.pk, {})
    ]
    if len(rows) < 2 or kind is None:
        return None
    values = [value for _, value in rows]
    low, high = min(values), max(values)
    step = _WIDE / (len(rows) - 1)
    dots = tuple(
        Dot(
            x=round(_LEFT + k * step, 1), y=round(_LEFT + (_HIGH - 2 * _LEFT) * (1 - (value - low) / ((high - low) or 1.0)), 1),
            number=flight.number, shown=value,
        )
        for k, (flight, value) in enumerate(rows)
    )  # fmt: skip
    states = [(flight.configuration_id, flight.build_entry_id) for flight, _ in rows]
    changes = tuple(round(_LEFT + (k + 0.5) * step, 1) for k in range(len(rows) - 1) if states[k] != states[k + 1])
    return Course(label=metric_label(name), unit=kind.unit, dots=dots, changes=changes, low=low, high=high)
