"""The field pages: go or no go, taps kept once, and the outing's notes on its flight."""

import json
from datetime import timedelta

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
    answer = client.post(address, json.dumps({"key": field.key_of(outing), "taps": list(taps)}), content_type="application/json")
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
    for told in ("no go: Packs full", "wind of 11 m/s", "Nothing was started", "Reason to fly despite a failed check"):
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
        assert send(client, outing, first, tap(2, "marker", 9.0, what="buzz"))["kept"] == ["000000000001", "000000000002"]
    assert FieldTap.objects.count() == 2
    assert field.told_of(outing).markers == ((5.0, "buzz"),)


@pytest.mark.parametrize(
    "sent",
    [tap(1, "dance", 1.0), {"uid": 3}, [], tap(1, "marker", 1.0, what="x"), tap(1, "next", 1e12), tap(1, "next", 10**400),
     tap(1, "marker", 5 * 3600.0, what="buzz")],
    ids=lambda one: str(one)[:60],
)  # fmt: skip
def test_what_is_no_tap_is_set_aside_and_holds_no_other_up(client: Client, outing: Outing, sent: object) -> None:
    answer = send(client, outing, tap(7, "take_off", 1.0), sent, tap(8, "landed", 40.0))
    assert answer["kept"] == ["000000000007", "000000000008"]
    assert len(answer["refused"]) == 1
    assert FieldTap.objects.count() == 2
    address = f"{outing.get_absolute_url()}taps/"
    for body in ("{", "[" * 50_000, "null", '{"taps": 3}', "3"):
        assert client.post(address, body, content_type="application/json").status_code in (400, 409)


def test_an_outing_of_another_workshop_with_the_same_number_gets_nothing(client: Client, outing: Outing) -> None:
    key = field.key_of(outing)
    Outing.objects.filter(pk=outing.pk).update(opened_at=outing.opened_at + timedelta(days=3))
    address = f"{outing.get_absolute_url()}taps/"
    sent = json.dumps({"key": key, "taps": [tap(1, "take_off", 1.0)]})
    assert client.post(address, sent, content_type="application/json").status_code == 409
    assert not FieldTap.objects.exists()


def test_a_note_that_no_database_takes_is_cleaned(client: Client, craft: Craft, outing: Outing, attach) -> None:
    send(client, outing, tap(1, "take_off", 1.0), tap(2, "after", 60.0, ended="as_planned", note="a\x00b\ud800c"))
    flight = attach(log_file(5))
    assert client.post(f"{flight.get_absolute_url()}outing/", {"outing": str(outing.pk)}).status_code == 302
    assert Flight.objects.get(pk=flight.pk).notes == "abc"
    for odd in ("²", "9" * 30, "-1", "x"):
        assert client.post(f"{flight.get_absolute_url()}outing/", {"outing": odd}).status_code == 404


def test_notes_go_to_the_flight_and_markers_onto_its_log(client: Client, craft: Craft, outing: Outing, attach) -> None:
    send(client, outing, tap(1, "take_off", 10.0), tap(2, "marker", 14.0, what="shake"), tap(3, "landed", 45.0))
    flight = attach(log_file(5))
    page = client.get(flight.get_absolute_url()).content.decode()
    assert "Which field session was this?" in page
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
