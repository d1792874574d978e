"""Meanings of columns through their page: asked for, corrected, kept as profiles, followed by their fellows."""

import re

import pytest
from django.test import Client

from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.logs.models import Channel, ImportProfile, Log
from tests.dialects import DIALECTS
from tests.flying import flown
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
        assert "gyro.roll" in page
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
        assert "is forgotten" in act("/import-profiles/", profile=ImportProfile.objects.get().pk)

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
        assert "is being read anew" in page
        changed = Channel.objects.get(stream__log=log, role="altitude")
        assert (changed.factor, changed.unit, changed.reason) == (0.01, "m", "chosen by you")
        log.refresh_from_db()
        assert log.segments.get().flight == flight
        other = Channel.objects.get(stream__log=log, role="gyro.roll")
        page = act(f"/logs/{log.pk}/meanings/", **sent(**{f"role-0-{other.position}": "gyro.pitch"}))
        assert "each role goes to one column" in page

    @pytest.mark.parametrize(
        ("column", "role", "scale", "told"),
        [
            ("giro cabeceo deseado", "gyro_raw.pitch", "deg/s", {"gyro_raw.roll", "gyro_raw.yaw"}),
            ("salida motor 2", "servo.2", "µs", {"servo.1", "servo.3", "servo.6"}),
            ("giro alabeo deseado", "accel.x", "deg/s", set()),  # a unit of another quantity was left over: it gives way
            ("acelerador", "battery_voltage", "dV", set()),
            ("acelerador", "sprocket", "", {"is not a role Nembrit knows"}),
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
