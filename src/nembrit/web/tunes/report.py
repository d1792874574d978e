"""The report of a tune: what was done, what it brought, and what was learned, to print or to keep as one file."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
from django.contrib.staticfiles import finders

from nembrit.core.setup.configuration import SettingChange, diff_settings
from nembrit.core.trials.metrics import metric_label
from nembrit.core.trials.overlay import Overlay, overlay
from nembrit.core.trials.trial import WORDS
from nembrit.core.trials.verdict import MetricVerdict
from nembrit.core.trials.verify import Verification
from nembrit.core.types import AXES
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration
from nembrit.web.hangar.services import core_settings, latest_configuration, named_settings
from nembrit.web.tunes.advice import advice_of
from nembrit.web.tunes.history import outcome_line
from nembrit.web.tunes.models import Experiment, Slip, Tune
from nembrit.web.tunes.trials import curve_of, record_from
from nembrit.web.tunes.verifying import sides_of_tune, verification_of

_WIDE, _HIGH, _LEFT, _LOW = 320.0, 150.0, 34.0, 20.0
_NOISE_TOP_HZ, _STEP_TOP_MS = 500.0, 300.0
_MOST_POINTS = 400


@dataclass(frozen=True, slots=True, kw_only=True)
class Done:
    """One decided change."""

    slip: Slip
    sentence: str
    outcome: str
    line: str  # the judging number before and after


@dataclass(frozen=True, slots=True, kw_only=True)
class Picture:
    """Curves of the baseline and of now on one scale, as points of an SVG path."""

    title: str
    before: str
    after: str
    x_ticks: tuple[tuple[float, str], ...]
    y_ticks: tuple[tuple[float, str], ...]
    spoken: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Report:
    """Everything that the report of a tune tells."""

    tune: Tune
    began_at: datetime
    n_flights: int
    verification: Verification | None
    numbers: list[tuple[str, MetricVerdict]]
    done: list[Done]
    questions: list[Experiment]
    pictures: list[Picture]
    counts: tuple[int, int]  # flights in the pictures, of the baseline and of now
    changes: tuple[SettingChange, ...]
    base: Configuration | None
    latest: Configuration | None
    settings: list[Any]
    lessons: list[str]
    next: str


def report_of(tune: Tune) -> Report:
    """Gather a tune's report from what was kept."""
    slips = list(tune.slips.select_related("decision", "base_configuration").order_by("number"))
    decided = [slip for slip in slips if slip.state != Slip.State.OPEN]
    latest = tune.locked_configuration or latest_configuration(tune.craft)
    base = slips[0].base_configuration if slips else None
    verification = verification_of(tune)
    sides = sides_of_tune(tune) or ([], [])
    counted = {one.flight.number for one in verification.standing if one.counts} if verification else set()
    shown = [[flight for flight in side if flight.number in counted] for side in sides]
    notes = [f"{slip.title}: {slip.decision.note}" for slip in decided if slip.decision.note]
    questions = list(tune.craft.experiments.exclude(state=Experiment.State.FLYING).select_related("kept_arm").order_by("number"))
    notes += [f"{one.question} {one.note}" for one in questions if one.note]
    return Report(
        tune=tune, began_at=min([tune.started_at, *(slip.created_at for slip in slips)]),
        n_flights=tune.craft.flights.active().count(), verification=verification,
        numbers=[(metric_label(one.name), one) for one in (verification.metrics if verification else ())],
        done=[_done(slip) for slip in decided],
        questions=questions, pictures=_pictures(*shown), counts=(len(shown[0]), len(shown[1])), base=base, latest=latest,
        changes=diff_settings(core_settings(base), core_settings(latest)) if base and latest else (),
        settings=named_settings(latest) if latest else [], lessons=notes + ([tune.lock_note] if tune.lock_note else []),
        next=advice_of(tune.craft).words,
    )  # fmt: skip


def _done(slip: Slip) -> Done:
    record = record_from(slip.decision.trial)
    sentence = record.verdict.sentence if record else WORDS["cannot"]
    return Done(slip=slip, sentence=sentence, outcome=slip.get_state_display(), line=outcome_line(slip.decision))


def _pictures(before: Sequence[Flight], after: Sequence[Flight]) -> list[Picture]:
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


def style() -> str:
    """The report's own style, for the copy that stands alone."""
    path = finders.find("tunes/report.css")
    if not isinstance(path, str):
        raise FileNotFoundError("tunes/report.css")
    with open(path, encoding="utf-8") as file:
        return file.read()
