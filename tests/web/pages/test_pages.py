"""Every page answers, says what it should, and refuses wrong input with a sentence and nothing half-saved."""

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from nembrit.web.common.models import Job
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Configuration, Craft, NameMapEntry
from nembrit.web.logs.models import Log
from nembrit.web.tunes.models import Slip
from tests.flying import log_file
from tests.pageforms import fields_of

pytestmark = pytest.mark.django_db


@pytest.mark.parametrize(
    ("path", "words"),
    [
        ("/", "Hangar"),
        ("/craft/new/", "Add a craft"),
        ("/craft/{craft}/", "Pebble is ready for its baseline"),
        ("/craft/{craft}/tune/", "Requirements of baseline"),
        ("/craft/{craft}/configurations/new/", "Latest: r1"),
        ("/craft/{craft}/names/", "P gain, rate loop, roll"),
        ("/craft/{craft}/builds/new/", "Record a build change"),
        ("/craft/{craft}/simulator/", "Fly Pebble in the simulator"),
        ("/craft/{craft}/logs/attach/", "Attach logs to Pebble"),
        ("/craft/{craft}/slips/new/", "Write a slip"),
        ("/craft/{craft}/slips/new/?group=pd.roll", "now 35"),
        ("/craft/{craft}/slips/new/?group=hardware", "Part"),
        ("/configurations/{configuration}/", "the reference"),
        ("/cards/", "Fly the same card every time"),
        ("/cards/full/", "Stop when"),
        ("/style/", "Every component"),
        ("/about/", "Propellers off"),
    ],
)
def test_pages_answer(client: Client, craft: Craft, configuration: Configuration, path: str, words: str) -> None:
    answer = client.get(path.format(craft=craft.pk, configuration=configuration.pk))
    assert answer.status_code == 200
    assert words in answer.content.decode()


@pytest.mark.parametrize(
    "path", ["/nowhere/", "/craft/99/", "/cards/nothing/", "/flights/9/", "/slips/9/", "/logs/9/trace/?from=0&to=1"]
)
def test_missing_pages_say_so(client: Client, craft: Craft, path: str) -> None:
    answer = client.get(path)
    assert answer.status_code == 404
    assert "There is no such page" in answer.content.decode()


def test_other_hosts_and_forged_posts_are_refused(craft: Craft) -> None:
    strict = Client(enforce_csrf_checks=True)
    assert strict.get("/", headers={"host": "evil.example"}).status_code == 400
    answer = strict.post(f"/craft/{craft.pk}/builds/new/", {"part": "x"})
    assert answer.status_code == 403
    assert "Nothing was changed" in answer.content.decode()
    assert craft.build_entries.count() == 1


CRAFT = {
    "name": "Moss", "layout": "quad", "propeller_diameter_in": "5", "propeller_pitch_in": "4",
    "propeller_blades": "3", "cells": "4", "chemistry": "lipo", "mass_g": "600",
}  # fmt: skip


def test_a_craft_is_added_with_its_motors_and_a_tune(client: Client, db: None) -> None:
    answer = client.post("/craft/new/", CRAFT, follow=True)
    made = Craft.objects.get()
    assert made.actuators.count() == 4
    assert "3 questions left about Moss" in answer.content.decode()
    assert client.get(f"/craft/{made.pk}/").status_code == 200
    assert made.tunes.count() == 1


@pytest.mark.parametrize(
    ("layout", "roles"),
    [
        ("plane_v_tail", ["aileron", "aileron", "v_tail_left", "v_tail_right"]),
        ("plane_wing", ["elevon_left", "elevon_right"]),
        ("plane_other", []),
    ],
)
def test_a_plane_is_asked_for_what_steers_it(client: Client, db: None, layout: str, roles: list[str]) -> None:
    answer = client.post("/craft/new/", CRAFT | {"layout": layout}, follow=True)
    made = Craft.objects.get()
    assert (made.kind, [one.role for one in made.actuators.order_by("number")]) == ("fixed_wing", roles)
    page = answer.content.decode()
    assert "is in the hangar" in page
    assert "Which servo moves which surface?" in page
    assert "Servo 1 moves" in client.get(f"/craft/{made.pk}/surfaces/").content.decode()


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"name": ""}, "This field is required"),
        ({"name": "Pebble"}, "already exists"),
        ({"propeller_diameter_in": "400"}, "from 1 to 40, got 400"),
        ({"cells": "-1"}, "greater than or equal to 0"),
        ({"mass_g": "heavy"}, "Enter a number"),
        ({"layout": ""}, "This field is required"),
        ({"layout": "submarine"}, "not one of the available choices"),
    ],
)
def test_a_doubtful_craft_is_refused(client: Client, craft: Craft, change: dict[str, str], message: str) -> None:
    answer = client.post("/craft/new/", CRAFT | change)
    assert answer.status_code == 400
    assert message in answer.content.decode()
    assert Craft.objects.count() == 1


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("nonsense", "line 1: expected “name = value”"),
        ("", "This field is required"),
        ("<script>alert(1)</script>", "&lt;script&gt;"),
    ],
)
def test_a_doubtful_configuration_is_refused(client: Client, craft: Craft, text: str, message: str) -> None:
    answer = client.post(f"/craft/{craft.pk}/configurations/new/", {"text": text})
    assert answer.status_code == 400
    assert message in answer.content.decode()
    assert "<script>alert" not in answer.content.decode()
    assert craft.configurations.count() == 1


def test_a_configuration_that_changes_nothing_is_not_kept_twice(client: Client, craft: Craft) -> None:
    from nembrit.demo.texts import JUNIPER_SETTINGS

    answer = client.post(f"/craft/{craft.pk}/configurations/new/", {"text": JUNIPER_SETTINGS})
    assert "Understood: " in answer.content.decode()
    assert craft.configurations.count() == 1, "nothing is saved before it was shown"
    answer = client.post(f"/craft/{craft.pk}/configurations/new/", fields_of(answer.content.decode()))
    assert "nothing differs from r1" in answer.content.decode()


def test_doubtful_lines_are_told_at_once_and_may_be_left_out(client: Client, craft: Craft) -> None:
    address = f"/craft/{craft.pk}/configurations/new/"
    page = client.post(address, {"text": "set a_1 = 1\nset a_1 = 2\nset b_2 = 3\nset c_3 = 4\nhm hm hm\n"}).content.decode()
    for told in (
        "3 settings",
        "2 unclear lines",
        "Line 2: “a_1” is in line 1 already",
        "Line 5: expected",
        "The word “set”",
    ):
        assert told in page
    refused = client.post(address, fields_of(page))
    assert refused.status_code == 400
    assert craft.configurations.count() == 1
    client.post(address, fields_of(refused.content.decode()) | {"without_doubtful": "on"})
    assert dict(craft.configurations.first().settings.values_list("name", "value")) == {"a_1": "1", "b_2": "3", "c_3": "4"}


def test_diff_and_reference(client: Client, craft: Craft) -> None:
    from nembrit.demo.texts import JUNIPER_SETTINGS

    address = f"/craft/{craft.pk}/configurations/new/"
    shown = client.post(address, {"text": JUNIPER_SETTINGS.replace("= 43", "= 47")}).content.decode()
    page = client.post(address, fields_of(shown), follow=True).content.decode()
    assert "p on roll" in page
    assert "× 1.09" in page
    second = craft.configurations.get(number=2)
    client.post(f"/configurations/{second.pk}/reference/")
    assert list(craft.configurations.filter(is_reference=True)) == [second]


def test_the_name_map_is_kept_and_checked(client: Client, craft: Craft) -> None:
    path = f"/craft/{craft.pk}/names/"
    posted = fields_of(client.get(path).content.decode())
    assert client.post(path, posted | {"meaning-lamp": "other"}).status_code == 302
    posted = fields_of(client.get(path).content.decode())
    assert NameMapEntry.objects.get(craft=craft, name="lamp").meaning == "other"
    for change, message in (
        ({"meaning-lamp": "gain.rate.roll.p"}, "cannot both be the P gain"),
        ({"scale-p on roll": "big"}, "should be a number, not “big”"),
        ({"scale-p on roll": "-1"}, "must be above 0"),
        ({"meaning-lamp": "colour"}, "is not one of the available choices"),
    ):
        answer = client.post(path, posted | change)
        assert answer.status_code == 400
        assert message in answer.content.decode()
    assert NameMapEntry.objects.get(craft=craft, name="lamp").meaning == "other"


def test_a_log_becomes_a_flight_with_evidence(client: Client, craft: Craft, attach) -> None:
    flight = attach()
    page = client.get(f"{flight.get_absolute_url()}").content.decode()
    assert "A hump of" in page
    assert "Record the tightened mount" in client.get(f"/craft/{craft.pk}/next/").content.decode()
    for kind, axis in (("noise", "roll"), ("step", "yaw")):
        chart = client.get(f"{flight.get_absolute_url()}charts/{kind}/{axis}.json").json()
        assert len(chart["lines"][0]["x"]) == len(chart["lines"][0]["y"]) > 100
    assert client.get(f"{flight.get_absolute_url()}charts/noise/left.json").status_code == 404
    assert "setpoint.roll" in client.get(f"{flight.get_absolute_url()}traces/").content.decode().lower()
    assert client.get(f"/craft/{craft.pk}/").content.decode().count("loose mount or tray") >= 1


def test_the_same_content_twice_is_recognised(client: Client, craft: Craft, attach) -> None:
    flight = attach()
    answer = client.post(f"/craft/{craft.pk}/logs/attach/", {"files": [SimpleUploadedFile("other name.csv", log_file(5, 1.0))]})
    assert f"{flight.get_absolute_url()}" in answer.content.decode()
    assert "Nothing was added" in answer.content.decode()
    assert (Flight.objects.count(), Log.objects.count()) == (1, 1)


@pytest.mark.parametrize(
    ("name", "content", "message"),
    [
        ("empty.csv", b"", "the submitted file is empty|file is empty"),
        ("photo.csv", b"\x89PNG\r\n\x1a\n\0", "this is a PNG picture"),
        ("other.csv", b"a;b\n1;2\n", "only 1 row of numbers below the header"),
        ("role.csv", b"time [s],gyro.roll [deg/s],gyro.left [deg/s]\n0,1,1\n", "column 3: “gyro.left” is not a known meaning"),
        ("<img src=x onerror=alert(1)>.csv", b"a;b", "&lt;img src=x"),
    ],
)
def test_a_wrong_file_is_refused_at_once_and_nothing_is_kept(
    client: Client, craft: Craft, name: str, content: bytes, message: str
) -> None:
    answer = client.post(f"/craft/{craft.pk}/logs/attach/", {"files": [SimpleUploadedFile(name, content)]})
    page = answer.content.decode()
    assert any(part.lower() in page.lower() for part in message.split("|")), page
    assert Log.objects.count() == 0


def test_a_file_that_is_wrong_further_down_is_refused_whole(client: Client, craft: Craft) -> None:
    content = b"time [s],gyro.roll [deg/s]\n" + b"".join(b"%d,1\n" % k for k in range(20_000)) + b"20000,x\n"
    client.post(f"/craft/{craft.pk}/logs/attach/", {"files": [SimpleUploadedFile("late.csv", content)]})
    page = client.get(f"/craft/{craft.pk}/").content.decode()
    assert "ow 20002, column 2 (gyro.roll): expected a number" in page
    assert Flight.objects.count() == 0
    log = Log.objects.get()
    assert "late.csv could not be read" in client.get(f"/craft/{craft.pk}/").content.decode()
    client.post(f"/logs/{log.pk}/remove/")
    assert Log.objects.count() == 0


def test_several_files_at_once_and_one_of_them_wrong(client: Client, craft: Craft) -> None:
    files = [
        SimpleUploadedFile("a.csv", log_file(5, 1.0)),
        SimpleUploadedFile("b.csv", b"nonsense"),
        SimpleUploadedFile("c.csv", log_file(6)),
    ]
    page = client.post(f"/craft/{craft.pk}/logs/attach/", {"files": files}).content.decode()
    assert Flight.objects.count() == 2
    assert "b.csv was rejected" in page
    assert client.post(f"/craft/{craft.pk}/logs/attach/", {}).status_code == 200


def test_a_real_recording_says_what_it_can_and_cannot_tell(client: Client, craft: Craft, attach) -> None:
    from pathlib import Path

    content = (Path(__file__).parents[2] / "data" / "worn_imu" / "worn_imu_50hz.csv").read_bytes()
    flight = attach(content)
    page = client.get(f"{flight.get_absolute_url()}").content.decode()
    assert "log too slow" in page  # 50 Hz: no jitter band
    assert "lacks the set-point" in page
    assert "log at 1 kHz or more next time" in page
    assert client.get(f"{flight.get_absolute_url()}charts/noise/roll.json").json()["x"]["high"] == 24


def test_flights_are_edited_and_archived_not_deleted(client: Client, attach) -> None:
    flight = attach()
    address = f"{flight.get_absolute_url()}edit/"
    form = fields_of(client.get(address).content.decode())
    changed = {"flown_at": "2026-11-01 10:00", "wind_m_s": "3.5", "heat": "warm"}
    assert client.post(address, form | changed).status_code == 302
    form = fields_of(client.get(address).content.decode())
    for wrong, told in (
        ({"wind_m_s": "90"}, "goes from 0 to 40, got 90"),
        ({"wind_m_s": "²"}, "should be a number"),
        ({"flown_at": "0001-01-01 10:00"}, "between 1990 and 2200"),
        ({"flown_at": "9999-12-31 23:59"}, "between 1990 and 2200"),
    ):
        answer = client.post(address, form | wrong)
        assert (answer.status_code, told in answer.content.decode()) == (400, True), wrong
    client.post(f"{flight.get_absolute_url()}archive/", {"archived": "1"})
    flight.refresh_from_db()
    assert (flight.wind_m_s, flight.heat) == (3.5, "warm")
    assert flight.archived_at is not None
    assert "archived" in client.get(f"{flight.get_absolute_url()}").content.decode()
    client.post(f"{flight.get_absolute_url()}archive/", {"archived": "0"})
    assert Flight.objects.active().count() == 1


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
def test_the_simulator_flies_from_the_page(client: Client, craft: Craft, configuration: Configuration) -> None:
    form = {
        "card": "first_hover",
        "configuration": configuration.pk,
        "flights": 1,
        "seed": 9,
        "wind_m_s": 1,
        "pack_charge_pct": 90,
        "condition": "as_built",
    }
    page = client.post(f"/craft/{craft.pk}/simulator/", form, follow=True).content.decode()
    flight = craft.flights.get()
    assert f"{flight.get_absolute_url()}" in page
    assert "with a loose electronics tray" in page.split("Last simulated flights")[1]
    assert flight.simulation["faults"] == {"loose_mount": 1.0}
    assert Job.objects.filter(kind="evidence", state="done").count() == 1


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"seed": "-4"}, "greater than or equal to 0"),
        ({"wind_m_s": "80"}, "less than or equal to 25"),
        ({"card": "loop"}, "not one of the available choices"),
        ({"flights": "99"}, "less than or equal to 8"),
    ],
)
def test_the_simulator_refuses_wrong_numbers(
    client: Client, craft: Craft, configuration: Configuration, change: dict[str, str], message: str
) -> None:
    form = {
        "card": "response",
        "configuration": configuration.pk,
        "flights": 1,
        "seed": 9,
        "wind_m_s": 1,
        "pack_charge_pct": 90,
        "condition": "sound",
    }
    answer = client.post(f"/craft/{craft.pk}/simulator/", form | change)
    assert answer.status_code == 400
    assert message in answer.content.decode()
    assert Log.objects.count() == 0


def test_the_simulator_says_which_name_is_missing(client: Client, craft: Craft, configuration: Configuration) -> None:
    NameMapEntry.objects.filter(craft=craft, name="p on yaw").delete()
    form = {
        "card": "response",
        "configuration": configuration.pk,
        "flights": 1,
        "seed": 9,
        "wind_m_s": 1,
        "pack_charge_pct": 90,
        "condition": "sound",
    }
    assert client.post(f"/craft/{craft.pk}/simulator/", form).status_code == 302
    page = client.get(f"/craft/{craft.pk}/simulator/").content.decode()
    assert "P gain, rate loop, yaw: no setting has this meaning" in page


SLIP = {
    "group": "pd.roll",
    "title": "D on roll lower",
    "primary_metric": "motor_roughness",
    "direction": "lower",
    "card_key": "",
    "part": "",
}


def slip_form(client: Client, craft: Craft) -> dict[str, str]:
    """The fields of the page where a slip is written, filled in but for the new value."""
    return fields_of(client.get(f"/craft/{craft.pk}/slips/new/?group=pd.roll").content.decode()) | SLIP


def test_a_slip_makes_the_next_configuration_and_is_undone(client: Client, craft: Craft) -> None:
    answer = client.post(f"/craft/{craft.pk}/slips/new/", slip_form(client, craft) | {"value-d on roll": "24"}, follow=True)
    slip = Slip.objects.get()
    assert [(line.name, line.value) for line in slip.result_configuration.settings.filter(name="d on roll")] == [
        ("d on roll", "24")
    ]
    assert "Not yet: 0 of 4 flown before, 0 of 4 after" in answer.content.decode()
    page = client.post(f"/slips/{slip.pk}/decide/", {"outcome": "undo", "note": "buzzed"}, follow=True).content.decode()
    assert "Undone" in page
    assert craft.configurations.first().settings.get(name="d on roll").value == "35"
    again = client.post(f"/slips/{slip.pk}/decide/", {"outcome": "keep"}, follow=True).content.decode()
    assert "decided already: undone" in again
    assert craft.configurations.count() == 3
    assert "buzzed" in client.get(f"/craft/{craft.pk}/tune/").content.decode()


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"value-d on roll": "35"}, "no change yet"),
        ({"value-d on roll": " "}, "This field is required"),
        ({"revision": ""}, "This field is required"),
        ({"primary_metric": "luck"}, "not one of the available choices"),
        ({"flights_a_side": "3"}, "from 4 to 10 in this order"),
        ({"order": "pairs"}, "from 5 to 10 in this order"),
        ({"limit_most_1": ""}, "say by how much at most"),
        ({"limit_most_1": "-3"}, "from 0.1 to 1000"),
        ({"limit_metric_2": "overshoot.roll"}, "each harm limit needs a separate metric,"),
        ({"group": "magic"}, "is no group of settings"),
        ({"group": "hardware"}, "name the part that is changed"),
    ],
)
def test_a_doubtful_slip_is_refused(client: Client, craft: Craft, change: dict[str, str], message: str) -> None:
    answer = client.post(f"/craft/{craft.pk}/slips/new/", slip_form(client, craft) | {"value-d on roll": "24"} | change)
    assert answer.status_code == 400
    if change.get("group") != "magic":
        assert message in answer.content.decode()
    assert Slip.objects.count() == 0
    assert craft.configurations.count() == 1


@pytest.mark.parametrize("form", ["txt", "csv", "json"])
def test_a_configuration_is_given_out_and_taken_in_again(
    client: Client, craft: Craft, configuration: Configuration, form: str
) -> None:
    answer = client.get(f"/configurations/{configuration.pk}/give.{form}")
    assert answer["Content-Disposition"] == f'attachment; filename="pebble-{configuration}.{form}"'
    text = answer.content.decode()
    address = f"/craft/{craft.pk}/configurations/new/"
    changed = text.replace("43", "44", 1)
    again = client.post(address, {"text": changed}).content.decode()
    assert "Understood: " in again
    client.post(address, fields_of(again) | {"text": changed})
    latest = craft.configurations.order_by("-number").first()
    page = client.get(f"/configurations/{latest.pk}/").content.decode()
    assert "Restore list: from r1 to r2" in page
    assert "p on roll = 44" in page
    assert "Stick rates" in page
    assert client.get(f"/configurations/{configuration.pk}/give.exe").status_code == 404


def test_firmware_in_between_warns_before_a_restore(client: Client, craft: Craft) -> None:
    from nembrit.web.hangar import services as hangar

    hangar.add_build_entry(craft, part="flight controller", text="firmware 4 to 5")
    latest = hangar.paste_configuration(craft, "p on roll = 44")
    assert "The firmware changed in between (flight controller" in client.get(f"/configurations/{latest.pk}/").content.decode()
