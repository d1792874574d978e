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
    assert "Write the next change slip" in told
    assert "of 4" in told
    assert met(tune, "verify") == [False, True]
    assert met(tune, "locked") == [True]


def test_a_decided_slip_meets_its_stage(craft: Craft, slip_text) -> None:
    tune = tunes.tune_of(craft)
    slip = tunes.make_slip(tune, group="d_filters", text=slip_text, values={"smooth d hz": "80"})
    assert met(tune, "filters")[-1] is False
    assert met(tune, "verify")[-1] is False
    tunes.decide(slip, "keep")
    assert met(tune, "filters")[-1] is True
    assert met(tune, "locked") == [False], "the settings of now are not the reference"


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
    assert "upright lines are changes" in page(client, craft)


@pytest.mark.parametrize(
    ("kind", "there", "gone"),
    [("configuration", "r1 saved", "as built"), ("build", "as built", "r1 saved"), ("magic", "r1 saved", "")],
)
def test_the_ledger_by_kind(client: Client, craft: Craft, kind: str, there: str, gone: str) -> None:
    ledger = page(client, craft, f"?kind={kind}").split('id="ledger"')[1]
    assert there in ledger
    assert not gone or gone not in ledger
    assert "Nothing of that kind yet" in page(client, craft, "?kind=slip")
