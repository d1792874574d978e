"""Pictures of a report: curves of the baseline and of now on one scale."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from nembrit.core.trials.overlay import Overlay, overlay
from nembrit.core.types import AXES
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.tunes.trials import curve_of

_WIDE, _HIGH, _LEFT, _LOW = 320.0, 150.0, 34.0, 20.0
_NOISE_TOP_HZ, _STEP_TOP_MS = 500.0, 300.0
_MOST_POINTS = 400


@dataclass(frozen=True, slots=True, kw_only=True)
class Picture:
    """Curves of the baseline and of now on one scale, as points of an SVG path."""

    title: str
    before: str
    after: str
    x_ticks: tuple[tuple[float, str], ...]
    y_ticks: tuple[tuple[float, str], ...]
    spoken: str


def pictures_of(before: Sequence[Flight], after: Sequence[Flight]) -> list[Picture]:
    """Noise and step response of every axis, where both sides have them."""
    found = []
    for kind in ("noise", "response"):
        loaded = [by_flight(list(side), kind) for side in (before, after)]
        for axis in AXES:
            sides = [overlay([curve for _, own in side if own and (curve := curve_of(own, axis))]) for side in loaded]
            if sides[0] is not None and sides[1] is not None:
                found.append(_noise(axis, sides[0], sides[1]) if kind == "noise" else _step(axis, sides[0], sides[1]))
    return found


def _noise(axis: str, before: Overlay, after: Overlay) -> Picture:
    top = min(_NOISE_TOP_HZ, float(before.x[-1]), float(after.x[-1]))
    curves = [(side.x, 10 * np.log10(np.maximum(side.mean, 1e-12))) for side in (before, after)]
    seen = np.concatenate([y[(x >= 20) & (x <= top)] for x, y in curves])
    low, high = 10 * np.floor(seen.min() / 10), 10 * np.ceil(seen.max() / 10)
    return _picture(
        f"{axis}: noise density, dB re 1 (deg/s)²/Hz over Hz", curves, (0.0, top), (float(low), float(high)), y_step=10
    )


def _step(axis: str, before: Overlay, after: Overlay) -> Picture:
    curves = [(side.x, side.mean) for side in (before, after)]
    return _picture(f"{axis}: step response over ms", curves, (0.0, _STEP_TOP_MS), (0.0, 1.5), y_step=0.5)


def _picture(
    title: str, curves: Sequence[tuple[Any, Any]], x_range: tuple[float, float], y_range: tuple[float, float], *, y_step: float
) -> Picture:
    def x_of(value: float) -> float:
        return _LEFT + (_WIDE - _LEFT - 14) * (value - x_range[0]) / (x_range[1] - x_range[0])

    def y_of(value: float) -> float:
        share = (min(max(value, y_range[0]), y_range[1]) - y_range[0]) / (y_range[1] - y_range[0])
        return _HIGH - _LOW - (_HIGH - _LOW - 6) * share

    paths = []
    for x, y in curves:
        inside = np.flatnonzero((x >= x_range[0]) & (x <= x_range[1]))
        places = inside[:: max(1, inside.size // _MOST_POINTS)]
        paths.append(" ".join(f"{x_of(float(x[k])):.1f},{y_of(float(y[k])):.1f}" for k in places))
    x_step = 100.0
    x_ticks = tuple((x_of(value), f"{value:g}") for value in np.arange(x_range[0], x_range[1] + 1, x_step))
    y_ticks = tuple((y_of(value), f"{value:g}") for value in np.arange(y_range[0], y_range[1] + y_step / 2, y_step))
    peaks = [f"{float(np.max(y[(x >= 20) & (x <= x_range[1])])):.3g}" for x, y in curves]
    spoken = f"{title}; highest at the baseline {peaks[0]}, now {peaks[1]}"
    return Picture(title=title, before=paths[0], after=paths[1], x_ticks=x_ticks, y_ticks=y_ticks, spoken=spoken)
