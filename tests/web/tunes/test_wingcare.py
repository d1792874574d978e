"""Trims as slips: filled in, checked by the next flight; the navigation held back while something pulls, and led back after."""

import pytest
from django.test import Client

from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.models import Slip
from tests.core.wing.planes import SURFACES, followed, gain_holds, hands_off
from tests.pageforms import fields_of
from tests.web.bench.test_wing import fly

pytestmark = pytest.mark.django_db
MIDDLES = "".join(f"servo middle {n} = 1500\n" for n in range(1, 5)) + "".join(
    f"{term} on {axis} = 20\n" for term in "pif" for axis in ("roll", "pitch")
)


@pytest.fixture
def plane(db: None) -> Craft:
    plane = hangar.create_craft(layout=None, name="Kite", kind=Craft.Kind.FIXED_WING, propeller_diameter_in=11.0)
    hangar.save_surfaces(plane, [{"servo": one.servo, "role": one.role, "direction": one.direction} for one in SURFACES])
    hangar.paste_configuration(plane, f"follow course = 12\n{MIDDLES}")
    trims = {f"servo middle {n}": ("trim", 1.0) for n in range(1, 5)}
    hangar.save_name_map(plane, {"follow course": ("gain.navigation.roll.p", 0.1), **trims})
    return plane


def slip_form(client: Client, plane: Craft, group: str) -> dict[str, str]:
    return fields_of(client.get(f"/craft/{plane.pk}/slips/new/?group={group}").content.decode())


def test_a_pull_holds_the_navigation_back(client: Client, plane: Craft) -> None:
    fly(client, plane, followed(2, pull_deg_s=-1.4), "legs.csv", "wing_tracks")
    form = slip_form(client, plane, "navigation") | {"value-follow course": "5", "title": "calmer", "group": "navigation"}
    page = client.post(f"/craft/{plane.pk}/slips/new/", form).content.decode()
    assert "rim first: flight 1 is pulled to the left" in page
    assert not Slip.objects.exists()
    answer = client.post(f"/craft/{plane.pk}/slips/new/", form | {"despite": "only for today", "once": "another"}, follow=True)
    assert "Slip 1 is written" in answer.content.decode()
    assert slip_form(client, plane, "trim")["value-servo middle 3"] == "1500"
    assert "Fly “Two speeds” before you move any trim" in client.get(f"/craft/{plane.pk}/slips/new/?group=trim").content.decode()


def test_a_trim_is_checked_by_the_next_flight_and_the_navigation_comes_back(client: Client, plane: Craft) -> None:
    loosened = hangar.paste_configuration(plane, f"follow course = 5\n{MIDDLES}")
    assert plane.configurations.first() == loosened
    fly(client, plane, hands_off(3, trims_us=(18.0, -2.0, 0.0)), "trim.csv")
    form = slip_form(client, plane, "trim")
    assert float(form["value-servo middle 1"]) == pytest.approx(1518, abs=4)
    assert (form["primary_metric"], form["card_key"]) == ("held_trim.roll", "wing_trim")
    answer = client.post(f"/craft/{plane.pk}/slips/new/", form | {"group": "trim"}, follow=True)
    assert "Slip 1 is written" in answer.content.decode()
    slip = Slip.objects.get()
    centred = hands_off(4, trims_us=(0.0, 0.0, 0.0))
    moved = 18.0
    for servo in ("servo.1", "servo.2"):
        centred.channels[servo] = centred.channels[servo] + moved
    fly(client, plane, centred, "after.csv")
    page = client.get(slip.get_absolute_url()).content.decode()
    assert "Checks in later flights" in page
    assert "Passed" in page
    assert "Flight 2 shows that it is trimmed" in page
    tunes.decide(slip, "keep", note="")
    fly(client, plane, followed(5), "legs.csv", "wing_tracks")
    page = client.get(f"/craft/{plane.pk}/tune/").content.decode()
    assert "the navigation gain is restored" in page
    form = slip_form(client, plane, "navigation")
    assert form["value-follow course"] == "12"
    assert form["limit_metric_1"] == "sway"


def test_settings_of_a_plane_are_judged_by_a_plane_s_numbers(client: Client, plane: Craft) -> None:
    page = client.get(f"/craft/{plane.pk}/slips/new/?group=trim").content.decode()
    assert "lurch at the switch to manual, roll" in page
    assert "motor roughness" not in page


@pytest.mark.long(
    "its other cases ask the same",
    only=(
        "tops1",
        "tops3",
    ),
)
@pytest.mark.parametrize(
    ("tops", "group", "values"),
    [
        ((68.0, 70.0), "feed_forward", {"f on roll": "69"}),
        ((68.0, 90.0), "feed_forward", {}),  # two runs that differ: another is flown first
        ((20.0, 20.3), "pd.roll", {"p on roll": "18"}),  # saved already: a little less P
        ((68.0, 70.0), "pd.roll", {}),  # not saved yet
    ],
)
def test_automatic_gains_become_slips(
    client: Client, plane: Craft, tops: tuple[float, float], group: str, values: dict[str, str]
) -> None:
    for number, top in enumerate(tops):
        climb = [0.9 * top + 0.1 * top * min(1.0, k / 6) for k in range(12)]
        climb[8] *= 0.97
        fly(client, plane, gain_holds([2.0] * 12, climb), f"gains-{number}.csv", "wing_gains")
    names = {f"{term} on roll": (f"gain.rate.roll.{term}", None) for term in "pif"}
    hangar.save_name_map(plane, names)
    page = client.get(f"/craft/{plane.pk}/slips/new/?group={group}").content.decode()
    assert ("Proposed values are highlighted" in page) is bool(values)
    form = fields_of(page)
    assert {name: form[f"value-{name}"] for name in values} == values


def test_a_plane_s_stages_ask_what_a_plane_can_show(client: Client, plane: Craft) -> None:
    tune = tunes.tune_of(plane)
    for stage, told in (("filters", "Next: gains"), ("gains", "the feed-forward of roll fits the surface")):
        type(tune).objects.filter(pk=tune.pk).update(stage=stage)
        fly(client, plane, hands_off(2), f"{stage}.csv")
        assert told in client.get(f"/craft/{plane.pk}/tune/").content.decode()


def test_what_has_to_move_is_told_where_no_setting_is_known_as_a_centre(client: Client, plane: Craft) -> None:
    hangar.save_name_map(plane, {f"servo middle {n}": ("other", None) for n in range(1, 5)})
    fly(client, plane, hands_off(3, trims_us=(18.0, -2.0, 0.0)), "trim.csv")
    page = client.get(f"/craft/{plane.pk}/slips/new/?group=trim").content.decode()
    assert "But no setting is named as a" in page
