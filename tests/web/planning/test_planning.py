"""Planned sessions and their calendar file, against RFC 5545 and a library that reads it."""

from datetime import datetime, timedelta

import pytest
from django.test import Client
from icalendar import Calendar

from nembrit.web.hangar.models import Craft
from nembrit.web.planning.models import Session

GIVEN = {"what": "Verify, calm morning", "starts_at": "2027-03-06T08:30", "minutes": "75", "place": "Harrowmere Common; east",
         "card_key": "response", "note": "two packs, one card\\n", "once": ""}  # fmt: skip
pytestmark = pytest.mark.django_db


def test_a_session_is_planned_and_comes_as_a_calendar(client: Client, craft: Craft, act) -> None:
    page = act(f"/craft/{craft.pk}/sessions/", **GIVEN)
    assert "Next with Pebble: Saturday, 6 Mar, 08:30" in page
    answer = client.get(f"/craft/{craft.pk}/sessions/calendar.ics")
    assert answer["Content-Type"].startswith("text/calendar")
    lines = answer.content.split(b"\r\n")
    assert answer.content.endswith(b"END:VCALENDAR\r\n")
    assert b"\n" not in answer.content.replace(b"\r\n", b"")
    assert max(map(len, lines)) <= 75, "RFC 5545, 3.1: lines are folded at 75 octets"
    (event,) = Calendar.from_ical(answer.content).walk("VEVENT")
    assert event["SUMMARY"] == "Pebble: Verify, calm morning"
    assert event.decoded("DTSTART") == datetime(2027, 3, 6, 8, 30), "floating: the wall clock at the field"
    assert event.decoded("DTEND") - event.decoded("DTSTART") == timedelta(minutes=75)
    assert event["LOCATION"] == "Harrowmere Common; east"
    assert event["UID"] == f"{Session.objects.get().uid}@nembrit"
    assert "Half-minute card" in event["DESCRIPTION"]
    (alarm,) = event.walk("VALARM")
    assert alarm.decoded("TRIGGER") == -timedelta(hours=12)


def test_a_session_is_taken_out(client: Client, craft: Craft, act) -> None:
    act(f"/craft/{craft.pk}/sessions/", **GIVEN)
    uid = Session.objects.get().uid
    assert "Remove it from your calendar, too" in act(f"/craft/{craft.pk}/sessions/{Session.objects.get().pk}/away/")
    assert str(uid).encode() not in client.get(f"/craft/{craft.pk}/sessions/calendar.ics").content


@pytest.mark.parametrize(
    ("fields", "told"),
    [
        ({"what": ""}, "required"),
        ({"starts_at": "next Saturday"}, "valid date"),
        ({"starts_at": "0001-01-01T00:00"}, "between 1990 and 2200"),
        ({"minutes": "-5"}, "greater than or equal to 10"),
        ({"card_key": "nothing"}, "valid choice"),
    ],
)
def test_nothing_is_planned_of_what_cannot_be(client: Client, craft: Craft, fields: dict[str, str], told: str) -> None:
    answer = client.post(f"/craft/{craft.pk}/sessions/", GIVEN | fields)
    assert answer.status_code == 400
    assert told in answer.content.decode()
    assert not Session.objects.exists()
