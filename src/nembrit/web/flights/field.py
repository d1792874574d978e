"""The field: outings begun, taps kept once, and an outing's notes given to its flight."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.db import transaction
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.core.given import clean_text
from nembrit.core.setup.outing import HEATS, MARKERS, Tap, Told, best_fit, tap_from, told_by
from nembrit.core.setup.preflight import checks_for, missing
from nembrit.web.flights.models import FieldTap, Flight, Outing
from nembrit.web.flights.services import card_of
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import latest_configuration, motor_numbers

__all__ = ["HEATS", "MARKERS", "best_fit", "checks_for"]
AFTER = {"as_planned": "as planned", "aborted": "aborted", "crashed": "in a crash"}
_MOST_TAPS = 200  # in one sending
_ENDED = {"as_planned": Flight.Ended.AS_PLANNED, "aborted": Flight.Ended.ABORTED, "crashed": Flight.Ended.CRASHED}


def begin(
    craft: Craft,
    *,
    card_key: str,
    ticked: set[str],
    pack: str = "",
    wind_m_s: float | None = None,
    conditions: str = "",
    despite: str = "",
) -> Outing:
    """Open an outing. Raises InputError with what stands against it, unless a reason to fly all the same is given."""
    if card_of(card_key) is None:
        raise InputError("choose a card to fly")
    against = missing(craft.kind, ticked, wind_m_s)
    if against and not despite.strip():
        raise InputError(f"no go: {'; '.join(against)}")
    return Outing.objects.create(
        craft=craft, configuration=latest_configuration(craft), card_key=card_key, pack=pack.strip(), wind_m_s=wind_m_s,
        conditions=conditions.strip(), despite=despite.strip() if against else "",
    )  # fmt: skip


def page_of(outing: Outing) -> dict[str, Any]:
    """What the phone needs to hold a flight by itself: the card, the stop rules, the motors."""
    card = card_of(outing.card_key)
    if card is None:
        raise InputError("the card of this field session no longer exists")
    steps = [
        {"name": step.name, "seconds": step.seconds, "how": step.how,
         "watch": step.watch, "listen": step.listen, "tells": step.tells}
        for step in card.manoeuvres
    ]  # fmt: skip
    return {
        "outing": outing.pk, "key": key_of(outing), "name": card.name, "stop": list(card.stop_criteria), "steps": steps,
        "markers": list(MARKERS[outing.craft.kind]),
        "motors": motor_numbers(outing.craft), "heats": list(HEATS),
    }  # fmt: skip


def key_of(outing: Outing) -> str:
    """Names this outing among those of every workshop that a phone may meet at the same address."""
    return f"{outing.pk}-{outing.craft_id}-{outing.opened_at.timestamp() * 1e6:.0f}"


class OtherWorkshop(InputError):
    """The entries are of an outing that another workshop had at this address."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Kept:
    """What became of the entries of one sending, by their marks; why one was set aside."""

    kept: list[str]
    refused: dict[str, str]


@transaction.atomic
def keep(outing: Outing, key: object, documents: Sequence[Any]) -> Kept:
    """Keep taps, each once however often and from how many phones it is sent. One that cannot be kept holds no other up.

    Raises InputError for too many, and OtherWorkshop for those of another outing.
    """
    if key != key_of(outing):
        raise OtherWorkshop("this field session is not in this workshop: its entries stay on the phone")
    if len(documents) > _MOST_TAPS:
        raise InputError(f"more than {_MOST_TAPS} entries at once")
    taps, refused = [], {}
    for one in documents:
        try:
            taps.append(tap_from(one))
        except InputError as error:
            refused[clean_text(one.get("uid") if isinstance(one, dict) else "", most=60)] = str(error)
    FieldTap.objects.bulk_create(
        [FieldTap(outing=outing, uid=tap.uid, kind=tap.kind, at_s=tap.at_s, data=dict(tap.data)) for tap in taps],
        ignore_conflicts=True,
    )
    if outing.flight is not None:
        note_on(outing, outing.flight)
    return Kept(kept=[tap.uid for tap in taps], refused=refused)


def told_of(outing: Outing) -> Told:
    """What all taps of an outing say."""
    return told_by(Tap(uid=row.uid, kind=row.kind, at_s=row.at_s, data=row.data) for row in outing.taps.all())


def unfinished(craft: Craft) -> list[Outing]:
    """Outings of the last day whose end was not noted: to go on with."""
    since = timezone.now() - timedelta(days=1)
    return list(craft.outings.filter(opened_at__gte=since, flight=None).exclude(taps__kind="after"))


def waiting_for_log(craft: Craft) -> list[Outing]:
    """Outings that flew and have no flight yet, oldest first."""
    found = craft.outings.filter(flight=None, taps__kind="take_off").distinct()
    return sorted(found, key=lambda one: one.opened_at)


@transaction.atomic
def give_to(outing: Outing, flight: Flight) -> None:
    """An outing's log is this flight: what was noted at the field is noted on it, where nothing else stands there."""
    if outing.craft_id != flight.craft_id:
        raise InputError("this flight is another craft’s")
    outing.flight = flight
    outing.save(update_fields=("flight",))
    note_on(outing, flight)


def note_on(outing: Outing, flight: Flight) -> None:
    told = told_of(outing)
    noted: dict[str, Any] = {
        "pack": outing.pack, "conditions": outing.conditions, "card_key": outing.card_key, "notes": told.note,
        "heat": told.hottest, "ended": _ENDED[told.ended],
    }  # fmt: skip
    for name, value in noted.items():
        if value and not getattr(flight, name):
            setattr(flight, name, value)
    if flight.wind_m_s is None:
        flight.wind_m_s = outing.wind_m_s
    flight.save()
