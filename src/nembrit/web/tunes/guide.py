"""What comes next in a tune, by its route: one instruction with its reason, and where it is done."""

from collections.abc import Callable

from django.urls import reverse

from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes.gates import Need, needs_of
from nembrit.web.tunes.models import Tune
from nembrit.web.tunes.verifying import stages_of

Step = tuple[str, str]
Guide = Callable[[Tune, list[Need], list[Flight]], Step | None]


def step_of(tune: Tune, flights: list[Flight]) -> Step:
    """The next step where no slip is open, nothing is to be cured and something was flown; flights newest first."""
    needs = needs_of(tune)
    guide = GUIDES.get(tune.route)
    found = guide(tune, needs, flights) if guide else None
    return found or _by_needs(tune, needs)


def _by_needs(tune: Tune, needs: list[Need]) -> Step:
    """What any route does: fulfil what the stage needs, then go on."""
    here = reverse("tunes:tune", args=[tune.craft_id])
    missing = next((need for need in needs if not need.is_met), None)
    if tune.stage == Tune.Stage.LOCKED:
        return ("Locked in: fly it. Begin another tune when something changes", here)
    if missing is not None and missing.is_flown:
        return (f"Fly on: {missing.text} ({missing.told})", tune.craft.get_absolute_url())
    if missing is not None and tune.stage == Tune.Stage.TRIM and missing.is_decided:
        slip = f"{reverse('tunes:slip_new', args=[tune.craft_id])}?group=navigation"
        return (f"Nothing pulls any more: {missing.text} ({missing.told})", slip)
    if missing is not None and tune.stage == Tune.Stage.TRIM:
        slip = f"{reverse('tunes:slip_new', args=[tune.craft_id])}?group=trim"
        return (f"Move the trims before any gain: {missing.text} ({missing.told})", slip)
    if missing is not None and tune.stage != Tune.Stage.VERIFY:
        return ("Write the next change slip", reverse("tunes:slip_new", args=[tune.craft_id]))
    if missing is not None:
        return (f"{missing.text[:1].upper()}{missing.text[1:]}: {missing.told}", f"{here}#verify")
    if tune.stage == Tune.Stage.VERIFY:
        return ("Lock it in: everything that it needs is there", f"{here}#verify")
    following = stages_of(tune.craft)[stages_of(tune.craft).index(tune.stage) + 1]
    return (
        f"Go on to {Tune.Stage(following).label.lower()}: everything that {tune.get_stage_display().lower()} needs is there",
        here,
    )


def _log_first(tune: Tune, needs: list[Need], flights: list[Flight]) -> Step | None:
    """Read the log once, set filters, move the gains together, then verify; the benches are the evidence."""
    if tune.craft.kind != Craft.Kind.MULTIROTOR or not flights:
        return None
    if tune.stage not in (Tune.Stage.FILTERS, Tune.Stage.GAINS) or all(need.is_met for need in needs):
        return None
    bench = next(need for need in needs if need.is_bench)
    if not bench.is_measured:
        return (
            "Fly the half-minute card with the settings of now: nothing of them is measured yet",
            tune.craft.get_absolute_url(),
        )
    why = f"{bench.told}; {bench.text}"
    if tune.stage == Tune.Stage.FILTERS:
        lead = "Noise leaves room: see what can be opened for less delay" if bench.is_met else "Choose filters against the noise"
        return (f"{lead} ({why})", reverse("bench:filters", args=[flights[0]]))
    lead = "Every axis keeps its distance: see how much faster it may be" if bench.is_met else "Give the axis its distance back"
    return (f"{lead} ({why})", reverse("bench:gains", args=[flights[0]]))


# what a route says beyond what every one does; the others follow the needs of their stage until they have a guide of their own
GUIDES: dict[str, Guide] = {Tune.Route.LOG_FIRST: _log_first}
