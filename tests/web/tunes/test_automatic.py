"""The route “automatic tune” through its page: runs, their middle as a slip, wrong input."""

import pytest
from django.test import Client

from nembrit.web.hangar.models import Craft
from nembrit.web.tunes.models import Slip

pytestmark = pytest.mark.django_db


def test_runs_are_held_side_by_side_and_their_middle_becomes_a_slip(client: Client, craft: Craft, act) -> None:
    here = f"/craft/{craft.pk}/route/automatic/"
    assert "Fly the automatic tune, then paste what it found" in client.get(here).content.decode()
    act(f"/craft/{craft.pk}/route/", route="automatic", flyable="yes", logger="no", automatic="yes", n_tests="4")
    assert "One run: repeat it" in act(here, text="p on roll = 48\nd on roll = 35\np on pitch = 56\nlamp = blue\n", minutes="11")
    page = act(here, text="p on roll = 52\nd on roll = 35\np on pitch = 88\n", minutes="")
    assert "2 runs differ on pitch: repeat it on a calm day" in page
    assert "11 min" in page
    assert "time unknown" in page
    page = act(here, remove="2")
    assert "One run: repeat it" in page
    page = act(here, text="p on roll = 52\np on pitch = 60\n")
    assert "2 runs agree: fly the middle, then verify it" in page
    assert "Slip 1 is written" in act(here, write="1")
    slip = Slip.objects.get()
    assert (slip.group, slip.title) == ("start", "Automatic tune: the middle of 2 runs")
    now = {one.name: one.value for one in slip.result_configuration.settings.all()}
    assert (now["p on roll"], now["p on pitch"], now["d on roll"]) == ("50", "58", "35")


@pytest.mark.parametrize(
    ("data", "told"),
    [({"text": "lamp = blue"}, "none of these lines is a gain"), ({"text": "p on roll"}, "line 1"),
     ({"text": "p on roll = 50", "minutes": "0"}, "greater than or equal to 0.5"), ({"remove": "3"}, "that run is gone already"),
     ({"write": "1"}, "no change yet")],
)  # fmt: skip
def test_wrong_input_is_said_and_nothing_kept(client: Client, craft: Craft, act, data: dict[str, str], told: str) -> None:
    assert told in act(f"/craft/{craft.pk}/route/automatic/", **data)
    craft.tunes.first().refresh_from_db()
    assert not craft.tunes.first().coached.get("runs")
    assert not Slip.objects.exists()
