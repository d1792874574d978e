"""Live telemetry in the workshop: sources, recordings as event streams and as logs, alarms, settings over the link."""

import asyncio
import json
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from django.test import Client

from nembrit.recorder import folder as files
from nembrit.standin import LinkServer, StandIn
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import core_settings, latest_configuration
from nembrit.web.logs.models import ImportProfile, Log
from nembrit.web.logs.ready_views import page_of
from nembrit.web.telemetry import link, recordings, streaming
from nembrit.web.telemetry.models import Alarm, LinkRead, Recording, Source

pytestmark = pytest.mark.django_db


@pytest.fixture
def workshop(settings, tmp_path: Path) -> Path:
    settings.DATA_FOLDER = tmp_path
    return tmp_path


@pytest.fixture
def source(craft: Craft, workshop: Path) -> Source:
    return Source.objects.create(craft=craft, port=14_650, capacity_mah=2200.0, link_port=14_651)


@pytest.fixture
def on_the_line(craft: Craft, source: Source) -> Iterator[StandIn]:
    latest = latest_configuration(craft)
    assert latest is not None
    held = {one.name: one.value for one in core_settings(latest)}
    stand_in = StandIn(settings=held, fly=lambda seed: None, send=lambda data: None)  # type: ignore[arg-type,return-value]
    server = LinkServer(stand_in, 0)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    Source.objects.filter(pk=source.pk).update(link_port=server.server_address[1])
    yield stand_in
    server.shutdown()


def record(recording: Recording, n: int = 30, *, ended: bool = False) -> Path:
    """What the recorder would have written."""
    path = recordings.folder_of(recording)
    began = time.time() - n / 10
    rows = [
        {"seq": k, "vbat [V]": 15.2 - k / 100, "amps [A]": 9.0, "mode": "fly", "lat [deg]": 51.5 + k * 1e-5, "lon [deg]": -1.5}
        for k in range(n)
    ]
    lines = b"".join(f"{began + k / 10:.4f}\t{json.dumps(row)}\n".encode() for k, row in enumerate(rows))
    (path / files.LINES).write_bytes(lines + b'1796175438.4\t{"cut')
    columns = [
        {"name": "vbat [V]", "key": "battery_voltage", "unit": "V"}, {"name": "amps [A]", "key": "battery_current", "unit": "A"},
        {"name": "mode", "key": "mode"}, {"name": "lat [deg]", "key": "latitude"}, {"name": "lon [deg]", "key": "longitude"},
    ]  # fmt: skip
    files.replace(path / files.STATE, {"rows": n, "columns": columns, "gaps": [], "last_s": began + n / 10, "problem": ""})
    alarm = {"kind": "alarm", "key": "cell_low", "is_on": True, "at_s": began + 1, "words": "Cell voltage 3.4 V"}
    (path / files.EVENTS).write_bytes(json.dumps(alarm).encode() + b"\nrubbish\n")
    if ended:
        (path / files.ENDED).touch()
    return path


def test_the_live_page_leads_on_where_nothing_is_set_up(client: Client, craft: Craft, workshop: Path) -> None:
    page = client.get(f"/craft/{craft.pk}/live/").content.decode()
    assert "not recording" in page
    assert "Start the stand-in" in page
    assert "Eyes on the craft" in page
    answer = client.post(f"/craft/{craft.pk}/live/begin/", follow=True).content.decode()
    assert "Set up a telemetry source first" in answer
    assert client.post(f"/craft/{craft.pk}/live/mark/", {"what": "x"}).status_code == 409
    stream = client.get(f"/craft/{craft.pk}/live/stream/")
    assert stream["Content-Type"] == "text/event-stream"


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({"kind": "serial", "device": ""}, "Which port?"),
        ({"port": "80"}, "from 1024 to 65535"),
        ({"port": "99999999"}, "from 1024 to 65535"),
        ({"capacity_mah": "5"}, "50 to 200000 mAh"),
        ({"baud": "1"}, "300 to 4000000"),
        ({"kind": "pigeon"}, "not one of the available choices"),
        ({"host": "", "kind": "udp"}, None),
    ],
)
def test_a_source_that_cannot_be_is_refused(client: Client, craft: Craft, workshop: Path, change: dict, told: str | None) -> None:
    form = {
        "kind": "udp",
        "host": "127.0.0.1",
        "port": "14650",
        "baud": "57600",
        "capacity_mah": "",
        "link_host": "",
        "link_port": "",
    }
    answer = client.post(f"/craft/{craft.pk}/live/source/", form | change)
    assert answer.status_code == (400 if told else 302)
    assert (told or "") in answer.content.decode()
    assert Source.objects.exists() is (told is None)


def test_a_test_says_what_comes(client: Client, craft: Craft, workshop: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("nembrit.web.telemetry.pages._TEST_S", 0.3)
    form = {"kind": "udp", "host": "127.0.0.1", "port": "14655", "baud": "57600", "test": "1"}
    page = client.post(f"/craft/{craft.pk}/live/source/", form).content.decode()
    assert "Nothing received in three seconds" in page
    form |= {"kind": "tcp_connect", "port": "14656"}
    assert "Is another program using it" in client.post(f"/craft/{craft.pk}/live/source/", form).content.decode()


def test_a_recording_streams_ends_and_becomes_a_log_of_its_flight(client: Client, craft: Craft, source: Source, attach) -> None:
    flight = attach()
    client.post(f"/craft/{craft.pk}/live/begin/")
    recording = Recording.objects.get()
    wanted = files.read(recordings.folder_of(recording) / files.WANTED)
    assert wanted["source"]["port"] == 14_650
    assert {one["key"] for one in wanted["rules"]} >= {"cell_low", "silent", "failsafe"}
    path = record(recording)
    assert client.post(f"/craft/{craft.pk}/live/mark/", {"what": "  look \n here "}).status_code == 204
    assert client.post(f"/craft/{craft.pk}/live/acknowledge/", {"key": "cell_low"}).status_code == 204
    assert client.post(f"/craft/{craft.pk}/live/acknowledge/", {"key": "luck"}).status_code == 400
    (path / files.ENDED).touch()
    page = client.post(f"/craft/{craft.pk}/live/end/", follow=True).content.decode()
    assert "The recording is read as a log" in page
    recording.refresh_from_db()
    assert recording.log is not None
    assert recording.log.state == Log.State.READY
    roles = {channel.role for stream in recording.log.streams.all() for channel in stream.channels.all()}
    assert {"battery_voltage", "event"} <= roles
    assert "marker: look here" in page
    assert "Cell voltage 3.4 V" in page
    flight.flown_at = recording.started_at
    flight.save(update_fields=("flown_at",))
    page = client.get(recording.get_absolute_url()).content.decode()
    assert "Join with this flight" in page
    answer = client.post(f"/recordings/{recording.pk}/join/", {"flight": str(flight.pk)}, follow=True).content.decode()
    assert f"belongs to flight {flight.number} now" in answer
    assert flight.segments.filter(log=recording.log).exists()
    labels = [one["label"] for one in page_of(flight, flight.segments.first())["markers"]]
    assert {"Cell voltage 3.4 V", "marker: look here"} <= set(labels) | {part for label in labels for part in label.split("; ")}
    assert client.post(f"/recordings/{recording.pk}/join/", {"flight": "9" * 30}).status_code == 404


def test_nothing_received_makes_no_log(client: Client, craft: Craft, source: Source) -> None:
    client.post(f"/craft/{craft.pk}/live/begin/")
    (recordings.folder_of(Recording.objects.get()) / files.ENDED).touch()
    assert "Nothing was received" in client.post(f"/craft/{craft.pk}/live/end/", follow=True).content.decode()
    assert not Log.objects.exists()


def test_columns_are_corrected_while_it_records_and_its_log_follows(client: Client, craft: Craft, source: Source) -> None:
    address = f"/craft/{craft.pk}/live/columns/"
    assert "Nothing received yet" in client.get(address).content.decode()
    recording = recordings.begin(craft)
    path = record(recording)
    page = client.get(address).content.decode()
    assert "battery voltage" in page
    names = ["amps [A]", "lat [deg]", "lon [deg]", "mode", "vbat [V]"]
    form = {f"name-{k}": name for k, name in enumerate(names)}
    form |= {"key-0": "used_mah", "scale-0": "0.5", "key-1": "latitude", "key-2": "longitude", "key-3": "mode",
             "key-4": "battery_voltage", "scale-4": "mV"}  # fmt: skip
    for change, told in (
        ({"key-0": "luck"}, "is no meaning"),
        ({"scale-4": "furlong"}, "furlong"),
        ({"key-0": "battery_voltage"}, "Two columns are battery voltage"),
        ({"name-0": "other"}, "sends other columns now"),
    ):
        answer = client.post(address, form | change)
        assert answer.status_code == 400
        assert told in answer.content.decode()
    assert Source.objects.get().meanings == []
    assert client.post(address, form).status_code == 302
    kept = {one["name"]: one for one in files.read(path / files.COLUMNS)["columns"]}
    assert (kept["amps [A]"]["key"], kept["amps [A]"]["factor"]) == ("used_mah", 0.5)
    assert kept["vbat [V]"]["factor"] == 0.001
    (path / files.ENDED).touch()
    client.post(f"/craft/{craft.pk}/live/end/", follow=True)
    log = Log.objects.get()
    assert ImportProfile.objects.get().name == f"telemetry of {craft}"
    (uses,) = (table["columns"] for table in log.applied_mapping["tables"])
    found = {use["name"]: use for use in uses}
    assert found["vbat"]["factor"] == 0.001
    assert found["amps"]["role"] is None  # no role of a log


def test_telemetry_alone_answers_endurance_link_and_track(client: Client, craft: Craft, source: Source) -> None:
    recording = recordings.begin(craft)
    path = record(recording)
    page = client.get(recording.get_absolute_url()).content.decode()
    assert "not enough data" in page
    tally = {"flying_s": 180.0, "flying_mah": 550.0, "lowest_cell_v": 3.52, "weakest_link": 0.41, "weakest_link_at_m": 320.4,
             "track_m": 2100.0, "highest_m": 61.0}  # fmt: skip
    files.replace(path / files.STATE, files.read(path / files.STATE) | {"tally": tally, "dropped": 10})
    page = client.get(recording.get_absolute_url()).content.decode()
    assert "11.0 A on average; a full pack lasts 9.6 min" in page  # 0.8 × 2200 mAh at 11 A
    assert "weakest 41 % at 320 m from home; 25.0 % of the lines were lost" in page
    assert "2100 m flown, 61 m high at most" in page


def read_events(craft: Craft, path: Path, last: int | None) -> list[tuple[str, str, dict]]:
    """Events by the rules of WHATWG HTML 9.2.6: fields by line, an empty line ends one, comments begin with a colon."""

    async def all_of() -> bytes:
        return b"".join([part async for part in streaming.events(path, last, craft=craft, capacity_mah=2000.0)])

    found = []
    for block in asyncio.run(all_of()).decode().split("\n\n"):
        fields: dict[str, str] = {}
        for line in block.split("\n"):
            name, _, value = line.partition(":")
            if name:
                fields[name] = value.removeprefix(" ")
        if "data" in fields:
            found.append((fields.get("event", "message"), fields.get("id", ""), json.loads(fields["data"])))
    return found


def test_the_stream_says_all_and_goes_on_where_a_page_left_off(craft: Craft, source: Source) -> None:
    recording = recordings.begin(craft)
    path = record(recording, ended=True)
    events = read_events(craft, path, None)
    kinds = [kind for kind, _, _ in events]
    assert kinds[0] == "rows"
    assert kinds[-1] == "over"
    assert {"event", "state"} <= set(kinds)
    rows = events[0][2]["rows"]
    assert rows[-1][1]["cell_v"] == pytest.approx((15.2 - 0.29) / 4)
    assert rows[-1][1]["home_distance"] > 20
    identity = int(events[0][1])
    assert identity == (path / files.LINES).read_bytes().rindex(b"\n") + 1
    assert not [kind for kind, _, _ in read_events(craft, path, identity) if kind == "rows"]
    half = (path / files.LINES).read_bytes().index(b"\n", identity // 2) + 1
    again = [data for kind, _, data in read_events(craft, path, half) if kind == "rows"]
    assert 0 < len(again[0]["rows"]) < 30
    assert streaming.place_of("12") == 12
    assert streaming.place_of("x") is None


@pytest.mark.parametrize(
    ("form", "told"),
    [
        ({"on-cell_low": "on", "limit-cell_low": "3,4", "delay-cell_low": "2"}, ""),
        ({"on-far": "on", "limit-far": ""}, "ay a limit for"),
        ({"on-cell_low": "on", "limit-cell_low": "abc"}, "limit"),
        ({"on-link_low": "on", "limit-link_low": "40", "delay-link_low": "999"}, "n alarm’s delay is 0 to 120"),
    ],
)
def test_alarms_are_the_craft_s_own(client: Client, craft: Craft, workshop: Path, form: dict, told: str) -> None:
    assert 'value="3.5"' in client.get(f"/craft/{craft.pk}/live/alarms/").content.decode()
    answer = client.post(f"/craft/{craft.pk}/live/alarms/", form)
    assert answer.status_code == (400 if told else 302)
    assert told in answer.content.decode()
    assert [one.limit for one in Alarm.objects.all()] == ([] if told else [3.4])


class TestLink:
    def test_read_is_identical_or_new(self, client: Client, craft: Craft, on_the_line: StandIn) -> None:
        do = lambda word: client.post(f"/craft/{craft.pk}/link/", {"do": word}, follow=True).content.decode()  # noqa: E731
        assert "identical to r1" in do("read")
        assert "dentical to the latest settings" in do("keep")
        on_the_line.settings["d on roll"] = "99"
        page = do("read")
        assert "differs from the latest settings in 1 values" in page
        assert "not saved" in page
        assert "Kept as r2" in do("keep")
        assert "it has r1" in do("restart")  # it was never saved
        assert "no log yet" in do("log")
        assert "he link cannot do that" in do("dance")

    def test_a_slip_is_written_read_back_and_saved(self, client: Client, craft: Craft, on_the_line: StandIn) -> None:
        text = "".join(f"{name} = {value}\n" for name, value in (on_the_line.settings | {"d on roll": "31"}).items())
        wanted = hangar.paste_configuration(craft, text)
        page = client.get(f"/craft/{craft.pk}/link/?to={wanted.pk}").content.decode()
        before = on_the_line.settings["d on roll"]
        assert f'name="was-d on roll" value="{before}"' in page
        form = {"do": "write", "to": str(wanted.pk), "was-d on roll": before}
        say = lambda **more: client.post(f"/craft/{craft.pk}/link/", form | more, follow=True).content.decode()  # noqa: E731
        assert "propellers off first" in say()
        assert "he values on the craft changed" in say(props="1", **{"was-d on roll": "1"})
        on_the_line.is_armed = True
        assert "is armed" in say(props="1")
        on_the_line.is_armed = False
        page = say(props="1")
        assert "is written and verified, but not saved" in page
        assert "not saved" in page
        assert on_the_line.settings["d on roll"] == "31"
        client.post(f"/craft/{craft.pk}/link/", {"do": "save"})
        assert on_the_line.saved["d on roll"] == "31"

    def test_a_flight_that_flew_old_numbers_is_flagged(self, client: Client, craft: Craft, on_the_line: StandIn, attach) -> None:
        text = "".join(f"{name} = {value}\n" for name, value in (on_the_line.settings | {"d on roll": "31"}).items())
        wanted = hangar.paste_configuration(craft, text)
        flight = attach()
        flight.configuration = wanted
        flight.save(update_fields=("configuration",))
        client.post(f"/craft/{craft.pk}/link/", {"do": "read"})
        LinkRead.objects.update(at=flight.flown_at.replace(year=flight.flown_at.year + 1))
        (told,) = link.contradictions(craft)
        assert told == f"Flight {flight.number} flew r1, not {wanted}, not those in its record"
        assert "not those in its record" in client.get(f"/craft/{craft.pk}/live/").content.decode()

    @pytest.mark.parametrize("port", [None, 1])
    def test_without_anybody_there_a_sentence(self, client: Client, craft: Craft, source: Source, port: int | None) -> None:
        Source.objects.update(link_port=port)
        page = client.post(f"/craft/{craft.pk}/link/", {"do": "read"}, follow=True).content.decode()
        assert ("No settings link is set up" if port is None else "No response at") in page
        assert not Configuration.objects.filter(note="read over the link").exists()


def test_two_craft_cannot_record_from_one_port(client: Client, craft: Craft, source: Source) -> None:
    other = hangar.create_craft(layout="quad", name="Other")
    Source.objects.create(craft=other, port=source.port)
    recordings.begin(craft)
    page = client.post(f"/craft/{other.pk}/live/begin/", follow=True).content.decode()
    assert "is being recorded from udp 127.0.0.1:14650 already" in page
