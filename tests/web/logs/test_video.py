"""How a video lines up with a flight, and marks set while watching: kept, told again, refused."""

import json
from typing import Any

import pytest
from django.http import HttpResponse
from django.test import Client

from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.logs.models import FlightMark, VideoSync
from tests.flying import log_file

pytestmark = pytest.mark.django_db
FILE = {"name": "field.webm", "size": 123_456, "modified": 1_764_000_000_000}


@pytest.fixture
def flight(craft: Craft, attach) -> Flight:
    return attach(log_file(5))


def sent(client: Client, address: str, document: Any) -> HttpResponse:
    content = document if isinstance(document, str) else json.dumps(document)
    return client.post(address, content, content_type="application/json")


def page_of(client: Client, flight: Flight) -> dict[str, Any]:
    text = client.get(f"{flight.get_absolute_url()}traces/").content.decode()
    return json.loads(text.split('<script id="trace-page" type="application/json">')[1].split("</script>")[0])


def test_a_video_is_known_again_by_name_size_and_date(client: Client, flight: Flight) -> None:
    address = f"{flight.get_absolute_url()}video/"
    assert sent(client, address, FILE | {"pairs": [[2.0, 12.5]]}).json()["offset"] == 10.5
    sent(client, address, FILE | {"pairs": [[2.0, 12.5], [102.0, 112.6]]})  # a second moment takes the first one's place
    assert sent(client, address, FILE | {"size": 1, "pairs": [[0, 1]]}).status_code == 200
    known = page_of(client, flight)["videos"]
    assert [(one["size"], len(one["pairs"])) for one in known] == [(123_456, 2), (1, 1)]
    assert known[0]["rate"] == pytest.approx(1.001)


def test_marks_are_set_shown_and_removed(client: Client, flight: Flight) -> None:
    address = f"{flight.get_absolute_url()}mark/"
    made = sent(client, address, {"at": 12.25, "text": "  a wobble\n after <b>the</b> stop "}).json()
    assert (made["at"], made["label"]) == (12.25, "a wobble after <b>the</b> stop")
    assert page_of(client, flight)["marks"] == [made]
    sent(client, address, {"remove": made["id"]})
    assert page_of(client, flight)["marks"] == []
    assert sent(client, address, {"remove": 999}).status_code == 200  # gone already


@pytest.mark.parametrize(
    ("part", "document", "told"),
    [("video", FILE | {"pairs": [[0, 10], [10, 25]]}, "pick them again"), ("video", FILE | {"pairs": "x"}, "one or two moments"),
     ("video", FILE | {"pairs": [[0, None]]}, "number of seconds"), ("video", {"pairs": [[0, 1]]}, "size and date"),
     ("video", FILE | {"pairs": [[True, 1e9]]}, "number of seconds"), ("video", "{", "not JSON"),
     ("video", "[]", "expected form"),
     ("mark", {"at": 1, "text": "  "}, "write what you saw"), ("mark", {"at": "x", "text": "a"}, "number of seconds"),
     ("mark", "x" * 30_000, "too much")],
)  # fmt: skip
def test_what_cannot_be_is_said_and_nothing_kept(client: Client, flight: Flight, part: str, document: Any, told: str) -> None:
    answer = sent(client, f"{flight.get_absolute_url()}{part}/", document)
    assert answer.status_code == 400
    assert told in answer.json()["error"]
    assert not VideoSync.objects.exists()
    assert not FlightMark.objects.exists()
