"""What the hangar says of every craft: its stage, its last result, and the one next step."""

from dataclasses import dataclass

from django.db.models import QuerySet

from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.outline import Outline, outline_of
from nembrit.web.tunes.advice import Advice, advice_of
from nembrit.web.tunes.courses import Course, courses_of
from nembrit.web.tunes.history import outcome_line
from nembrit.web.tunes.models import Slip, Tune


@dataclass(frozen=True, slots=True, kw_only=True)
class OnTheBench:
    """One craft in the hangar."""

    craft: Craft
    stage: str
    next: Advice
    last_change: str  # of the newest decided slip; empty: none yet
    last_result: str
    outline: Outline
    trend: Course | None


@while_unchanged
def on_the_bench() -> list[OnTheBench]:
    """Every craft that is not archived."""
    craft = list(Craft.objects.active().counted())
    tunes: dict[int, Tune] = {}
    for tune in Tune.objects.filter(craft__in=craft).order_by("pk"):
        tunes[tune.craft_id] = tune
    slips: dict[int, list[Slip]] = {}
    for slip in Slip.objects.filter(tune__in=tunes.values()).select_related("decision", "tune__craft").order_by("number"):
        slips.setdefault(slip.tune.craft_id, []).append(slip)
    newest = _newest(Flight.objects.active().filter(craft__in=craft))
    found = []
    for one in craft:
        present = tunes.get(one.pk)
        stage = Tune.Stage(present.stage if present else Tune.Stage.BASELINE).label
        if present and present.state != Tune.State.RUNNING:
            stage = f"{stage}, {present.get_state_display()}"
        change, result = _last(slips.get(one.pk, []), newest.get(one.pk))
        found.append(
            OnTheBench(
                craft=one,
                stage=stage,
                next=advice_of(one, wait=False),
                last_change=change,
                last_result=result,
                outline=outline_of(one),
                trend=next(iter(courses_of(one)), None),
            )
        )
    return found


def _newest(flights: QuerySet[Flight]) -> dict[int, Flight]:
    """The newest flight of each craft."""
    return {flight.craft_id: flight for flight in flights.order_by("number")}


def _last(slips: list[Slip], newest: Flight | None) -> tuple[str, str]:
    """The newest decided change and what came of it; without one, the newest flight."""
    decided = [slip for slip in slips if slip.state != Slip.State.OPEN]
    if decided:
        last = decided[-1]
        return last.title, f"{last.decision.get_outcome_display()}, {outcome_line(last.decision)}"
    return "", f"flight {newest.number}, {newest.flown_at:%-d %b %Y}" if newest else "nothing flown yet"
