"""The tune of now against its baseline, and locking it in."""

from dataclasses import replace

from django.db import transaction
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.core.report.codec import to_json
from nembrit.core.trials.counting import FlownFlight
from nembrit.core.trials.verify import Verification, is_broken, limit_pct, may_be_worse, verify
from nembrit.web.bench.copies import copies_among
from nembrit.web.bench.results import by_flight
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import BuildEntry, Configuration, Craft
from nembrit.web.hangar.services import latest_build, latest_configuration, set_reference, states_of
from nembrit.web.tunes.models import Slip, Tune
from nembrit.web.tunes.planeneeds import proofs_of
from nembrit.web.tunes.trials import flown_flight

_LATEST = 60
__all__ = ["Verification", "is_broken", "limit_pct", "lock", "may_be_worse", "verification_of"]


@while_unchanged
def verification_of(tune: Tune) -> Verification | None:
    """The flights of the settings and build of now against those of before the tune's first slip; None without a slip."""
    sides = sides_of_tune(tune)
    return verify(_by_card(sides[0]), _by_card(sides[1])) if sides else None


def sides_of_tune(tune: Tune) -> tuple[list[Flight], list[Flight]] | None:
    """Flights with a card from before the tune's first slip, and those with the settings and build of now, as flown; None
    where nothing was changed. A locked tune's now is what was locked in.
    """
    first = tune.slips.order_by("number").first()
    latest = tune.locked_configuration or latest_configuration(tune.craft)
    if first is None or latest is None:
        return None
    states = states_of(tune.craft)
    baseline = states.of(first.base_configuration_id, first.base_build_id)
    build = latest_build(tune.craft)
    now = states.of(latest.pk, build.pk if build else None)
    if baseline == now:
        return None
    flights = list(tune.craft.flights.active().exclude(card_key="").order_by("flown_at", "number"))
    known = [(one, states.of(one.configuration_id, one.build_entry_id)) for one in flights]
    return [one for one, state in known if state == baseline], [one for one, state in known if state == now]


def flown_as(craft: Craft, latest: Configuration, build: BuildEntry | None) -> list[Flight]:
    """The newest flights of an equal state: after an undo those of before count again."""
    states = states_of(craft)
    now = states.of(latest.pk, build.pk if build else None)
    return [one for one in craft.flights.active()[:_LATEST] if states.of(one.configuration_id, one.build_entry_id) == now][:20]


def _by_card(flights: list[Flight]) -> dict[str, list[FlownFlight]]:
    found: dict[str, list[FlownFlight]] = {}
    copies = copies_among(flights)
    for flight, results in by_flight(flights, "metrics", "judgement"):
        if results is not None:
            one = replace(flown_flight(flight, results, is_after=False), copy_of=copies.get(flight.number))
            found.setdefault(flight.card_key, []).append(one)
    return found


@transaction.atomic
def lock(tune: Tune, *, despite: str = "") -> Tune:
    """Write the settings of now as the reference and end the tune. Raises InputError while a slip is open, and where the
    comparison with the baseline is not passed and no reason is given.
    """
    latest = latest_configuration(tune.craft)
    if latest is None:
        raise InputError("there are no settings to lock in")
    if (flying := tune.slips.filter(state=Slip.State.OPEN).first()) is not None:
        raise InputError(f"slip {flying.number} is still open: decide it first")
    found = verification_of(tune)
    told = _not_proven(tune, found)
    if told and not despite.strip():
        raise InputError(f"{told}. Fly the missing flights, or give a reason to lock it in anyway")
    set_reference(latest)
    tune.stage, tune.locked_at, tune.locked_configuration = Tune.Stage.LOCKED, timezone.now(), latest
    tune.lock_note = despite.strip()[:300]
    is_compared = found is not None and tune.craft.kind == Craft.Kind.MULTIROTOR
    tune.verification = {"sentence": found.sentence, "kept": to_json(found)} if is_compared and found else {}
    tune.save(update_fields=("stage", "locked_at", "locked_configuration", "lock_note", "verification"))
    return tune


def _not_proven(tune: Tune, found: Verification | None) -> str:
    """Why the settings are not proven yet; empty where they are. A plane is proven by what its flights measured one by one."""
    if tune.craft.kind == Craft.Kind.FIXED_WING:
        latest = latest_configuration(tune.craft)
        flights = flown_as(tune.craft, latest, latest_build(tune.craft)) if latest else []
        missing = next((need for need in proofs_of(flights) if not need.is_met), None)
        return "" if missing is None else f"{missing.text}: {missing.told}"
    if found is None:
        return "nothing changed yet that could be verified"
    return "" if found.is_passed else found.sentence


def stages_of(craft: Craft) -> list[str]:
    """The stages of a tune in their order; trim is for craft with wings."""
    return [stage for stage in Tune.Stage if stage != Tune.Stage.TRIM or craft.kind == Craft.Kind.FIXED_WING]


@transaction.atomic
def go_on(tune: Tune) -> str:
    """Continue to the next stage; its name. Raises InputError at the last that is gone to without locking."""
    stages = stages_of(tune.craft)
    following = stages[stages.index(tune.stage) + 1 :] if tune.stage in stages else stages[:1]
    if not following or following[0] == Tune.Stage.LOCKED:
        raise InputError("the next stage is locking it in")
    tune.stage = following[0]
    tune.save(update_fields=("stage",))
    return Tune.Stage(tune.stage).label
