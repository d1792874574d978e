"""The gate at the form of a slip: what must not be flown, what needs a reason, and what is no matter of it."""

from types import SimpleNamespace

import pytest
from django.test import Client

from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import core_settings, latest_configuration
from nembrit.web.tunes import services
from nembrit.web.tunes.models import Slip
from tests.flying import log_file
from tests.pageforms import fields_of

pytestmark = pytest.mark.django_db


@pytest.mark.parametrize(
    ("group", "name", "value", "told"),
    [
        ("idle", "motor floor %", "8", ""),  # no gain and no filter
        ("pd.roll", "p on roll", "47", ""),
        ("pd.roll", "p on roll", "60", "P of roll changes by a factor of 1.4 in one flight"),
        ("pd.roll", "p on roll", "400", "these settings must not be flown: roll would oscillate"),
    ],
)
def test_a_typed_change_passes_needs_a_reason_or_is_refused(
    client: Client, craft: Craft, attach, group: str, name: str, value: str, told: str
) -> None:
    attach(log_file(5))
    address = f"/craft/{craft.pk}/slips/new/"
    sent = fields_of(client.get(f"{address}?group={group}").content.decode()) | {"title": "A change", f"value-{name}": value}
    answer = client.post(address, sent)
    assert told in answer.content.decode()
    assert answer.status_code == (400 if told else 302)
    again = client.post(address, sent | {"beyond": "close and low, over grass"})
    assert again.status_code == (400 if "must not" in told else 302)
    assert Slip.objects.count() == (0 if "must not" in told else 1)


WIDE, FORBIDDEN = "P of roll changes by a factor of 1.4 in one flight", "these settings must not be flown: roll would oscillate"


@pytest.mark.parametrize(("value", "told"), [("60", WIDE), ("400", FORBIDDEN)])
def test_starting_values_and_an_automatic_tune_pass_the_same_gate(
    client: Client, craft: Craft, attach, act, value: str, told: str
) -> None:
    attach(log_file(5))
    typed = {"source": "a friend", "use": ["p on roll"], "value-p on roll": value, "write": "1"}
    here, runs = f"/craft/{craft.pk}/route/starting-values/", f"/craft/{craft.pk}/route/automatic/"
    page = client.post(here, typed)
    assert page.status_code == 400
    assert told in page.content.decode()
    assert f'name="value-p on roll" value="{value}"' in page.content.decode()  # what was typed is kept
    act(runs, text=f"p on roll = {value}")
    assert told in act(runs, write="1")
    assert not Slip.objects.exists()
    reason = {"beyond": "close and low, over grass"}
    act(runs, write="1", **reason)
    client.post(here, typed | reason)
    kept = [(slip.title, slip.beyond) for slip in Slip.objects.all()]
    assert kept == ([("Automatic tune: the middle of 1 run", reason["beyond"])] if told == WIDE else [])


def test_steps_to_safety_wait_for_no_repair_and_a_closed_gate_keeps_the_value(
    client: Client, craft: Craft, act, monkeypatch
) -> None:
    route = f"/craft/{craft.pk}/route/step-up/"
    act(f"/craft/{craft.pk}/route/", route="step_up", flyable="no", logger="no", automatic="no", n_tests="9")
    held = SimpleNamespace(number=1), SimpleNamespace(highlight="a loose mount")
    monkeypatch.setattr(services, "latest_act_finding", lambda craft: held)
    act(route, sign="unflyable")
    assert "is written" in act(f"{route}write/")  # lower, although mechanics are at fault
    assert Slip.objects.get().state == "kept"
    act(route, sign="flyable")
    assert "mechanics first" in act(f"{route}write/")  # but nothing rises
    monkeypatch.undo()
    act(f"{route}write/")
    before = {one.name: one.value for one in core_settings(latest_configuration(craft))}

    def closed(*args: object) -> None:
        raise services.InputError("closed")

    monkeypatch.setattr(services, "require_gate", closed)
    assert "Fly half a minute with P of roll at 33" in act(route, sign="hot")
    after = {one.name: one.value for one in core_settings(latest_configuration(craft))}
    assert float(after["p on roll"]) == float(before["p on roll"]) - 5  # undone, and no further
