"""The field pages: go or no go, taps kept once, and the outing's notes on its flight."""

import json

import pytest
from django.test import Client

from nembrit.core.setup.preflight import checks_for
from nembrit.web.flights import field
from nembrit.web.flights.models import FieldTap, Flight, Outing
from nembrit.web.hangar.models import Craft
from tests.flying import log_file

EVERY = [check.key for check in checks_for("multirotor")]


@pytest.fixture
def outing(craft: Craft) -> Outing:
    return field.begin(craft, card_key="response", ticked=set(EVERY), pack="A", wind_m_s=2.0)


def send(client: Client, outing: Outing, *taps: object, status: int = 200) -> dict:
    address = f"{outing.get_absolute_url()}taps/"
    answer = client.post(address, json.dumps({"taps": list(taps)}), content_type="application/json")
    assert answer.status_code == status
    return answer.json()


def tap(n: int, kind: str, at_s: float, **data: object) -> dict:
    return {"uid": f"{n:012d}", "kind": kind, "at_s": at_s, "data": data}


def test_no_go_without_every_tick_unless_with_a_reason(client: Client, craft: Craft) -> None:
    address = f"/craft/{craft.pk}/field/"
    assert "Go or no go: Pebble" in client.get(address).content.decode()
    sent = {"card_key": "response", "check": EVERY[1:], "pack": "A", "wind_m_s": "11"}
    page = client.post(address, sent)
    assert page.status_code == 400
    for told in ("no go: Packs full", "wind of 11 m/s", "Nothing is begun", "Why fly although"):
        assert told in page.content.decode()
    assert not Outing.objects.exists()
    client.post(address, sent | {"despite": "a bench test in the hall"})
    assert Outing.objects.get().despite == "a bench test in the hall"
    assert "is not finished" in client.get(address).content.decode()
    assert client.post(address, sent | {"wind_m_s": "viel"}).status_code == 400


def test_the_page_holds_the_card_and_the_stop_rules(client: Client, outing: Outing) -> None:
    page = client.get(outing.get_absolute_url()).content.decode()
    held = json.loads(page.split('id="field-page" type="application/json">')[1].split("</script>")[0])
    assert held["motors"] == [1, 2, 3, 4, 5, 6]
    assert len(held["steps"]) > 3
    assert all(rule in held["stop"] for rule in held["stop"])
    assert page.index("Stop when") < page.index("Take off")
    assert client.get("/field/99/").status_code == 404


def test_a_tap_is_kept_once_however_often_it_is_sent(client: Client, outing: Outing) -> None:
    first = tap(1, "take_off", 4.0)
    for _ in range(2):
        assert send(client, outing, first, tap(2, "marker", 9.0, what="buzz")) == {"kept": ["000000000001", "000000000002"]}
    assert FieldTap.objects.count() == 2
    assert field.told_of(outing).markers == ((5.0, "buzz"),)


@pytest.mark.parametrize(
    "sent", [tap(1, "dance", 1.0), {"uid": 3}, [], tap(1, "marker", 1.0, what="x"), tap(1, "next", 1e12)], ids=str
)
def test_what_is_no_tap_keeps_nothing(client: Client, outing: Outing, sent: object) -> None:
    assert "error" in send(client, outing, tap(7, "take_off", 1.0), sent, status=400)
    assert not FieldTap.objects.exists(), "all of a sending, or nothing"
    address = f"{outing.get_absolute_url()}taps/"
    for body in ("{", "[" * 50_000, "null", '{"taps": 3}'):
        assert client.post(address, body, content_type="application/json").status_code in (200, 400)


def test_notes_go_to_the_flight_and_markers_onto_its_log(client: Client, craft: Craft, outing: Outing, attach) -> None:
    send(client, outing, tap(1, "take_off", 10.0), tap(2, "marker", 14.0, what="shake"), tap(3, "landed", 45.0))
    flight = attach(log_file(5))
    page = client.get(flight.get_absolute_url()).content.decode()
    assert "Which outing was this?" in page
    client.post(f"{flight.get_absolute_url()}outing/", {"outing": str(outing.pk)})
    send(
        client,
        outing,
        tap(
            4,
            "after",
            60.0,
            ended="aborted",
            heat={"2": "hot"},
            celsius={"2": 71, "3": 48.4, "4": "mild", "5": 900},
            rating=2,
            note="buzzed",
        ),
    )  # came late
    flight = Flight.objects.get(pk=flight.pk)
    assert (flight.pack, flight.wind_m_s, flight.ended, flight.heat, flight.notes) == ("A", 2.0, "aborted", "hot", "buzzed")
    page = client.get(flight.get_absolute_url()).content.decode()
    for told in (
        "At the field",
        "<b>shake</b>, 4.00 s after take-off",
        "motors: 2 hot, 71 °C",
        "3 48 °C",
        "rated 2 of 5",
        "traces/?from=",
    ):
        assert told in page
    assert field.waiting_for_log(craft) == []
    assert client.post(f"{flight.get_absolute_url()}outing/", {"outing": "x"}).status_code == 404
