"""Decisions that count: no flight twice, none from before the change, no look for free, and second thoughts on record."""

import re
from dataclasses import replace
from datetime import timedelta

import pytest
from django.test import Client

from nembrit.core.analysis.likeness import Likeness
from nembrit.web.bench.results import store
from nembrit.web.flights.models import Flight
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes import history
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.models import Slip
from nembrit.web.tunes.trials import trial_of
from tests.web.tunes.test_slips import fly, lower_d, text, title  # noqa: F401  (fixtures)

pytestmark = pytest.mark.django_db


def standing(slip: Slip) -> dict[int, str]:
    return {row.flight.number: row.standing.why for row in trial_of(slip).judged if row.standing and not row.standing.counts}


def marked(flight: Flight, mark: tuple[int, ...]) -> None:
    store(flight.segments.get(), "likeness", Likeness(mark=mark))


def test_a_copy_counts_once_and_a_flight_from_before_the_change_is_asked_about(craft: Craft, fly, text) -> None:  # noqa: F811
    before = fly(1.0, 1.0, 1.0, 1.0)
    slip = lower_d(craft, text)
    first, second, third = fly(0.7, 0.7, 0.7)
    shaken = tuple((37 * k) % 101 - 50 for k in range(600))
    marked(first, shaken)
    marked(second, shaken[25:])
    third.flown_at = before[0].flown_at - timedelta(days=1)
    third.save()
    told = standing(slip)
    assert told[second.number] == f"a part or another copy of flight {first.number}: counted once"
    assert told[third.number] == "its time is before this change was written"


def test_numbers_wait_for_the_planned_flights_and_a_look_makes_the_verdict_stricter(
    client: Client, craft: Craft, fly, text, act  # noqa: F811
) -> None:  # fmt: skip
    fly(1.0, 1.0, 1.0, 1.0)
    slip = lower_d(craft, text)
    fly(0.7, 0.7)
    page = client.get(slip.get_absolute_url()).content.decode()
    assert "are attached" in page
    assert 'class="dots"' not in page
    assert re.search(r"p at most 0\.0\d\d instead of\s+0\.050", page)
    assert "The early look is recorded" in act(f"/slips/{slip.pk}/look/")
    page = client.get(slip.get_absolute_url()).content.decode()
    assert 'class="dots"' in page
    assert "are attached" not in page
    assert "numbers looked at early, 4 + 2 flights flown" in client.get(f"/craft/{craft.pk}/tune/").content.decode()
    fly(0.7, 0.7)
    slip.refresh_from_db()
    assert trial_of(slip).verdict.level == pytest.approx(0.0297, abs=5e-4)
    assert "the planned flights are flown" in act(f"/slips/{slip.pk}/look/")


@pytest.mark.parametrize("outcome", ["keep", "undo"])
def test_a_decision_can_be_taken_back(client: Client, craft: Craft, fly, text, act, outcome: str) -> None:  # noqa: F811
    fly(1.0, 1.0, 1.0, 1.0)
    slip = lower_d(craft, text)
    fly(0.7, 0.7, 0.7, 0.7)
    after = hangar.core_settings(hangar.latest_configuration(craft))
    tunes.decide(slip, outcome)
    assert "give a reason" in act(f"/slips/{slip.pk}/reopen/", why=" ")
    assert "is reopened" in act(f"/slips/{slip.pk}/reopen/", why="decided in a hurry")
    slip.refresh_from_db()
    assert slip.state == Slip.State.OPEN
    assert hangar.core_settings(hangar.latest_configuration(craft)) == after
    assert title(client, slip).startswith("Better"), "its flights count as before"
    ledger = [line.text for line in history.ledger(slip.tune)]
    assert f"Slip 1 reopened; it was {'kept' if outcome == 'keep' else 'undone'}" in ledger
    assert "is open already" in act(f"/slips/{slip.pk}/reopen/", why="again")
    tunes.decide(slip, "keep")
    lower_d(craft, replace(text, beyond="close and low"), value="20")
    assert "slip 2 was written later" in act(f"/slips/{slip.pk}/reopen/", why="too late")


def test_the_outcome_is_told_in_the_words_of_the_verdict(craft: Craft, fly, text) -> None:  # noqa: F811
    fly(1.0, 1.0, 1.0, 1.0)
    slip = lower_d(craft, text)
    fly(1.0, 1.0, 1.0, 1.0)
    decision = tunes.decide(slip, "keep")
    assert history.outcome_line(decision).startswith("no difference that matters (motor roughness")
