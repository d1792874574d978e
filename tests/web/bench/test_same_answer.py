"""One log gives one answer, by the command line and by the pages; and pages ask the database little."""

import json
from pathlib import Path

import pytest
from django.db import connection
from django.test import Client
from django.test.utils import CaptureQueriesContext

from nembrit import cli
from nembrit.core.analysis.run import ANALYSES
from nembrit.core.report.documents import rounded
from nembrit.core.setup.craft import craft_to_json
from nembrit.web.bench.results import store, stored_results
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import create_flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import core_craft
from nembrit.web.logs.models import Log, Segment
from nembrit.web.tunes import services as tunes
from tests.flying import log_file


@pytest.mark.long(
    "its other cases ask the same",
    only=(
        "0.0",
        "1.0",
    ),
)
@pytest.mark.parametrize("loose", [1.0, 0.0])
def test_the_command_line_finds_what_the_pages_find(
    craft: Craft, attach, tmp_path: Path, capsys: pytest.CaptureFixture[str], loose: float
) -> None:
    content = log_file(5, loose)
    flight = attach(content)
    segment = flight.segments.get()
    (tmp_path / "log.csv").write_bytes(content)
    (tmp_path / "craft.json").write_text(json.dumps(craft_to_json(core_craft(craft))))
    assert cli.main(["analyse", str(tmp_path / "log.csv"), "--craft", str(tmp_path / "craft.json"), "--json"]) == 0
    report = json.loads(capsys.readouterr().out)
    web = stored_results([flight], "noise", "response", "motors", "judgement")[flight.pk]
    assert report["log"]["window_s"] == [rounded(segment.start_s), rounded(segment.end_s)]
    told = [(one["code"], one["severity"], one["confidence"], one["summary"]) for one in report["findings"]]
    assert told == [(one.code, one.severity, one.confidence, one.summary) for one in web.judgement.findings]
    for axis, noise in web.noise.axes.items():
        assert report["noise"][axis]["bands"]["motion"]["rms_dps"] == rounded(noise.raw.bands["motion"].rms_dps)
        assert [line["frequency_hz"] for line in report["noise"][axis]["lines"]] == [
            rounded(line.frequency_hz) for line in noise.lines
        ]
        assert report["response"][axis]["overshoot_pct"] == rounded(100 * web.response.steps[axis].overshoot_ratio)
    rows = list(segment.log.manoeuvres.order_by("start_s", "id"))
    assert [(one["kind"], one["axis"]) for one in report["manoeuvres"]] == [(row.kind, row.axis or None) for row in rows]
    assert [one["start_s"] for one in report["manoeuvres"]] == [rounded(row.start_s) for row in rows]


def like(flight: Flight, **fields: object) -> Flight:
    """A further flight with the same results."""
    made = create_flight(flight.craft, card_key="response", **fields)
    segment = flight.segments.get()
    copy = Segment.objects.create(log=segment.log, flight=made, start_s=segment.start_s, end_s=segment.end_s)
    found = stored_results([flight], *ANALYSES)[flight.pk]
    for key in ANALYSES:
        store(copy, key, getattr(found, key))
    return made


def n_queries(client: Client, address: str) -> int:
    with CaptureQueriesContext(
        connection,
    ) as asked:
        assert client.get(address).status_code == 200
    # transactions and the look at the generation are no questions
    return sum(query["sql"].startswith("SELECT") for query in asked.captured_queries)


@pytest.fixture
def slip(craft: Craft, attach, slip_text: tunes.SlipText):
    first = attach()
    for _ in range(3):
        like(first)
    made = tunes.make_slip(tunes.tune_of(craft), group="hardware", text=slip_text, values={}, part="Tray")
    for _ in range(4):
        like(first)
    return made


def test_a_slip_s_page_loads_each_flight_once(client: Client, slip, monkeypatch: pytest.MonkeyPatch) -> None:
    from nembrit.web.bench import results

    decoded: list[str] = []
    decode = results._decoded
    monkeypatch.setattr(results, "_decoded", lambda key, content: decoded.append(key) or decode(key, content))
    address = slip.get_absolute_url()
    assert n_queries(client, address) <= 25
    assert decoded.count("metrics") == decoded.count("judgement") == 8, "each flight's numbers are loaded once"
    assert set(decoded) == {"metrics", "judgement", "likeness"}


@pytest.mark.long(
    "its other cases ask the same",
    only=(
        "/",
        "/craft/{craft}/",
        "/inbox/",
    ),
)
@pytest.mark.parametrize("address", ["/craft/{craft}/", "/craft/{craft}/tune/", "/inbox/", "/"])
def test_more_flights_and_logs_ask_no_more_questions(client: Client, craft: Craft, attach, address: str) -> None:
    first = attach()
    for _ in range(2):
        like(first)
        Log.objects.create(craft=craft, file_name="waits.csv", state=Log.State.READY)
    address = address.format(craft=craft.pk)
    client.get(address)
    few = n_queries(client, address)
    for _ in range(6):
        like(first)
        Log.objects.create(craft=craft, file_name="waits.csv", state=Log.State.READY)
    assert n_queries(client, address) <= few
