"""Questions answered by arms: planned, flown turn by turn, blind where wanted, then revealed and judged."""

import base64
import json
import secrets
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.core.given import checked
from nembrit.core.setup.configuration import diff_settings, settings_text
from nembrit.core.setup.packs import balanced_packs
from nembrit.core.trials.arms import DESIGNS, least_repetitions, schedule
from nembrit.core.trials.experiment import RATING, ArmFlight, ArmPlan, ExperimentVerdict, judge_experiment
from nembrit.core.trials.metrics import metric_kind, metric_label
from nembrit.web.bench.results import by_flight
from nembrit.web.common.models import Job
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import card_of
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import add_configuration, core_settings, latest_configuration
from nembrit.web.hangar.signals import controller_changed
from nembrit.web.logs.models import Log
from nembrit.web.packs.services import conditions_of
from nembrit.web.simulator import services as simulator
from nembrit.web.tunes.models import Arm, Experiment, Turn
from nembrit.web.tunes.trials import flown_flight

DESIGN_CHOICES = list(DESIGNS.items())
_LETTERS = "ABCDEFGHKLMNPRTUVWXYZ2346789"  # none that is taken for another
_MOST_ORDER_BYTES = 20_000
_LEAST_RATED = "rate every flight first: a known flight cannot be rated blind"


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What the tuner plans."""

    question: str
    card_key: str
    metric: str
    direction: str
    design: str
    repetitions: int
    is_blind: bool
    configurations: Sequence[Configuration] = ()
    words: Sequence[str] = ()  # arms that are no settings
    packs: Sequence[str] = ()


@transaction.atomic
def begin(craft: Craft, wanted: Wanted, *, seed: int | None = None) -> Experiment:
    """Fix arms, order, codes and packs before anything is flown. Raises InputError for what cannot be judged or blinded."""
    arms: list[tuple[str, Configuration | None]] = [(_arm_name(one), one) for one in wanted.configurations]
    arms += [(name, None) for name in wanted.words]
    if len({name.casefold() for name, _ in arms}) != len(arms):
        raise InputError("two variants have the same name")
    if wanted.is_blind and any(configuration is None for _, configuration in arms):
        raise InputError("blind works only with settings, because you see a changed part")
    _require_different(wanted.configurations)
    if wanted.metric != RATING and metric_kind(wanted.metric) is None:
        raise InputError(f"“{wanted.metric}” is no metric")
    if card_of(wanted.card_key) is None:
        raise InputError("choose the card")
    if craft.experiments.filter(state=Experiment.State.FLYING).exists():
        raise InputError("one comparison at a time: reveal or cancel the current one first")
    drawn = secrets.randbelow(2**31) if seed is None else seed
    order = schedule(len(arms), wanted.repetitions, wanted.design, seed=drawn)
    number = (craft.experiments.aggregate(top=Max("number"))["top"] or 0) + 1
    made = Experiment.objects.create(
        craft=craft, number=number, question=wanted.question.strip(), card_key=wanted.card_key, metric=wanted.metric,
        direction=wanted.direction, design=wanted.design, repetitions=wanted.repetitions, seed=0 if wanted.is_blind else drawn,
        is_blind=wanted.is_blind, sealed_order=_sealed(order),
    )  # fmt: skip
    for position, (name, configuration) in enumerate(arms):
        Arm.objects.create(experiment=made, position=position, name=name[:80], configuration=configuration)
    packs = balanced_packs([str(arm) for arm in order], list(wanted.packs)) if wanted.packs else [""] * len(order)
    codes = _codes(len(order))
    Turn.objects.bulk_create(
        Turn(experiment=made, position=place, code=code, pack=pack)
        for place, (code, pack) in enumerate(zip(codes, packs, strict=True))
    )
    return made


def _arm_name(configuration: Configuration) -> str:
    return f"{configuration}, {configuration.note}" if configuration.note else str(configuration)


def _require_different(configurations: Sequence[Configuration]) -> None:
    known = [core_settings(one) for one in configurations]
    for place, one in enumerate(known):
        for other in range(place):
            if not diff_settings(known[other], one):
                raise InputError(
                    f"{configurations[other]} and {configurations[place]} are the same settings, so they are one variant"
                )


def _codes(n: int) -> list[str]:
    found: list[str] = []
    while len(found) < n:
        code = "".join(secrets.choice(_LETTERS) for _ in range(4))
        if code not in found and not Turn.objects.filter(code=code).exists():
            found.append(code)
    return found


def _sealed(order: Sequence[int]) -> str:
    """Packed with salt: not secret, but nobody reads it by chance, in a page, a file or the database."""
    text = json.dumps({"salt": secrets.token_hex(8), "order": list(order)})
    return base64.b85encode(zlib.compress(text.encode())).decode()


def order_of(experiment: Experiment) -> list[int]:
    """Which arm every turn flies. Pages show it only where the experiment is open or revealed."""
    try:
        text = zlib.decompressobj().decompress(base64.b85decode(experiment.sealed_order), _MOST_ORDER_BYTES)
        order = checked(list[int], json.loads(text)["order"], where="the order")
    except (ValueError, KeyError, TypeError, zlib.error):
        raise InputError("the sealed order of this comparison cannot be read") from None
    return [int(one) for one in order]


def shows_arms(experiment: Experiment) -> bool:
    return not experiment.is_blind or experiment.state == Experiment.State.REVEALED


def next_turn(experiment: Experiment) -> Turn | None:
    """The first turn that was neither flown nor skipped, while the experiment is flown."""
    if experiment.state != Experiment.State.FLYING:
        return None
    return experiment.turns.filter(flight=None, is_skipped=False).first()


def waiting_for_rating(experiment: Experiment) -> list[Turn]:
    return list(experiment.turns.exclude(flight=None).filter(is_rated=False).select_related("flight"))


def arm_of(turn: Turn) -> Arm:
    return turn.experiment.arms.get(position=order_of(turn.experiment)[turn.position])


def settings_file(turn: Turn) -> str:
    """The settings of a turn, to be loaded unread. Raises InputError for arms that are no settings."""
    configuration = arm_of(turn).configuration
    if configuration is None:
        raise InputError("this variant has no settings file")
    return settings_text(core_settings(configuration))


def flight_fields(turn: Turn) -> dict[str, Any]:
    """What the flight of a turn is noted with; of a blind one nothing that tells its arm."""
    experiment = turn.experiment
    fields: dict[str, Any] = {"card_key": experiment.card_key, "pack": turn.pack, "blind_code": turn.code}
    if experiment.is_blind:
        return fields | {"is_sealed": True}
    configuration = arm_of(turn).configuration
    return fields | ({"configuration_id": configuration.pk} if configuration else {})


def flights_came(experiment: Experiment) -> None:
    """Give flights that carry a turn's code to their turn; their logs may have been read since."""
    for turn in experiment.turns.filter(flight=None):
        flight = experiment.craft.flights.filter(blind_code=turn.code, archived_at=None).first()
        if flight is not None:
            turn.flight = flight
            turn.save(update_fields=("flight",))


def fly_turn(turn: Turn) -> Job:
    """Fly a turn in the simulator, the stand-in for going out."""
    configuration = arm_of(turn).configuration or latest_configuration(turn.experiment.craft)
    if configuration is None:
        raise InputError("no settings saved yet")
    log = simulator.request_simulation(
        turn.experiment.craft, card_key=turn.experiment.card_key, configuration=configuration, seed=secrets.randbelow(2**31),
        wind_m_s=2.0, pack_charge_ratio=0.95, flight_fields=flight_fields(turn),
    )  # fmt: skip
    if turn.experiment.is_blind:  # what it flies stands in the world of the flight, so its file has no telling name
        Log.objects.filter(pk=log.pk).update(file_name=f"{turn.code.lower()}.csv")
        log.refresh_from_db()
    return simulator.fly_in_simulator(log)


def log_name(turn: Turn, name: str) -> str:
    """What a turn's log is called here; of a blind turn the tuner's own name would say what flew."""
    if turn.experiment.is_blind:
        return f"{turn.code.lower()}.{name.rpartition('.')[2]}"
    return f"{turn.code.lower()}-{name}"


@transaction.atomic
def rate(turn: Turn, *, rating: int | None, guess: Arm | None, note: str, ended: str) -> None:
    """Note how a turn felt, once: what is known later changes nothing. Raises InputError when it was rated, or not flown."""
    turn = Turn.objects.select_related("experiment", "flight").get(pk=turn.pk)
    if turn.flight is None:
        raise InputError("this flight is not flown yet")
    if turn.is_rated or turn.experiment.state != Experiment.State.FLYING:
        raise InputError("this flight is rated already")
    turn.rating, turn.guess, turn.note, turn.is_rated = rating, guess, note.strip()[:300], True
    turn.save(update_fields=("rating", "guess", "note", "is_rated"))
    Flight.objects.filter(pk=turn.flight.pk).update(ended=ended, notes=turn.note or turn.flight.notes)


def skip(turn: Turn, *, why: str) -> None:
    """Leave a turn out: the trial goes on unbalanced. Raises InputError for one that was flown, or without a reason."""
    if turn.flight_id is not None:
        raise InputError("this flight is flown: rate it, and state how it ended")
    if not why.strip():
        raise InputError("give a reason")
    turn.is_skipped, turn.note = True, why.strip()[:300]
    turn.save(update_fields=("is_skipped", "note"))


@transaction.atomic
def reveal(experiment: Experiment) -> None:
    """End the flying and show what flew when. Raises InputError while a flight is not rated."""
    experiment = Experiment.objects.select_for_update().get(pk=experiment.pk)
    if experiment.state != Experiment.State.FLYING:
        raise InputError("already revealed")
    if waiting_for_rating(experiment):
        raise InputError(_LEAST_RATED)
    _open(experiment)
    experiment.state, experiment.revealed_at = Experiment.State.REVEALED, timezone.now()
    experiment.save(update_fields=("state", "revealed_at"))


@transaction.atomic
def give_up(experiment: Experiment, *, why: str) -> None:
    """End it without a verdict; its flights become flights like others."""
    if experiment.state != Experiment.State.FLYING:
        raise InputError("it is closed")
    if not why.strip():
        raise InputError("give a reason")
    _open(experiment)
    experiment.state, experiment.note, experiment.revealed_at = Experiment.State.GIVEN_UP, why.strip()[:300], timezone.now()
    experiment.save(update_fields=("state", "note", "revealed_at"))


def _open(experiment: Experiment) -> None:
    """Unseal the flights and note on each what it flew: their answers are renewed with it."""
    arms = list(experiment.arms.all())
    opened = []
    for turn in experiment.turns.exclude(flight=None).select_related("flight"):
        assert turn.flight is not None
        fields: dict[str, Any] = {"is_sealed": False}
        if configuration := arms[order_of(experiment)[turn.position]].configuration:
            fields["configuration"] = configuration
        Flight.objects.filter(pk=turn.flight.pk).update(**fields)
        opened.append(turn.flight.pk)
    if opened and experiment.is_blind:
        controller_changed.send(sender=Flight, craft=experiment.craft, flights=opened)


@transaction.atomic
def keep_arm(experiment: Experiment, arm: Arm, *, note: str = "") -> Configuration | None:
    """Record which arm is kept; settings that are not the latest become the next revision, which is returned."""
    if experiment.state != Experiment.State.REVEALED:
        raise InputError("reveal it first, then decide")
    if experiment.kept_arm_id is not None:
        raise InputError("already decided")
    experiment.kept_arm, experiment.note = arm, note.strip()[:300]
    experiment.save(update_fields=("kept_arm", "note"))
    latest = latest_configuration(experiment.craft)
    if arm.configuration is None or latest is None or not diff_settings(core_settings(latest), core_settings(arm.configuration)):
        return None
    told = f"from comparison {experiment.number}: {arm.name}"[:200]
    return add_configuration(
        experiment.craft, core_settings(arm.configuration), source=Configuration.Source.EXPERIMENT, note=told
    )


def plan_of(experiment: Experiment) -> ArmPlan:
    return ArmPlan(
        metric=experiment.metric, direction=experiment.direction, design=experiment.design, repetitions=experiment.repetitions,
        n_arms=experiment.arms.count(),
    )  # fmt: skip


def judged_by(experiment: Experiment) -> str:
    return "your rating from 1 to 5" if experiment.metric == RATING else metric_label(experiment.metric)


def verdict_of(experiment: Experiment) -> ExperimentVerdict | None:
    """Result; None while arms must not be shown."""
    if not shows_arms(experiment):
        return None
    order = order_of(experiment)
    turns = list(experiment.turns.exclude(flight=None).select_related("flight__build_entry", "flight__craft", "guess"))
    analysed = by_flight([turn.flight for turn in turns if turn.flight], "metrics", "judgement")
    known = conditions_of([flight for flight, _ in analysed])
    found = []
    for turn, (flight, results) in zip(turns, analysed, strict=True):
        if results is None:
            continue
        own = known.get(flight.pk)
        start_v = own.start_v if own else None
        found.append(
            ArmFlight(
                arm=order[turn.position], flight=flown_flight(flight, results, is_after=order[turn.position] > 0),
                rating=turn.rating, guess=turn.guess.position if turn.guess else None, pack=turn.pack or flight.pack,
                wind_m_s=flight.wind_m_s, start_cell_v=None if start_v is None else start_v / experiment.craft.cells,
                build=str(flight.build_entry_id or ""),
            )
        )  # fmt: skip
    return judge_experiment(found, plan_of(experiment))


def least_flights() -> dict[str, int]:
    """Flights per variant that each order needs at least."""
    return {design: least_repetitions(design) for design in DESIGNS}
