"""Planned sessions as a calendar file."""

from collections.abc import Iterable
from datetime import UTC, timedelta

from icalendar import Alarm, Calendar, Event

from nembrit.web.flights.services import card_of
from nembrit.web.planning.models import Session

_CHARGE_BEFORE = timedelta(hours=12)
_CAUTION = "Local rules come first. Packs of craft, radio and ground station; failsafe; wind; people away."


def calendar_of(sessions: Iterable[Session], *, name: str) -> bytes:
    """Sessions as one iCalendar object (RFC 5545), with a reminder to charge the evening before.

    Times are floating (RFC 5545, section 3.3.5, form 1): the wall clock at the field, in whatever zone it lies.
    """
    calendar = Calendar()
    calendar.add("prodid", "-//Nembrit//planned sessions//EN")
    calendar.add("version", "2.0")
    calendar.add("calscale", "GREGORIAN")
    calendar.add("x-wr-calname", name)
    for session in sessions:
        calendar.add_component(_event(session))
    return bytes(calendar.to_ical())


def _event(session: Session) -> Event:
    event = Event()
    starts = session.starts_at.astimezone(UTC).replace(tzinfo=None)
    event.add("uid", f"{session.uid}@nembrit")
    event.add("dtstamp", session.changed_at.astimezone(UTC))
    event.add("dtstart", starts)
    event.add("dtend", starts + timedelta(minutes=session.minutes))
    event.add("summary", f"{session.craft.name}: {session.what}")
    if session.place:
        event.add("location", session.place)
    card = card_of(session.card_key) if session.card_key else None
    told = [f"Card: {card.name}, {card.seconds:.0f} s" if card else "", session.note, _CAUTION]
    event.add("description", "\n".join(filter(None, told)))
    reminder = Alarm()
    reminder.add("action", "DISPLAY")
    reminder.add("description", f"Charge the packs for {session.craft.name}")
    reminder.add("trigger", -_CHARGE_BEFORE)
    event.add_component(reminder)
    return event
