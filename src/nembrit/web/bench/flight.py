"""What the page of a flight says of its results."""

from dataclasses import dataclass
from typing import Any

from nembrit.core.analysis.run import FlightResults
from nembrit.core.causes.table import CAUSES
from nembrit.core.noise.bands import BandLevel
from nembrit.core.types import AXES
from nembrit.web.bench.results import metrics_by_flight
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight

_NOTEWORTHY_OVERSHOOT = 0.1


@dataclass(frozen=True, slots=True, kw_only=True)
class NoiseRow:
    """One axis of the noise table: bands with intervals, the flight before, the craft's best."""

    axis: str
    bands: dict[str, BandLevel]
    filtered: dict[str, BandLevel] | None
    change_ratio: float | None
    best_dps: float | None


def noise_rows(flight: Flight, results: FlightResults) -> tuple[list[NoiseRow], Flight | None]:
    """The noise table, with the change since the craft's flight before this one."""
    others = list(flight.craft.flights.active().exclude(pk=flight.pk))
    metrics = metrics_by_flight(others)
    previous = next((other for other in others if other.number < flight.number and other.pk in metrics), None)
    rows = []
    for axis, noise in (results.noise.axes if results.noise else {}).items():
        if not noise.shown:
            continue
        name = f"motion_noise.{axis}"
        now = results.metrics.values.get(name) if results.metrics else None
        before = metrics[previous.pk].get(name) if previous else None
        every = [found[name] for found in metrics.values() if name in found] + ([now] if now else [])
        rows.append(
            NoiseRow(
                axis=axis,
                bands=noise.shown.bands,
                filtered=noise.filtered.bands if noise.raw and noise.filtered else None,
                change_ratio=now / before - 1 if now and before else None,
                best_dps=min(every) if every else None,
            )
        )
    return rows, previous


def is_measured(rows: list[NoiseRow], results: FlightResults) -> bool:
    """Whether the log was fast enough for noise or response to show anything, on any axis."""
    levels = [level.rms_dps for row in rows for level in row.bands.values()]
    return any(level is not None for level in levels) or bool(results.response and results.response.steps)


@dataclass(frozen=True, slots=True, kw_only=True)
class MetricHistory:
    """One metric over a craft's flights, as points of a small picture of 600 by 90."""

    points: tuple[dict[str, Any], ...] = ()
    line: str = ""
    low: float = 0.0
    high: float = 0.0
    spoken: str = ""


@while_unchanged
def history_of(flight: Flight, metric: str) -> MetricHistory:
    """The craft's own history of a metric, oldest first, at most 40 flights."""
    flights = sorted(flight.craft.flights.active(), key=lambda one: one.number)[-40:]
    known = metrics_by_flight(flights)
    values = [(one, known[one.pk][metric]) for one in flights if metric in known.get(one.pk, {})]
    if len(values) < 2:
        return MetricHistory()
    low, high = min(value for _, value in values), max(value for _, value in values)
    points = tuple(
        {
            "x": round(10 + 580 * k / (len(values) - 1), 1),
            "y": round(80 - 70 * (value - low) / ((high - low) or 1.0), 1),
            "number": one.number,
            "value": value,
            "is_this": one.pk == flight.pk,
        }
        for k, (one, value) in enumerate(values)
    )
    spoken = ", ".join(f"{one.number}: {value:.1f}" for one, value in values)
    return MetricHistory(points=points, line=" ".join(f"{p['x']},{p['y']}" for p in points), low=low, high=high, spoken=spoken)


def headline(results: FlightResults) -> str:
    """The page's title: the main finding in a sentence."""
    judgement, response, noise, metrics = results.judgement, results.response, results.noise, results.metrics
    if judgement and judgement.faults:
        return judgement.faults[0].summary.rstrip(".")
    overshoots = {axis: step.overshoot_ratio for axis, step in (response.steps if response else {}).items()}
    if overshoots:
        axis, most = max(overshoots.items(), key=lambda pair: pair[1])
        follow = "every axis follows with little overshoot"
        if most >= _NOTEWORTHY_OVERSHOOT:
            follow = f"{axis} overshoots most, by {100 * most:.0f} %"
        n_untested = len(CAUSES) if judgement is None else len(judgement.untested)
        if n_untested > len(CAUSES) / 2:
            return follow[0].upper() + follow[1:]
        checks = f" ({n_untested} check{'' if n_untested == 1 else 's'} not possible)" if n_untested else ""
        return f"No problem found{checks}; {follow}"
    if noise and noise.is_there:
        if not any(name.startswith("motion_noise") for name in (metrics.values if metrics else {})):
            return "This log is too slow to measure noise; log at 1 kHz or more"
        return "Noise measured; the response could not be judged from this flight"
    return "This log is not enough for this page"


def certainty(results: FlightResults) -> str:
    """How sure the title is, in a sentence."""
    judgement = results.judgement
    if judgement is None or not judgement.faults:
        return ""
    first = judgement.faults[0]
    if first.confidence is None:
        return "A hint, not proof."
    return f"Right in about {round(10 * first.confidence)} of 10 similar simulated cases."


def axis_parts(results: FlightResults) -> list[dict[str, Any]]:
    """What the page shows of every axis, or why it cannot."""
    noise, response = results.noise, results.response
    return [
        {
            "name": axis,
            "has_noise": bool(noise and noise.axes[axis].shown),
            "noise_reason": noise.axes[axis].reason if noise else "",
            "step": response.steps.get(axis) if response else None,
            "step_reason": response.reasons.get(axis, "") if response else "",
        }
        for axis in AXES
    ]
