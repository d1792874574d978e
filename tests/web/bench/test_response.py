"""The response bench through its pages: how near the edge, what it rests on, and when it is worked out anew."""

import json
import re

import pytest
from django.test import Client

from nembrit.core.formats import nembrit_csv
from nembrit.core.simulate.flight import DECIMALS, write_order
from nembrit.web.bench.models import StoredResult
from nembrit.web.bench.results import stored_results
from nembrit.web.flights.models import Flight
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes import services as tunes
from nembrit.web.tunes.predictions import bench_for
from tests.flying import HEX, flown, log_file
from tests.pageforms import fields_of


def text(client: Client, flight: Flight, query: str = "") -> str:
    answer = client.get(f"{flight.get_absolute_url()}response/{query}")
    assert answer.status_code == 200, answer.content[:300]
    return answer.content.decode()


def log_without(*families: str) -> bytes:
    flight = flown(5)
    roles = [role for role in write_order(HEX) if not role.startswith(families)]
    return nembrit_csv.write([(role, flight.channels[role]) for role in roles], flight.t_s, decimals=DECIMALS)


def test_the_page_says_which_axis_is_nearest_the_edge(client: Client, attach) -> None:
    page = text(client, attach(log_file(5)))
    assert "Every axis has a good stability margin; " in page
    assert len(re.findall(r"% margin: [a-z]", page)) == 3
    for told in (
        "phase margin",
        "&gt; 20 dB",
        "would oscillate at",
        "Gains from the logged control terms",
        "the motors, through the craft’s mixer",
    ):
        assert told in page
    size, phase = (json.loads(part.split("</script>")[0]) for part in page.split('type="application/json">')[1:3])
    assert [line["label"] for line in size["lines"]] == ["measured", "closed loop, model", "open loop, model"]
    assert (size["level"], phase["level"]) == (0.0, -180.0)
    measured = [value for value in size["lines"][0]["y"] if value is not None]
    assert abs(measured[0]) < 1.5, "a loop follows slow movements"


def test_an_axis_is_chosen_and_a_wrong_one_is_not(client: Client, attach) -> None:
    flight = attach(log_file(5))
    for query, chosen in (("?axis=yaw", "yaw"), ("?axis=left", "roll"), ("?axis=%00", "roll")):
        assert f'id="axis-{chosen}" name="axis" value="{chosen}" checked' in text(client, flight, query)


def test_what_a_short_flight_leaves_open_is_told_by_its_interval(client: Client, attach) -> None:
    assert "Uncertain " not in text(client, attach(log_file(5)))
    lines = log_file(5).decode().splitlines(keepends=True)
    page = text(client, attach("".join(lines[: 16 * 2000]).encode(), name="short.csv"))
    assert "Uncertain in this flight: roll, pitch, yaw" in page
    assert re.search(r'class="rough" title="[^"]+">\d+ to\s+\d+°</span><small>uncertain</small>', page)
    assert re.search(r"\d+\W% to\s+\d+\W%</b>\s+good to conservative", page)


@pytest.fixture
def ten_seconds() -> bytes:
    return b"".join(log_file(5).splitlines(keepends=True)[: 10 * 2000])


def test_gains_are_not_filled_in_from_a_flight_that_leaves_them_open(
    client: Client, craft: Craft, attach, ten_seconds: bytes
) -> None:
    short, told = attach(ten_seconds, name="short.csv"), "is too uncertain"
    page = text(client, short)
    assert "’s stability margin is uncertain" in page
    assert told in client.get(f"{short.get_absolute_url()}gains/best/").content.decode()
    assert "is too uncertain" in client.get(f"{short.get_absolute_url()}gains/").content.decode()
    form = f"/craft/{craft.pk}/slips/new/?group=pd.roll"
    for address in (form, f"{form}&flight={short.number}"):
        page = client.get(address).content.decode()
        assert "Type your own values." in page
        assert f">Flight {short.number}</a>" in page
        assert "No change of roll: the sensitivity peak" in page
    sure = attach(log_file(5))
    attach(ten_seconds + b"\n", name="shorter.csv")
    assert bench_for(craft, craft.configurations.get())[0] == sure, "an older flight that tells more goes first"
    assert told not in client.get(form).content.decode()


@pytest.mark.long(
    "its other cases ask the same",
    only=(
        "missing1",
        "missing2",
    ),
)
@pytest.mark.parametrize(
    ("missing", "told"),
    [
        (("setpoint.",), "Stability margin unknown"),
        (("motor.",), "no motor commands in the log"),
        (("term_", "motor.", "motor_rpm"), "margins need the motors’ commands or the control terms of roll"),
    ],
)
def test_what_a_log_lacks_is_said_with_what_to_fly(client: Client, attach, missing: tuple[str, ...], told: str) -> None:
    page = text(client, attach(log_without(*missing)))
    assert told in page
    assert "The half-minute card" in page or "motors" in page


def test_margins_are_made_anew_when_other_settings_flew(client: Client, craft: Craft, attach) -> None:
    flight = attach(log_file(5))
    segment = flight.segments.get()
    kept = StoredResult.objects.filter(segment=segment, analysis="loop")
    others = StoredResult.objects.filter(segment=segment).exclude(analysis="loop").count()
    assert kept.exists()
    hangar.paste_configuration(craft, "p on roll = 60", note="another")
    other = craft.configurations.order_by("-number").first()
    page = client.get(f"{flight.get_absolute_url()}edit/").content.decode()
    client.post(f"{flight.get_absolute_url()}edit/", fields_of(page) | {"notes": "windy"})
    assert kept.exists(), "notes change no margin"
    page = client.get(f"{flight.get_absolute_url()}edit/").content.decode()
    client.post(f"{flight.get_absolute_url()}edit/", fields_of(page) | {"configuration": str(other.pk)})
    assert not kept.exists()
    text(client, flight)
    assert kept.exists(), "a job made it anew"
    tunes.note_on_flights([flight], configuration=craft.configurations.order_by("number").first())
    assert not kept.exists()
    text(client, flight)
    known = hangar.name_map(craft)["p on roll"]
    hangar.save_name_map(craft, {"p on roll": (known.key, known.scale)})
    assert kept.exists(), "the same map once more changes nothing"
    hangar.save_name_map(craft, {"p on roll": ("gain.rate.roll.p", 7e-5)})
    assert not kept.exists()
    assert StoredResult.objects.filter(segment=segment).count() == others, "nothing else was forgotten"


def test_margins_use_known_scales_only(client: Client, craft: Craft, attach) -> None:
    assert hangar.known_controller(craft.configurations.get()) is not None
    hangar.save_name_map(craft, {"p on roll": ("gain.rate.roll.p", None)})
    assert hangar.known_controller(craft.configurations.get()) is None
    assert hangar.controller_of(craft.configurations.get()).gains["roll"].p > 0, "the simulator assumes"
    page = client.get(f"/craft/{craft.pk}/simulator/").content.decode()
    assert "1 gain of this craft is unknown" in page
    assert "p on roll = 43 stands for" in page
    found = stored_results([attach(log_file(5))], "loop")
    (loop,) = (one.loop for one in found.values())
    assert loop.axes["roll"].gains_from == "terms"
