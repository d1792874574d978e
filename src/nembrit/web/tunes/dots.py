"""Every flight of a trial as a dot, per side, for the metric that judges and the harm limits."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.trials.counting import Standing
from nembrit.core.trials.metrics import MetricKind, mean_of, metric_kind, metric_label
from nembrit.core.trials.plan import Plan

_LEFT, _WIDTH = 34.0, 196.0  # of a picture 240 wide
_ROWS = {False: 12.0, True: 28.0}
_LABEL = 5.8  # what a flight's number of two digits takes


@dataclass(frozen=True, slots=True, kw_only=True)
class Dot:
    """One flight in one picture."""

    number: int
    x: float
    y: float
    label_x: float  # beside its neighbours' numbers, not on them
    is_after: bool
    counts: bool
    shown: str


@dataclass(frozen=True, slots=True, kw_only=True)
class DotRow:
    """One metric: its flights on one scale, the means of those that count, and the edge that must not be passed."""

    label: str
    role: str  # judges, or must not get worse by more than so much
    dots: tuple[Dot, ...]
    means: tuple[tuple[float, float], ...]  # x, y
    edge_x: float | None
    low: str
    high: str
    spoken: str


def dot_rows(standing: Sequence[Standing], plan: Plan) -> list[DotRow]:
    """The judging metric first, then each harm limit; metrics that no flight has are left out."""
    wanted = [(plan.primary.metric, None), *((limit.metric, limit.most) for limit in plan.limits)]
    rows = [_row(standing, name, most) for name, most in wanted]
    return [row for row in rows if row is not None]


def _row(standing: Sequence[Standing], name: str, most: float | None) -> DotRow | None:
    kind = metric_kind(name)
    have = [one for one in standing if name in one.flight.metrics and one.state not in ("twice",)]
    if kind is None or not have:
        return None
    values = {one.flight.number: one.flight.metrics[name] for one in have}
    means = {side: mean_of([values[one.flight.number] for one in _on(have, side) if one.counts], kind) for side in _ROWS}
    edge = _edge(means[False], kind, most)
    ends = [*values.values(), *([edge] if edge is not None else [])]
    low, high = min(ends), max(ends)
    reach = (high - low) or abs(high) or 1.0

    def x(value: float) -> float:
        return round(_LEFT + _WIDTH * (value - low) / reach, 2)

    def shown(value: float) -> str:
        return f"{value * kind.factor:.3g} {kind.unit}"

    label_x = {
        number: at
        for side in _ROWS
        for number, at in apart({one.flight.number: x(values[one.flight.number]) for one in _on(have, side)}).items()
    }

    def dot(one: Standing) -> Dot:
        flight, value = one.flight, values[one.flight.number]
        return Dot(
            number=flight.number, x=x(value), y=_ROWS[flight.is_after], label_x=label_x[flight.number], is_after=flight.is_after,
            counts=one.counts, shown=shown(value),
        )  # fmt: skip

    def told(side: bool) -> str:
        return ", ".join(f"flight {one.flight.number} {shown(values[one.flight.number])}" for one in _on(have, side)) or "none"

    return DotRow(
        label=metric_label(name),
        role="judges" if most is None else f"at most {most * 100:g} {'points' if kind.scale == 'linear' else '%'} worse",
        dots=tuple(dot(one) for one in have),
        means=tuple((x(mean), _ROWS[side]) for side, mean in means.items() if mean is not None),
        edge_x=None if edge is None else x(edge),
        low=f"{low * kind.factor:.3g}",
        high=shown(high),
        spoken=f"before: {told(False)}; after: {told(True)}",
    )


def apart(places: dict[int, float]) -> dict[int, float]:
    """Where numbers can be read beside each other: pushed to the right where they would meet, then all back by half of it."""
    order = sorted(places, key=lambda number: places[number])
    found: dict[int, float] = {}
    cluster: list[int] = []

    def settle() -> None:
        over = found[cluster[-1]] - places[cluster[-1]] if cluster else 0.0
        for number in cluster:
            found[number] = round(found[number] - over / 2, 2)
        cluster.clear()

    for number in order:
        near = cluster and places[number] < found[cluster[-1]] + _LABEL
        if not near:
            settle()
        found[number] = found[cluster[-1]] + _LABEL if near else places[number]
        cluster.append(number)
    settle()
    return found


def _on(standing: Sequence[Standing], side: bool) -> list[Standing]:
    return [one for one in standing if one.flight.is_after == side]


def _edge(before: float | None, kind: MetricKind, most: float | None) -> float | None:
    """The value beyond which a harm limit is broken."""
    if before is None or most is None:
        return None
    worse = 1.0 if kind.better == "lower" else -1.0
    return before + worse * most if kind.scale == "linear" else before * (1 + most) ** worse
