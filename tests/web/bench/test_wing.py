"""A plane of one's own: its surfaces, its logs, and what its wing page says."""

from datetime import timedelta

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from nembrit.core.analysis.wing import Wing
from nembrit.core.formats import nembrit_csv
from nembrit.core.records.log import Recording
from nembrit.core.wing.trim import AxisTrim, Trim
from nembrit.web.bench.wing import headline
from nembrit.web.flights.models import Flight
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.models import Tune
from tests.core.wing.paths import returned
from tests.core.wing.planes import followed, gain_holds, hands_off
from tests.core.wing.test_navigation import there_and_back
from tests.pageforms import fields_of

pytestmark = pytest.mark.django_db
V_TAIL = {
    "role-1": "aileron", "direction-1": "1", "centre-1": "1500", "throw-1": "500",
    "role-2": "aileron", "direction-2": "1", "centre-2": "1500", "throw-2": "500",
    "role-3": "v_tail_left", "direction-3": "1", "centre-3": "1500", "throw-3": "500",
    "role-4": "v_tail_right", "direction-4": "-1", "centre-4": "1500", "throw-4": "500",
}  # fmt: skip


@pytest.fixture
def plane(db: None) -> Craft:
    return hangar.create_craft(layout=None, name="Kite", kind="fixed_wing", propeller_diameter_in=11.0)


def as_file(recording: Recording) -> bytes:
    """The log as a recorder would write it, with gyros for its clock's sake."""
    n = recording.n_samples
    channels = dict(recording.channels)
    for axis in ("roll", "pitch", "yaw"):
        channels.setdefault(f"gyro.{axis}", np.random.default_rng(1).standard_normal(n))
    times = np.arange(n) / recording.sample_rate_hz
    words = recording.labels.get("mode", ())
    codes = channels.pop("mode", None)
    columns: list = sorted(channels.items())
    if codes is not None:
        columns.append(("mode", [words[int(code)] for code in codes]))
    return nembrit_csv.write(columns, times)


def fly(client: Client, plane: Craft, recording: Recording, name: str, card: str = "wing_trim") -> Flight:
    files = {"files": [SimpleUploadedFile(name, as_file(recording))], "card_key": card}
    answer = client.post(f"/craft/{plane.pk}/logs/attach/", files)
    assert answer.status_code == 200, answer.content.decode()
    return plane.flights.first()


def test_trims_are_told_once_the_surfaces_are_known(client: Client, plane: Craft, act) -> None:
    flight = fly(client, plane, hands_off(3, trims_us=(18.0, -25.0, 0.0)), "trim.csv")
    page = client.get(f"{flight.get_absolute_url()}wing/").content.decode()
    assert "the control surfaces are unknown" in page
    assert "Saved" in act(f"/craft/{plane.pk}/surfaces/", **V_TAIL)
    assert "Nothing was changed" in act(f"/craft/{plane.pk}/surfaces/", **V_TAIL)
    client.get(f"{flight.get_absolute_url()}wing/")  # asks for it anew
    page = client.get(f"{flight.get_absolute_url()}wing/").content.decode()
    assert "Pitch is held by" in page
    assert "Next trim step: Move the held trim into the servo centres: roll and pitch" in page
    assert "trailing edge down" in page
    flight_page = client.get(flight.get_absolute_url()).content.decode()
    assert "/wing/" in flight_page
    assert "Pitch is held by" in flight_page.split("</h1>")[0]
    assert ("Gyro noise" in flight_page) != ("Noise and step response need a log" in flight_page)


def test_the_trim_stage_asks_for_trims_and_straight_legs(client: Client, plane: Craft, act) -> None:
    hangar.paste_configuration(
        plane, "servo middle 1 = 1500\nservo middle 2 = 1500\nservo middle 3 = 1500\nservo middle 4 = 1500\n"
    )
    hangar.save_name_map(plane, {f"servo middle {n}": ("trim", 1.0) for n in range(1, 5)})
    act(f"/craft/{plane.pk}/surfaces/", **V_TAIL)
    fly(client, plane, hands_off(3, trims_us=(18.0, -25.0, 0.0)), "trim.csv")
    tunes.tune_of(plane)
    Tune.objects.update(stage="trim")
    page = client.get(f"/craft/{plane.pk}/tune/").content.decode()
    assert "roll and pitch within 8 µs, hands off" in page
    assert "1500 → 1474 µs: trailing edge down" in " ".join(page.split())
    form = client.get(f"/craft/{plane.pk}/slips/new/?group=trim").content.decode()
    assert "Proposed values are highlighted" in form
    values = fields_of(form)
    assert float(values["value-servo middle 1"]) == pytest.approx(1518, abs=4)
    assert float(values["value-servo middle 3"]) == pytest.approx(1475, abs=6)
    assert float(values["value-servo middle 4"]) == pytest.approx(1525, abs=6)


def test_a_plane_is_flown_in_the_simulator(client: Client, plane: Craft, act) -> None:
    hangar.paste_configuration(plane, "servo middle 1 = 1500\n")
    page = act(f"/craft/{plane.pk}/simulator/", card="wing_trim", configuration=str(plane.configurations.get().pk), flights="1",
               seed="3", wind_m_s="2", pack_charge_pct="95", condition="sound")  # fmt: skip
    assert "enter the control surfaces first, on the" in page
    act(f"/craft/{plane.pk}/surfaces/", **V_TAIL)
    page = act(f"/craft/{plane.pk}/simulator/", card="wing_trim", configuration=str(plane.configurations.get().pk), flights="1",
               seed="3", wind_m_s="2", pack_charge_pct="95", condition="sound")  # fmt: skip
    assert "is flown" in page
    wing = client.get(f"{plane.flights.get().get_absolute_url()}wing/").content.decode()
    assert "Trims, hands off" in wing


def test_a_pull_is_a_finding_and_holds_the_navigation_back(client: Client, plane: Craft) -> None:
    flight = fly(client, plane, followed(2, pull_deg_s=-1.4), "legs.csv")
    page = client.get(flight.get_absolute_url()).content.decode()
    assert "to the left on straight legs" in page
    assert "Do not change the navigation gain yet" in page
    assert "propeller" not in page.split("<h1>")[1].split("</h1>")[0]
    page = client.get(f"{flight.get_absolute_url()}wing/").content.decode()
    assert "a yaw trim or a tilted horizon" in page
    assert "Wind" in page
    assert client.get(f"{flight.get_absolute_url()}response/").status_code == 200


@pytest.mark.parametrize(
    ("changes", "told"),
    [
        ({"role-4": ""}, "ach pair has one v tail left and one v tail right"),
        ({"centre-1": "99"}, "goes from 500 to 2500"),
        ({"throw-1": "much"}, "should be a number"),
        ({"role-1": "sail"}, "valid choice"),
    ],
)
def test_no_surface_is_made_of_what_none_is(client: Client, plane: Craft, changes: dict[str, str], told: str) -> None:
    answer = client.post(f"/craft/{plane.pk}/surfaces/", V_TAIL | changes)
    assert answer.status_code == 400
    assert told in answer.content.decode()
    assert hangar.surfaces_of(plane) == ()


def test_a_multirotor_has_no_wing(client: Client, craft: Craft, attach) -> None:
    flight = attach()
    assert client.get(f"{flight.get_absolute_url()}wing/").status_code == 404
    assert client.get(f"/craft/{craft.pk}/surfaces/").status_code == 404


@pytest.mark.parametrize(
    ("roll", "pitch", "told"),
    [
        ((3.6, 1.2), (2.4, 2.9), "Trimmed within 10 µs: pitch and roll"),  # 2.4 + 1.96 x 2.9: the far end, not the estimate
        ((0.0, 0.0), (0.5, 0.1), "Trimmed within 1 µs: pitch and roll"),
        ((3.6, 1.2), (-18.4, 2.9), "Pitch is held by −18 ± 7 µs"),
        ((5.0, 9.0), (2.0, 1.0), "Trimmed within 27 µs: pitch and roll"),
    ],
)
def test_the_title_claims_no_more_than_the_intervals(roll: tuple[float, float], pitch: tuple[float, float], told: str) -> None:
    axes = {
        axis: AxisTrim(trim_us=trim_us, error_us=error_us, seconds=30.0)
        for axis, (trim_us, error_us) in {"roll": roll, "pitch": pitch}.items()
    }
    trim = Trim(axes=axes, servos={}, throttle=None, airspeed_m_s=None, unknown=())
    wing = Wing(wind=None, trim=trim, creep=None, weaving=None, gain_flight={}, reasons={})
    assert headline(wing) == told


def test_a_path_is_shown_with_its_legs_and_its_map(client: Client, plane: Craft) -> None:
    flight = fly(client, plane, there_and_back().recording(), "path.csv")
    page = client.get(f"{flight.get_absolute_url()}path/").content.decode()
    assert "Holds its lines within" in page
    assert "Straight legs" in page
    shown = client.get(f"{flight.get_absolute_url()}path/map.json").json()
    assert {part["kind"] for part in shown["parts"]} == {"leg", "turn"}
    assert shown["home"]["latitude"] == pytest.approx(51.5, abs=1e-4)
    chart = client.get(f"{flight.get_absolute_url()}path/line.json").json()
    assert chart["lines"][0]["y"][100] == 3.0
    for address in ("path/pitch.json", "path/kite.json"):
        assert client.get(f"{flight.get_absolute_url()}{address}").status_code == 404
    assert "Return home: not judged in this flight" in client.get(f"{flight.get_absolute_url()}return/").content.decode()


def test_a_return_is_held_to_what_was_written_before_and_to_what_stands_there(client: Client, plane: Craft, act) -> None:
    rule = {
        "turns_within_s": "20",
        "turn_way": "short",
        "airspeed_least_m_s": "9",
        "battery_least_v": "0",
        "lowest_m": "40",
        "overshoot_most_m": "10",
        "clear_by_m": "20",
        "ends": "circle",
        "ends_within_m": "100",
    }
    assert "Saved" in act(f"/craft/{plane.pk}/return/", **rule)
    flight = fly(client, plane, returned().recording(), "return.csv", "wing_return")
    address = f"{flight.get_absolute_url()}return/"
    page = client.get(address).content.decode()
    assert "Not judged: 1 of 8 limits could not be measured" in page  # no obstacle is marked
    assert "set before this flight" in page
    assert "1 could not be judged" in client.get(f"/craft/{plane.pk}/returns/").content.decode()
    mast = {"name": "mast", "height_m": "75", "kind": "Point", "places": "51.5018, -1.49934", "back": address}
    assert "Marked: mast, 75 m" in act("/ground/", **mast)
    page = client.get(address).content.decode()
    assert "Failed: it passed too close to mast" in page
    assert "above mast" in page
    assert client.get(f"{flight.get_absolute_url()}path/map.json").json()["obstacles"][0]["name"] == "mast"
    later = flight.flown_at - timedelta(days=1)
    Flight.objects.filter(pk=flight.pk).update(flown_at=later)
    assert "Limits set after this" in client.get(address).content.decode()


def test_returns_stand_side_by_side_and_the_card_says_what_they_are_judged_by(client: Client, plane: Craft, act) -> None:
    assert "No return of" in client.get(f"/craft/{plane.pk}/returns/").content.decode()
    act("/ground/", name="mast", height_m="30", kind="Point", places="51.5018, -1.49934")
    for number, over_m in enumerate((0.0, 25.0)):
        fly(client, plane, returned(over_m=over_m).recording(), f"return-{number}.csv", "wing_return")
    fly(client, plane, returned().recording("altitude"), "no-height.csv", "wing_return")
    page = client.get(f"/craft/{plane.pk}/returns/").content.decode()
    assert "1 of 3 returns passed, 1 failed, 1 could not be judged" in page
    assert "height not logged" in page
    hangar.paste_configuration(plane, "home height m = 80\n")
    hangar.save_name_map(plane, {"home height m": ("return.height_m", 1.0)})
    card = client.get(f"/craft/{plane.pk}/return/card/").content.decode()
    for told in ("clears every obstacle by 20 m", "mast", "80 m", "failsafe", "conservative starting values", "Start voltage"):
        assert told in card
    assert "motors" not in card.split("<h1>")[1].split("</main>")[0]


def test_a_report_of_a_plane_shows_trims_path_and_returns(client: Client, plane: Craft, act) -> None:
    act(f"/craft/{plane.pk}/surfaces/", **V_TAIL)
    hangar.paste_configuration(plane, "servo middle 1 = 1522\nservo middle 2 = 1500\n")
    hangar.save_name_map(plane, {"servo middle 1": ("trim", 1.0), "servo middle 2": ("trim", 1.0)})
    report = f"/craft/{plane.pk}/tune/report/"
    assert "No return was judged" in client.get(report).content.decode()
    flight = fly(client, plane, returned().recording(), "return.csv", "wing_return")
    page = client.get(report).content.decode()
    for told in (
        "1, aileron (servo 1)",
        "1522 µs",
        f"Flight {flight.number}, ",
        "Path of the return of flight 1",
        ">home<",
        "200 m",
    ):
        assert told in page


def test_without_a_return_the_page_shows_what_one_is_judged_by(client: Client, plane: Craft) -> None:
    flight = fly(client, plane, hands_off(3), "level.csv")
    page = client.get(f"{flight.get_absolute_url()}return/").content.decode()
    for told in (
        "not judged in this flight",
        "The next return passes if it",
        "clears every obstacle by 20 m",
        "Open the return card",
    ):
        assert told in page
    assert "Mark an obstacle" not in page


def test_a_multirotor_has_no_path_and_no_return(client: Client, craft: Craft, attach) -> None:
    flight = attach()
    for address in ("path/", "return/", "path/map.json"):
        assert client.get(f"{flight.get_absolute_url()}{address}").status_code == 404
    assert client.get(f"/craft/{craft.pk}/return/").status_code == 404


def test_automatic_gains_are_held_against_earlier_runs_and_the_settings(client: Client, plane: Craft) -> None:
    hangar.paste_configuration(plane, "f on roll = 60\nservo middle 1 = 1500\n")
    hangar.save_name_map(plane, {"f on roll": ("gain.rate.roll.f", None), "servo middle 1": ("trim", 1.0)})
    for number, top in enumerate((68.0, 90.0)):
        gains = [60.0 + (top - 60.0) * min(1.0, k / 6) for k in range(12)]
        gains[8] *= 0.97
        flight = fly(client, plane, gain_holds([2.0] * 12, gains), f"gains-{number}.csv", "wing_gains")
    page = client.get(f"{flight.get_absolute_url()}wing/").content.decode()
    assert "2 runs, 28 % apart: do not average, fly another" in page
    assert "The saved settings have 60" in page
    assert "Two approaches, and the next step" in page


def test_a_log_is_asked_what_a_plane_is_asked(client: Client, plane: Craft) -> None:
    flight = fly(client, plane, there_and_back().recording(), "path.csv")
    page = client.get(flight.segments.get().log.get_absolute_url()).content.decode()
    assert "Can its return be trusted?" in page
    assert "Which motor is noisy?" not in page
    assert "1 kHz" not in page
