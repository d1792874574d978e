"""Packs: what each has been through, how long it lasts, and which flights it flew."""

from dataclasses import dataclass

from django.db import transaction
from django.utils import timezone

from nembrit.core.analysis.conditions import Conditions
from nembrit.core.errors import InputError
from nembrit.core.setup.packs import CAUTIONS, CHEMISTRIES, RestState, endurance_s, landing_pack_v, rest_state, rounds_that_fit
from nembrit.web.bench.results import by_flight
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import card_of
from nembrit.web.hangar.models import Craft
from nembrit.web.packs.models import Pack, PackNote

__all__ = ["CAUTIONS", "CHEMISTRIES", "landing_pack_v"]
_RECENT = 8


@dataclass(frozen=True, slots=True, kw_only=True)
class PackLine:
    """One pack in the list."""

    pack: Pack
    cycles: int
    n_flights: int
    state: RestState | None  # by its newest voltage at rest
    loaded_cell_v: float | None
    landing_v: float


def lines() -> list[PackLine]:
    """Every pack, retired ones last."""
    found = []
    counts: dict[str, int] = {}
    for name in Flight.objects.active().exclude(pack="").values_list("pack", flat=True):
        counts[name.casefold()] = counts.get(name.casefold(), 0) + 1
    for pack in Pack.objects.prefetch_related("entries"):
        own = list(pack.entries.all())
        rest = next((one.rest_v for one in own if one.rest_v is not None), None)
        loaded = next((one.loaded_v for one in own if one.loaded_v is not None), None)
        found.append(
            PackLine(
                pack=pack, cycles=pack.cycles_before + sum(one.kind == PackNote.Kind.CHARGED for one in own),
                n_flights=counts.get(pack.name.casefold(), 0), state=_state(pack, rest),
                loaded_cell_v=None if loaded is None else loaded / pack.cells,
                landing_v=landing_pack_v(pack.cells, pack.chemistry),
            )
        )  # fmt: skip
    return found


def _state(pack: Pack, rest_v: float | None) -> RestState | None:
    if rest_v is None:
        return None
    try:
        return rest_state(rest_v, cells=pack.cells, chemistry=pack.chemistry)
    except InputError:  # the pack was said to have other cells since
        return None


def pack_named(name: str) -> Pack | None:
    return Pack.objects.filter(name__iexact=name.strip()).first() if name.strip() else None


def unlisted() -> list[str]:
    """Packs that flights name and no list has."""
    known = {name.casefold() for name in Pack.objects.values_list("name", flat=True)}
    named = Flight.objects.active().exclude(pack="").values_list("pack", flat=True).distinct()
    return sorted({name for name in named if name.casefold() not in known})


def flights_with(pack: Pack) -> list[Flight]:
    return list(Flight.objects.active().filter(pack__iexact=pack.name).select_related("craft").order_by("-flown_at"))


def fitting(craft: Craft) -> list[Pack]:
    """Packs in use with the craft's cells and chemistry, but for those that only ever flew in other craft."""
    alike = Pack.objects.filter(cells=craft.cells, chemistry=craft.chemistry, retired_at=None)
    flown = Flight.objects.active().exclude(pack="").values_list("pack", "craft_id").distinct()
    carried: dict[str, set[int]] = {}
    for name, craft_id in flown:
        carried.setdefault(name.casefold(), set()).add(craft_id)
    return [pack for pack in alike if craft.pk in carried.get(pack.name.casefold(), {craft.pk})]


def conditions_of(flights: list[Flight]) -> dict[int, Conditions]:
    """What the logs say of each flight's conditions, by flight; those that are not analysed are absent."""
    found = by_flight(flights, "conditions")
    return {flight.pk: own.conditions for flight, own in found if own is not None and own.conditions is not None}


def mean_current_a(craft: Craft) -> float | None:
    """Of the craft's newest flights that logged it."""
    known = conditions_of(list(craft.flights.active()[:_RECENT]))
    currents = [one.mean_current_a for one in known.values() if one.mean_current_a is not None and one.mean_current_a > 0]
    return sum(currents) / len(currents) if currents else None


@dataclass(frozen=True, slots=True, kw_only=True)
class Fit:
    """How a card goes into the packs at hand."""

    card_s: float
    pack_s: tuple[tuple[str, float], ...]  # by pack, until landing
    n_tests: int

    @property
    def in_words(self) -> str:
        if not self.pack_s:
            return (
                "Flights per pack are unknown: add the packs of this craft and log the current once. Until then use a timer "
                "and the landing voltage."
            )
        told = ", ".join(f"{name} {seconds / 60:.1f} min" for name, seconds in self.pack_s)
        if not self.n_tests:
            return f"Too long for every pack at hand ({told} until landing): split it into two cards."
        return f"It fits {self.n_tests} time{'' if self.n_tests == 1 else 's'} in the packs at hand: {told} until landing."


def fit_of(card_key: str, craft: Craft) -> Fit | None:
    """A card against the packs that fit the craft, at the mean current of its newest flights; None for no card."""
    card, current = card_of(card_key), mean_current_a(craft)
    if card is None:
        return None
    known = [] if current is None else [(pack.name, endurance_s(pack.capacity_mah, current)) for pack in fitting(craft)]
    return Fit(card_s=card.seconds, pack_s=tuple(known), n_tests=rounds_that_fit([seconds for _, seconds in known], card.seconds))


_UNKNOWN_PACK_S = 300.0  # of a pack whose current was never logged (common practice, no source)


def tests_that_fit(craft: Craft, seconds: float) -> tuple[int, int]:
    """How many packs fit the craft, and how many tests of so many seconds they carry."""
    packs, current = fitting(craft), mean_current_a(craft)
    lasting = [_UNKNOWN_PACK_S if current is None else endurance_s(pack.capacity_mah, current) for pack in packs]
    return len(packs), rounds_that_fit(lasting, seconds)


@transaction.atomic
def note(pack: Pack, *, kind: str, rest_v: float | None = None, loaded_v: float | None = None, text: str = "") -> PackNote:
    """Note what was done or measured. Raises InputError for voltages that this pack cannot have."""
    if rest_v is not None:
        rest_state(rest_v, cells=pack.cells, chemistry=pack.chemistry)
    if loaded_v is not None:
        if not 0 < loaded_v <= (CHEMISTRIES[pack.chemistry].full_v + 0.1) * pack.cells:
            raise InputError(f"{loaded_v:g} V under load is impossible for a pack of {pack.cells} cells")
        if rest_v is not None and loaded_v > rest_v:
            raise InputError("under load the voltage must be lower than at rest: check both numbers")
    return pack.entries.create(kind=kind, rest_v=rest_v, loaded_v=loaded_v, text=text.strip())


def retire(pack: Pack, *, retired: bool) -> None:
    pack.retired_at = timezone.now() if retired else None
    pack.save(update_fields=("retired_at",))


@transaction.atomic
def rename_in_flights(before: str, after: str) -> None:
    """A pack got another name: its flights name it so, too."""
    if before != after:
        Flight.objects.filter(pack__iexact=before).update(pack=after)


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """What was noted of a pack, voltages a cell."""

    entry: PackNote
    rest_cell_v: float | None
    loaded_cell_v: float | None
    told: str


def entries_of(pack: Pack) -> list[Entry]:
    found = []
    for one in pack.entries.all():
        state = _state(pack, one.rest_v)
        found.append(
            Entry(
                entry=one, rest_cell_v=None if one.rest_v is None else one.rest_v / pack.cells,
                loaded_cell_v=None if one.loaded_v is None else one.loaded_v / pack.cells, told=state.told if state else "",
            )
        )  # fmt: skip
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class Flown:
    """A flight with a pack: voltages a cell at its start and under the heaviest load, where they were logged."""

    flight: Flight
    start_cell_v: float | None
    lowest_cell_v: float | None
    below_landing: bool


def flown(pack: Pack) -> list[Flown]:
    """The flights that name the pack, newest first."""
    flights = flights_with(pack)
    known = conditions_of(flights)
    limit = CHEMISTRIES[pack.chemistry].landing_v

    def a_cell(pack_v: float | None) -> float | None:
        return None if pack_v is None else pack_v / pack.cells

    found = []
    for flight in flights:
        own = known.get(flight.pk)
        lowest = a_cell(own.lowest_v) if own else None
        found.append(
            Flown(
                flight=flight, start_cell_v=a_cell(own.start_v) if own else None, lowest_cell_v=lowest,
                below_landing=lowest is not None and lowest < limit,
            )
        )  # fmt: skip
    return found
