"""The tune page: its next step, what a stage needs, numbers over the flights, the ledger by kind."""

import pytest
from django.test import Client

from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.courses import courses_of
from nembrit.web.tunes.gates import needs_of
from nembrit.web.tunes.models import Tune
from tests.flying import log_file


def page(client: Client, craft: Craft, query: str = "") -> str:
    answer = client.get(f"/craft/{craft.pk}/tune/{query}")
    assert answer.status_code == 200
    return answer.content.decode()


def met(tune: Tune, stage: str) -> list[bool]:
    tune.stage = stage
    return [need.is_met for need in needs_of(tune)]


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_needs_follow_what_was_flown(client: Client, craft: Craft, attach) -> None:
    tune = tunes.tune_of(craft)
    assert met(tune, "baseline") == [True, False]
    assert met(tune, "mechanics") == met(tune, "gains") == [False, False]
    attach()  # a loose mount
    assert met(tune, "mechanics") == [False, False]
    assert "Cure first" in page(client, craft)
    attach(log_file(5), name="sound.csv")
    assert met(tune, "mechanics") == [True, False]
    assert met(tune, "gains") == [True, False]
    tune.stage = "filters"
    assert "at the motors" in needs_of(tune)[1].text
    told = page(client, craft)
    assert "Continue flying: four flights of one card" in told
    assert "of 4" in told
    assert met(tune, "verify") == [True, False, False]
    assert met(tune, "locked") == [True]


def test_a_decided_slip_meets_its_stage(craft: Craft, slip_text) -> None:
    tune = tunes.tune_of(craft)
    slip = tunes.make_slip(tune, group="d_filters", text=slip_text, values={"smooth d hz": "80"})
    assert met(tune, "filters")[-1] is False
    assert met(tune, "verify")[0] is False
    tunes.decide(slip, "keep")
    assert met(tune, "filters")[-1] is True
    assert met(tune, "locked") == [False], "the settings current flights are not the reference"


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_numbers_over_the_flights_mark_changes(client: Client, craft: Craft, attach) -> None:
    assert courses_of(craft) == []
    attach(log_file(5))
    latest = hangar.paste_configuration(craft, "p on roll = 44")
    attach(log_file(6), name="second.csv", configuration=str(latest.pk))
    found = {course.label: course for course in courses_of(craft)}
    assert {"motion noise, roll", "motor roughness", "tracking error, roll"} <= set(found)
    course = found["motor roughness"]
    assert ([dot.number for dot in course.dots], len(course.changes)) == ([1, 2], 1)
    assert course.dots[0].x < course.changes[0] < course.dots[1].x
    assert {dot.y for dot in course.dots} == {6.0, 40.0}
    assert "Each dot is a flight, oldest first" in page(client, craft)


@pytest.mark.parametrize(
    ("kind", "there", "gone"),
    [("configuration", "r1 saved", "as built"), ("build", "as built", "r1 saved"), ("magic", "r1 saved", "")],
)
def test_the_ledger_by_kind(client: Client, craft: Craft, kind: str, there: str, gone: str) -> None:
    ledger = page(client, craft, f"?kind={kind}").split('id="ledger"')[1]
    assert there in ledger
    assert not gone or gone not in ledger
    assert "No entries of this kind" in page(client, craft, "?kind=slip")


def test_a_next_tune_begins_at_its_baseline_and_the_first_stays_readable(client: Client, craft: Craft, slip_text) -> None:
    first = tunes.tune_of(craft)
    slip = tunes.make_slip(first, group="d_filters", text=slip_text, values={"smooth d hz": "80"})
    address = f"/craft/{craft.pk}/tune/"
    told = client.post(f"{address}new/", {"name": "Winter", "route": "step_up"}, follow=True).content.decode()
    assert "slip 1 is still open" in told
    tunes.decide(slip, "keep")
    assert "a tune needs a name" in client.post(f"{address}new/", {"name": ""}, follow=True).content.decode()
    told = client.post(f"{address}new/", {"name": "Winter", "route": "step_up"}, follow=True).content.decode()
    assert "“Winter” started" in told
    assert (tunes.tune_of(craft).name, tunes.tune_of(craft).stage, tunes.tune_of(craft).route) == (
        "Winter",
        "baseline",
        "step_up",
    )
    assert "Slip 1: a change" not in page(client, craft).split('id="ledger"')[1]
    earlier = page(client, craft, f"?tune={first.pk}")
    assert "This is an earlier tune" in earlier
    assert "Slip 1: a change" in earlier.split('id="ledger"')[1]
    client.post(address, {"name": "Winter", "route": "step_up", "stage": "baseline", "state": "paused"})
    assert "Winter of Pebble: paused" in page(client, craft)
    assert "Baseline, paused" in client.get("/").content.decode()


def test_a_sister_craft_starts_from_the_reference(client: Client, craft: Craft) -> None:
    sister = hangar.create_craft(layout="hex", name="Flint", kind="multirotor", propeller_diameter_in=6.0)
    told = client.get(f"/craft/{sister.pk}/configurations/new/?from={craft.pk}").content.decode()
    assert "Pebble’s reference settings" in told
    assert "p on roll = 43" in told
    assert "reference settings. Another" not in client.get(f"/craft/{sister.pk}/configurations/new/?from=99").content.decode()
