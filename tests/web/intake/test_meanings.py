"""Meanings of columns through their page: asked for, corrected, kept as profiles, followed by their fellows."""

import json
import re

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.logs.models import Channel, ImportProfile, Log
from tests.dialects import DIALECTS
from tests.flying import flown
from tests.newdialects import PLANES
from tests.pageforms import fields_of
from tests.tables import COUNTED

pytestmark = pytest.mark.django_db


class TestMeanings:
    def test_a_missing_rate_is_asked_for_kept_as_a_profile_and_applied_next_time(
        self, client: Client, craft: Craft, bring, act
    ) -> None:
        bring(("one.csv", COUNTED))
        log = Log.objects.get()
        assert log.state == "asking"
        assert "only counts rows" in client.get(f"/logs/{log.pk}/").content.decode()
        stream = log.streams.get()
        page = client.get(f"/logs/{log.pk}/meanings/").content.decode()
        assert "gyro, roll" in page
        assert {f"role-0-{channel.position}" for channel in stream.channels.exclude(position=0)} <= set(fields_of(page))
        refused = act(f"/logs/{log.pk}/meanings/", **fields_of(page) | {"rate-0": "quick"})
        assert "a rate in Hz should be a number" in refused
        assert 'value="quick"' in refused  # what was typed is still there
        act(f"/logs/{log.pk}/meanings/", **fields_of(page) | {"rate-0": "500", "remember": "1", "profile_name": "Club box"})
        log.refresh_from_db()
        assert (log.state, log.streams.get().sample_rate_hz) == ("ready", pytest.approx(500))
        bring(("two.csv", COUNTED.replace(b"4;", b"5;")))
        second = Log.objects.get(file_name="two.csv")
        assert (second.state, second.profile.name) == ("ready", "Club box")
        assert "used for 2 logs" in client.get("/import-profiles/").content.decode()
        assert "is deleted" in act("/import-profiles/", profile=ImportProfile.objects.get().pk)

    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_a_column_is_corrected_without_a_new_upload(self, client: Client, craft: Craft, attach, act) -> None:
        flight = attach(DIALECTS["spanish"](flown(5)).content)
        log = flight.segments.get().log
        channel = Channel.objects.get(stream__log=log, role="throttle")
        field = f"0-{channel.position}"

        def sent(**changed: str) -> dict[str, str]:
            return fields_of(client.get(f"/logs/{log.pk}/meanings/").content.decode()) | changed

        page = act(f"/logs/{log.pk}/meanings/", **sent(**{f"role-{field}": "throttle", f"scale-{field}": "volts"}))
        assert "throttle is written in one of" in page
        page = act(f"/logs/{log.pk}/meanings/", **sent(**{f"role-{field}": "altitude", f"scale-{field}": "cm"}))
        assert "are saved" in page
        changed = Channel.objects.get(stream__log=log, role="altitude")
        assert (changed.factor, changed.unit, changed.reason) == (0.01, "m", "chosen by you")
        log.refresh_from_db()
        assert log.segments.get().flight == flight
        other = Channel.objects.get(stream__log=log, role="gyro.roll")
        page = act(f"/logs/{log.pk}/meanings/", **sent(**{f"role-0-{other.position}": "gyro.pitch"}))
        assert "each meaning belongs to one column" in page

    @pytest.mark.long(
        "its other cases ask the same",
        only=(
            "acelerador-battery_voltage",
            "giro",
            "salida",
        ),
    )
    @pytest.mark.parametrize(
        ("column", "role", "scale", "told"),
        [
            ("giro cabeceo deseado", "gyro_raw.pitch", "deg/s", {"gyro_raw.roll", "gyro_raw.yaw"}),
            ("salida motor 2", "servo.2", "µs", {"servo.1", "servo.3", "servo.6"}),
            ("giro alabeo deseado", "accel.x", "deg/s", set()),  # a unit of another quantity was left over: it gives way
            ("acelerador", "battery_voltage", "dV", set()),
            ("acelerador", "sprocket", "", {"is not a known meaning"}),
            ("acelerador", "altitude", "bananas", {"is written in one of"}),
        ],
    )
    def test_named_alike_columns_follow_a_correction(
        self, client: Client, craft: Craft, attach, column: str, role: str, scale: str, told: set[str]
    ) -> None:
        log = attach(DIALECTS["spanish"](flown(5)).content).segments.get().log
        at = Channel.objects.get(stream__log=log, name=column)
        field = f"0-{at.position}"
        form = {f"role-{field}": role, f"scale-{field}": scale}
        shown = client.post(f"/logs/{log.pk}/meanings/fellows/?field={field}", form).content.decode()
        assert told <= set(re.findall(r'value="([a-z_]+\.[a-z0-9]+)"', shown)) or all(text in shown for text in told)
        assert not Channel.objects.filter(stream__log=log, role=role).exists() or role == "gyro_raw.pitch"  # only shown so far

    @pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
    def test_the_lines_before_the_table_become_a_configuration(self, craft: Craft, attach, act) -> None:
        flight = attach(DIALECTS["brackets"](flown(5)).content)
        act(f"/logs/{flight.segments.get().log_id}/settings/")
        kept = Configuration.objects.order_by("-pk").first()
        assert kept.settings.filter(name="gyro_scale", value="16.4 LSB per dps").exists()

    def test_reading_again_needs_the_kept_file(self, client: Client, craft: Craft, attach, act) -> None:
        log = attach().segments.get().log
        act(f"/logs/{log.pk}/reread/")
        log.refresh_from_db()
        assert log.state == "ready"
        assert "Its samples stay" in act(f"/logs/{log.pk}/upload/remove/")
        assert "the uploaded file was removed" in act(f"/logs/{log.pk}/reread/")


class TestModesAndDocuments:
    @pytest.fixture
    def log(self, craft: Craft, bring) -> Log:
        bring(("plane.csv", PLANES["per cent of a throw"].written()[0]))
        return Log.objects.get()

    def test_modes_that_are_numbers_get_names_that_stay(self, client: Client, log: Log, act) -> None:
        page = client.get(f"/logs/{log.pk}/meanings/").content.decode()
        named = {name for name in fields_of(page) if name.startswith("mode-")}
        assert {"mode-21", "mode-9"} <= named
        assert "This log has mode numbers" in page
        act(f"/logs/{log.pk}/meanings/", **fields_of(page) | {"mode-21": "Return", "mode-9": "track"})
        channel = Channel.objects.get(stream__log=log, role="mode")
        assert {"return", "track"} <= set(channel.labels)
        again = fields_of(client.get(f"/logs/{log.pk}/meanings/").content.decode())
        assert (again["mode-21"], again["mode-9"]) == ("return", "track")
        act(f"/logs/{log.pk}/meanings/", **again | {"mode-9": ""})
        assert "mode 9" in Channel.objects.get(stream__log=log, role="mode").labels, "a name that is taken away is unknown again"

    def test_modes_in_words_of_a_second_stream_need_no_names(self, client: Client, craft: Craft, bring) -> None:
        fast = b"".join(b'{"t_us": %d, "throttle": %.3f}\n' % (20_000 * k, 0.3 + k % 7 / 100) for k in range(900))
        slow = b"".join(
            b'{"t_us": %d, "alt": %d, "mode": "%s"}\n' % (200_000 * k, 20 + k, b"level" if k < 40 else b"return")
            for k in range(90)
        )
        bring(("box.jsonl", fast + slow))
        log = Log.objects.get()
        assert log.streams.count() == 2
        page = client.get(f"/logs/{log.pk}/meanings/").content.decode()
        assert not [name for name in fields_of(page) if name.startswith("mode-")]
        assert "Save meanings" in page

    def test_meanings_are_exported_and_imported(self, client: Client, log: Log, act) -> None:
        answer = client.get(f"/logs/{log.pk}/meanings/export/")
        document = json.loads(answer.content)
        assert "attachment" in answer["Content-Disposition"]
        document["columns"]["out_1"] = {"role": "servo.1", "unit": "%", "centre_us": 1512, "throw_us": 400}
        document["modes"] = {"21": "return"}
        sent = SimpleUploadedFile("m.json", json.dumps(document).encode())
        assert "meanings of plane.csv were imported" in act(f"/logs/{log.pk}/meanings/import/", document=sent)
        servo = Channel.objects.get(stream__log=log, role="servo.1")
        assert (servo.factor, servo.offset) == (pytest.approx(4.0), 1512.0)
        assert "% of ±400 around 1512" in client.get(f"/logs/{log.pk}/meanings/").content.decode()

    @pytest.mark.parametrize(
        ("content", "words"),
        [
            (b"no json", "the file is no JSON"), (b'{"schema": "x"}', "expected meanings"),
            (b'{"schema": "nembrit.meanings/1", "columns": {"fm": {"role": "gyro.left"}}}', "not a known meaning"),
            (b" " * 1_000_001, "too large"), (None, "choose a file"),
        ],
    )  # fmt: skip
    def test_wrong_files_of_meanings_change_nothing(self, log: Log, act, content: bytes | None, words: str) -> None:
        before = Log.objects.get().applied_mapping
        sent = {} if content is None else {"document": SimpleUploadedFile("m.json", content)}
        page = act(f"/logs/{log.pk}/meanings/import/", **sent)
        assert words in page
        assert "Nothing was changed" in page
        assert (Log.objects.get().applied_mapping, Log.objects.get().state) == (before, "ready")

    @pytest.mark.parametrize("is_typed", [True, False])
    def test_a_unit_that_was_typed_follows_no_other_column(self, client: Client, log: Log, is_typed: bool) -> None:
        columns = {channel.name: f"0-{channel.position}" for channel in Channel.objects.filter(stream__log=log, position__gt=0)}
        first, second = columns["out_1"], columns["out_2"]
        form = {f"role-{first}": "servo.1", f"scale-{first}": "% of ±400 around 1512"}
        form |= {f"role-{second}": "servo.2", f"scale-{second}": "% of ±380 around 1487"}
        form |= {f"typed-{second}": "1"} if is_typed else {}
        shown = client.post(f"/logs/{log.pk}/meanings/fellows/?field={first}", form).content.decode()
        assert "servo 3" in shown
        assert (f'id="scale-{second}"' in shown) != is_typed
