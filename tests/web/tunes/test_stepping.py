"""The route “step up by feel” through its pages: from nothing to verification, left in the middle and resumed."""

import pytest
from django.test import Client

from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import core_settings, latest_configuration
from nembrit.web.tunes.models import Slip, Tune
from nembrit.web.tunes.services import tune_of
from tests.flying import log_file

pytestmark = pytest.mark.django_db
ANSWERS = {"flyable": "yes", "logger": "no", "automatic": "no", "n_tests": "20"}


@pytest.fixture
def route(craft: Craft, act) -> str:
    """Pebble follows the route; its page."""
    act(f"/craft/{craft.pk}/route/", route="step_up", **ANSWERS)
    return f"/craft/{craft.pk}/route/step-up/"


def now(craft: Craft) -> dict[str, str]:
    latest = latest_configuration(craft)
    assert latest is not None
    return {one.name: one.value for one in core_settings(latest)}


def test_four_questions_choose_a_route_and_switching_keeps_the_ledger(client: Client, craft: Craft, act) -> None:
    page = client.get(f"/craft/{craft.pk}/route/", ANSWERS).content.decode()
    assert "Step up by feel fits Pebble best" in page
    assert "Log first fits Pebble best" in client.get(f"/craft/{craft.pk}/route/", ANSWERS | {"logger": "yes"}).content.decode()
    act(f"/craft/{craft.pk}/route/", route="step_up", **ANSWERS)
    act(f"/craft/{craft.pk}/route/step-up/", sign="flyable")
    act(f"/craft/{craft.pk}/route/", route="log_first", **ANSWERS)
    act(f"/craft/{craft.pk}/route/", route="step_up", **ANSWERS)
    assert "Raise P of roll from 43 to 48" in client.get(f"/craft/{craft.pk}/route/step-up/").content.decode()


def test_steps_are_written_flown_answered_and_taken_back(client: Client, craft: Craft, act, route: str) -> None:
    assert "First hover, close and low" in client.get(route).content.decode()
    assert "four times before the first raise" in client.get(route).content.decode()
    assert "choose one of the answers" in act(route, sign="buzz")
    assert "Raise P of roll from 43 to 48" in act(route, sign="flyable")
    page = act(f"{route}write/")
    assert "p on roll = 48" in page
    assert "four times before the first raise" not in page
    assert "then answer" in page
    assert "Fly half a minute with P of roll at 48" in client.get(f"/craft/{craft.pk}/next/").content.decode()
    assert "Raise D of roll" in act(route, sign="clean", note="smooth")
    act(f"{route}write/")
    page = act(route, sign="hot")  # back by twice the step, and done
    assert "Saved. Back: D of roll 40 → 30" in page
    assert now(craft)["d on roll"] == "30"
    assert now(craft)["p on roll"] == "48"
    assert "done: hot motors at 40" in client.get(route).content.decode()
    tune = tune_of(craft)
    told = [(slip.title, slip.state, slip.route_step["sign"]) for slip in tune.slips.order_by("number")]
    assert told == [
        ("Raise P of roll from 43 to 48", "kept", "clean"), ("Raise D of roll from 35 to 40", "undone", "hot"),
        ("Back: D of roll 40 → 30", "kept", ""),
    ]  # fmt: skip
    assert "Felt: no bad sign. smooth" in client.get(f"/craft/{craft.pk}/tune/").content.decode()


def test_a_step_that_was_decided_on_its_slip_is_answered_by_that(client: Client, craft: Craft, act, route: str) -> None:
    act(route, sign="flyable")
    act(f"{route}write/")
    slip = Slip.objects.get()
    assert "Answer on the route’s page" in client.get(slip.get_absolute_url()).content.decode()
    act(f"/slips/{slip.pk}/decide/", outcome="keep", note="felt good")
    assert "Raise D of roll" in client.get(route).content.decode()


def test_an_unflyable_hover_lowers_everything_at_once(client: Client, craft: Craft, act, route: str) -> None:
    page = act(route, sign="unflyable")
    assert "Lower P, D and the gyro cutoff together" in page
    act(f"{route}write/")
    assert {name: now(craft)[name] for name in ("p on roll", "d on roll", "p on pitch", "d on pitch")} == {
        "p on roll": "33", "d on roll": "25", "p on pitch": "40", "d on pitch": "32",
    }  # fmt: skip
    assert int(now(craft)["smooth gyro hz"]) < 180
    slip = Slip.objects.get()
    assert (slip.group, slip.state) == ("start", "kept")
    assert "First hover, close and low" in client.get(route).content.decode()


def test_a_route_is_flown_to_its_end_and_verified(client: Client, craft: Craft, act, route: str) -> None:
    act(route, sign="flyable")
    limits = {"p on roll": 52, "d on roll": 42, "p on pitch": 58, "d on pitch": 48, "smooth gyro hz": 215}
    answers = {"i.roll": "neither", "i.pitch": "neither", "f.roll": "fine", "f.pitch": "fine"}
    for _ in range(60):
        page = client.get(route).content.decode()
        if "Verify on the tune page" in page:
            break
        if "Write this step" in page:
            act(f"{route}write/")
            continue
        dial = next((one for one in answers if f'value="{answers[one]}"' in page), None)
        is_over = any(float(now(craft)[name]) > limit for name, limit in limits.items())
        act(route, sign=answers[dial] if dial else "shake" if is_over else "clean")
    else:
        raise AssertionError("the route does not end")
    assert all(float(now(craft)[name]) <= limit for name, limit in limits.items())
    assert "Verify on the tune page" in client.get(route).content.decode()
    assert f'hx-get="/craft/{craft.pk}/next/"' in client.get(route).content.decode()  # what verifying needs, said on the page


def test_without_settings_or_route_the_page_says_what_to_do(client: Client, craft: Craft, act) -> None:
    assert "Which route fits Pebble?" in client.get(f"/craft/{craft.pk}/route/step-up/", follow=True).content.decode()
    craft.configurations.all().delete()
    Tune.objects.filter(pk=tune_of(craft).pk).update(route="step_up")
    page = client.get(f"/craft/{craft.pk}/route/step-up/").content.decode()
    assert "Save the current settings first" in page
    assert "Nothing was saved" in act(f"/craft/{craft.pk}/route/step-up/", sign="clean")
    assert "Nothing was changed" in act(f"/craft/{craft.pk}/route/step-up/write/")


def test_the_tune_page_names_the_flight_that_teaches_most(client: Client, craft: Craft, attach, monkeypatch) -> None:
    page = f"/craft/{craft.pk}/tune/"
    assert "The flight that teaches most" not in client.get(page).content.decode()
    attach(log_file(5, 0.0))
    craft.flights.update(configuration=craft.configurations.get())
    monkeypatch.setattr("nembrit.core.routes.teaches.WANTED", 0.001)
    assert "The flight that teaches most" in client.get(page).content.decode()
    assert "That is the card that you flew last" in client.get(page).content.decode()
