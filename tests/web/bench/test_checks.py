"""Safety checks of a plane through their pages: limits before, readings by hand, a flight, wrong input."""

import pytest
from django.test import Client

from nembrit.web.ground.models import CheckLimits, CheckNote
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from tests.pageforms import fields_of

pytestmark = pytest.mark.django_db


@pytest.fixture
def plane(db: None) -> Craft:
    return hangar.create_craft(layout=None, name="Gull", kind="fixed_wing")


def page(client: Client, craft: Craft, key: str = "") -> str:
    return client.get(f"/craft/{craft.pk}/checks/{f'{key}/' if key else ''}").content.decode()


def test_the_board_names_what_is_due(client: Client, plane: Craft, act) -> None:
    assert "0 of 5 checks passed; next: range check" in page(client, plane)
    here = f"/craft/{plane.pk}/checks/range/"
    assert "judged below" in act(
        here, **{"read-distance_m": "45", "read-servo_jumps": "0", "read-note": "wet grass", "readings": "1"}
    )
    assert "Range check: passed" in page(client, plane, "range")
    assert "1 of 5 checks passed; next: failsafe" in page(client, plane)
    act(here, **{"read-distance_m": "20", "read-servo_jumps": "1", "readings": "1"})
    assert "Range check: failed" in page(client, plane, "range")
    assert "next: range check" in page(client, plane)


def test_a_check_is_judged_by_the_limits_that_stood_before_it(client: Client, plane: Craft, act) -> None:
    here = f"/craft/{plane.pk}/checks/range/"
    act(here, **{"limit-distance_m": "30", "limit-servo_jumps": "0", "limits": "1"})
    act(here, **{"read-distance_m": "45", "read-servo_jumps": "0", "readings": "1"})
    act(here, **{"limit-distance_m": "60", "limit-servo_jumps": "0", "limits": "1"})
    assert "Range check: passed" in page(client, plane, "range")
    assert "limits set afterwards" not in page(client, plane, "range")
    act(here, **{"read-distance_m": "45", "read-servo_jumps": "0", "readings": "1"})
    shown = page(client, plane, "range")
    assert "Range check: failed" in shown
    assert "full control up to 60 m" in shown
    assert "full control up to 30 m" in shown


@pytest.mark.parametrize(
    ("key", "sent"),
    [("range", {"read-distance_m": "far", "read-servo_jumps": "0", "readings": "1"}), ("range", {"readings": "1"}),
     ("range", {"limit-distance_m": "-4", "limit-servo_jumps": "0", "limits": "1"}),
     ("level", {"read-roll": "1e999", "readings": "1"}),
     ("airspeed", {"limit-off_pct": "nan", "limits": "1"}), ("range", {})],
)  # fmt: skip
def test_wrong_input_is_said_and_nothing_kept(client: Client, plane: Craft, key: str, sent: dict[str, str]) -> None:
    here = f"/craft/{plane.pk}/checks/{key}/"
    token = {name: value for name, value in fields_of(client.get(here).content.decode()).items() if name == "csrfmiddlewaretoken"}
    assert client.post(here, sent | token).status_code == 400
    assert not CheckLimits.objects.exists()
    assert not CheckNote.objects.exists()


def test_no_such_check_and_no_such_craft(client: Client, plane: Craft, craft: Craft) -> None:
    for address in (f"/craft/{plane.pk}/checks/flutter/", f"/craft/{craft.pk}/checks/", "/craft/999/checks/"):
        assert client.get(address).status_code == 404
