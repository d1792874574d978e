"""The report of a tune: what was done, what it brought, and what was learned, to print or to keep as one file."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.contrib.staticfiles import finders

from nembrit.core.setup.configuration import SettingChange, diff_settings
from nembrit.core.trials.metrics import metric_label
from nembrit.core.trials.trial import WORDS
from nembrit.core.trials.verdict import MetricVerdict
from nembrit.core.trials.verify import Verification
from nembrit.web.hangar.models import Configuration
from nembrit.web.hangar.services import core_settings, latest_configuration, named_settings
from nembrit.web.tunes.advice import advice_of
from nembrit.web.tunes.models import Experiment, Slip, Tune
from nembrit.web.tunes.report_margins import MarginRow, margins_of
from nembrit.web.tunes.report_pictures import Picture, pictures_of
from nembrit.web.tunes.report_plane import PlanePart, plane_part
from nembrit.web.tunes.trials import record_from
from nembrit.web.tunes.verifying import sides_of_tune, verification_of


@dataclass(frozen=True, slots=True, kw_only=True)
class Done:
    """One decided change."""

    slip: Slip
    sentence: str
    outcome: str

    @property
    def confounded(self) -> str:
        return " (two groups at once)" if self.slip.confounded else ""


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
    margins: list[MarginRow]
    plane: PlanePart | None
    counts: tuple[int, int]  # flights in the pictures, of the baseline and of now
    changes: tuple[SettingChange, ...]
    base: Configuration | None
    latest: Configuration | None
    settings: list[Any]
    lessons: list[str]
    next: str

    @property
    def about(self) -> str:
        """The craft, the route and the time of the tune, in a line."""
        craft, tune = self.tune.craft, self.tune
        parts = [f"{craft.summary[:1].upper()}{craft.summary[1:]}" + (f", {craft.about}" if craft.about else "")]
        parts.append(
            f"propellers {craft.propeller_diameter_in:.3g} × {craft.propeller_pitch_in:.3g} in, {craft.propeller_blades} blades"
        )
        parts += [f"{craft.cells} cells", *([f"{craft.mass_g:.4g} g"] if craft.mass_g else [])]
        until = f"to {_day(tune.locked_at)}" if tune.locked_at else f"stage now: {tune.get_stage_display().lower()}"
        return f"{'; '.join(parts)}. Route: {tune.get_route_display()}. {_day(self.began_at)} {until}; {self.n_flights} flights."

    @property
    def sum(self) -> str:
        """The result of the tune."""
        said = self.tune.verification.get("sentence") or (
            self.verification.sentence if self.verification else "nothing changed yet"
        )
        note = f" Locked in despite open points: {self.tune.lock_note}" if self.tune.lock_note else ""
        return f"{said[:1].upper()}{said[1:]}.{note}"


def _day(moment: datetime) -> str:
    return f"{moment:%-d %b %Y}"


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
        questions=questions, pictures=pictures_of(*shown), counts=(len(shown[0]), len(shown[1])),
        margins=margins_of(*shown), plane=plane_part(tune.craft, base, latest), base=base, latest=latest,
        changes=diff_settings(core_settings(base), core_settings(latest)) if base and latest else (),
        settings=named_settings(latest) if latest else [], lessons=notes + ([tune.lock_note] if tune.lock_note else []),
        next=advice_of(tune.craft).words,
    )  # fmt: skip


def _done(slip: Slip) -> Done:
    record = record_from(slip.decision.trial)
    sentence = record.verdict.sentence if record else WORDS["cannot"]
    return Done(slip=slip, sentence=sentence, outcome=slip.get_state_display())


def style() -> str:
    """The report's own style, for the copy that stands alone."""
    path = finders.find("tunes/report.css")
    if not isinstance(path, str):
        raise FileNotFoundError("tunes/report.css")
    with open(path, encoding="utf-8") as file:
        return file.read()
