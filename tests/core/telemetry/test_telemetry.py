"""Lines, clocks, alarms, energies and the link, against published sentences, hand-worked sums and what lines can be like."""

import json
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nembrit.core.errors import InputError
from nembrit.core.telemetry.air import Air
from nembrit.core.telemetry.alarms import Alarms, Rule, rule
from nembrit.core.telemetry.clock import Way
from nembrit.core.telemetry.home import headwind_home, minutes_left, way_home
from nembrit.core.telemetry.lines import MOST_LINE_BYTES, LineReader
from nembrit.core.telemetry.link import answer, differences, request
from nembrit.core.telemetry.meaning import chosen, columns_of, document_of, values_of
from nembrit.core.telemetry.pack import charge_at_rest
from nembrit.core.telemetry.shake import Shake
from nembrit.core.telemetry.tally import Tally
from nembrit.core.telemetry.watch import Watch

GGA = "$GPGGA,123519,4807.038,N,01131.000,E,1,08,0.9,545.4,M,46.9,M,,*47"  # as commonly published with its checksum
RMC = "$GPRMC,123519,A,4807.038,N,01131.000,E,022.4,084.4,230394,003.1,W*6A"


class TestLines:
    @pytest.mark.parametrize(
        ("text", "row"),
        [
            (GGA, {"latitude [deg]": 48.1173, "longitude [deg]": 11.516667, "altitude [m]": 545.4, "satellites": 8.0}),
            (RMC, {"latitude [deg]": 48.1173, "longitude [deg]": 11.516667, "ground_speed [m/s]": 11.5236, "course [deg]": 84.4}),
            ('{"vbat": 15.1, "mode": "fly", "gps": {"alt": 3}}', {"vbat": 15.1, "mode": "fly", "gps.alt": 3.0}),
            ('{"armed": true}', {"armed": 1.0}),
            (r'{"mode\ud800": "a\u0000b"}', {"mode": "ab"}),
        ],
    )
    def test_each_kind_is_told_by_looking(self, text: str, row: dict) -> None:
        (found,) = LineReader().feed(f"{text}\r\n".encode())
        assert {name: value if isinstance(value, str) else pytest.approx(value, rel=1e-5) for name, value in row.items()} == found

    def test_a_table_counts_from_its_header_and_kinds_mix(self) -> None:
        reader = LineReader()
        found = reader.feed(f"volt;amp;state\n15.2;3;fly\n{GGA}\n15.1;;fly\nvolt,rssi\n14.9,88\n1,2,3\n".encode())
        assert found[0] == {"volt": 15.2, "amp": 3.0, "state": "fly"}
        assert found[2] == {"volt": 15.1, "state": "fly"}
        assert len(found) == 3  # another separator is no header of this table
        assert reader.counts.garbage == 3

    @pytest.mark.parametrize(
        ("data", "count"),
        [
            (GGA.replace("*47", "*48").encode() + b"\n", "wrong_checksum"),
            (b"\x00\xff\xfe\n", "garbage"),
            (b"x" * (MOST_LINE_BYTES + 5) + b"\n", "too_long"),
            (b"[1, 2]\n", "garbage"),
            (b"$GPGGA,1,9999.0,N,1,E,1,8,1,1,M,,M,,\n", "garbage"),
            (b'{"a": ' + b"[" * 9000 + b"\n", "garbage"),
        ],
    )
    def test_what_is_no_row_is_counted(self, data: bytes, count: str) -> None:
        reader = LineReader()
        assert reader.feed(data) == []
        assert getattr(reader.counts, count) == 1
        assert reader.feed(b'{"v": 1}\n') == [{"v": 1.0}]

    def test_a_line_of_ten_megabytes_costs_no_memory_and_the_next_counts(self) -> None:
        reader = LineReader()
        for _ in range(160):
            assert reader.feed(b"y" * 65_536) == []
        assert len(reader._rest) <= MOST_LINE_BYTES + 65_536
        assert reader.feed(b'\n{"v": 2}\n') == [{"v": 2.0}]
        assert reader.counts.too_long == 1

    @settings(max_examples=150, deadline=None)
    @given(st.lists(st.binary(max_size=60), max_size=12))
    def test_no_bytes_break_it(self, pieces: list[bytes]) -> None:
        reader = LineReader()
        for piece in pieces:
            for row in reader.feed(piece):
                assert all(isinstance(value, str) or math.isfinite(value) for value in row.values())

    @pytest.mark.parametrize("cut", range(1, 90, 7))
    def test_halves_make_the_same_rows(self, cut: int) -> None:
        data = f'{{"a": 1}}\n{GGA}\n{{"a": 2}}\n'.encode()
        reader = LineReader()
        assert reader.feed(data[:cut]) + reader.feed(data[cut:]) == LineReader().feed(data)


class TestMeaning:
    def test_columns_of_a_source_get_their_meaning_as_a_file_s_do(self) -> None:
        rows = [
            {"seq": float(k), "vbat [V]": 15.2 - k / 100, "amps [A]": 8.0 + k % 3, "lq [%]": 97.0 - k % 4, "mode": "fly",
             "altitude [m]": float(k), "ground speed [km/h]": 36.0}
            for k in range(14)
        ]  # fmt: skip
        columns = columns_of(rows)
        found = values_of(rows[3], columns)
        assert found["battery_voltage"] == pytest.approx(15.17)
        assert found["ground_speed"] == pytest.approx(10.0)
        assert found["link_quality"] == pytest.approx(0.94)
        assert (found["mode"], found["counter"], found["altitude"]) == ("fly", 3.0, 3.0)
        assert values_of({"vbat [V]": "?"}, columns) == {"battery_voltage": "?"}

    def test_nothing_makes_nothing(self) -> None:
        assert columns_of([]) == ()


class TestWay:
    def test_what_a_counter_tells(self) -> None:
        way = Way()
        kept = [way.feed(k / 10, counter=n) for k, n in enumerate((1, 2, 2, 5, 4, 6))]
        assert kept == [True, True, False, True, True, True]
        assert (way.dropped, way.doubled, way.late) == (2, 1, 1)
        assert way.rate_hz == pytest.approx(10, rel=0.3)

    def test_what_a_clock_tells(self) -> None:
        way = Way()
        for receive_s, sent_s in ((0.0, 100.0), (0.1, 100.1), (0.2, 100.1), (0.3, 100.05), (0.4, 500.0), (9.0, 508.6)):
            way.feed(receive_s, sent_s)
        assert (way.doubled, way.late, way.jumps) == (1, 1, 1)
        assert way.gaps == [(0.4, 9.0)]


class TestAlarms:
    @pytest.mark.parametrize(
        ("key", "values", "came"),
        [
            ("cell_low", [(0, 3.6), (1, 3.4), (3, 3.4), (4.5, 3.4), (5, 3.52), (6, 3.65)], [(4.5, True), (6, False)]),
            ("cell_low", [(0, 3.4), (1, 3.6), (2, 3.4), (4, 3.6)], []),  # never for its whole delay
            ("silent", [(0, 1.0), (1, 3.5), (2, 0.1)], [(1, True), (2, False)]),
        ],
    )
    def test_delay_and_hysteresis(self, key: str, values: list, came: list) -> None:
        watched = {"cell_low": "cell_v", "silent": "silence_s"}[key]
        alarms = Alarms(rules=[rule(key)])
        found = [(event.at_s, event.is_on) for at, value in values for event in alarms.feed(at, {watched: float(value)})]
        assert found == came

    @pytest.mark.parametrize(
        ("key", "values", "words"),
        [
            ("failsafe", {"mode": "Return to home"}, "Mode changed to failsafe"),
            ("temperature_high", {"gyro_temperature": 91.0}, "Temperature 91 °C (limit 80 °C)"),
            ("link_low", {"link_quality": 0.31}, "Link quality 31 % (limit 50 %)"),
            ("cell_low", {"cell_v": 3.41}, "Cell voltage 3.41 V (limit 3.5 V)"),
            ("energy_home", {"energy_margin": -0.2}, "Turn back now"),
        ],
    )
    def test_words(self, key: str, values: dict, words: str) -> None:
        alarms = Alarms(rules=[rule(key)])
        assert alarms.feed(0.0, values) == []
        (event,) = alarms.feed(10.0, values)
        assert event.words.startswith(words)
        assert alarms.feed(11.0, {}) == []

    @pytest.mark.parametrize("bad", [("luck", 1.0), ("far", None), ("cell_low", 1e9)])
    def test_what_is_no_alarm_is_refused(self, bad: tuple) -> None:
        with pytest.raises(InputError):
            rule(*bad)
        with pytest.raises(InputError):
            Rule(key="cell_low", limit=3.5, delay_s=-1, hysteresis=0.1)


class TestHome:
    def test_sums_by_hand(self) -> None:
        """900 m against 5 m/s at 15 m/s: 90 s, at 12 A 300 mAh; 2200 mAh, a fifth kept, 1200 used: 560 left."""
        found = way_home(distance_m=900, speed_m_s=15, current_a=12, left_mah=560, headwind_m_s=5)
        assert (found.seconds, found.needed_mah, found.left_mah) == (90.0, 300.0, 560)
        assert found.margin == pytest.approx(260 / 560)
        assert way_home(distance_m=900, speed_m_s=4, current_a=9, left_mah=1760, headwind_m_s=5).margin < 0
        assert minutes_left(left_mah=1100, current_a=11) == pytest.approx(6.0)
        assert minutes_left(left_mah=1100, current_a=0) is None
        assert headwind_home(0.0, 200.0, 0.0, -4.0) == pytest.approx(-4.0)  # home lies west, the air moves west

    def test_used_charge_is_summed_over_the_rows_that_have_a_current(self) -> None:
        """11 A for 36 s are 110 mAh; lines without a current between them change nothing."""
        watch = Watch(cells=4, capacity_mah=2200.0)
        for k in range(37):
            watch.feed(float(k), {"latitude": 51.5 + k * 1e-5, "longitude": -1.5})
            found = watch.feed(float(k), {"battery_current": 11.0, "battery_voltage": 14.8, "ground_speed": 12.0})
        assert found["used_mah"] == pytest.approx(110.0)
        assert found["cell_v"] == pytest.approx(3.7)
        assert "minutes_left" not in found  # it was never seen at rest


class TestPack:
    @pytest.mark.parametrize(
        ("cell_v", "ratio", "least"), [(4.2, 1.0, 0.95), (3.87, 0.6, 0.483), (3.4, 0.019, 0.0), (3.0, 0.0, 0.0), (4.3, 1.0, 0.95)]
    )
    def test_charge_at_rest(self, cell_v: float, ratio: float, least: float) -> None:
        """Between the points of the table, less 20 mV and 5 %, worked by hand."""
        found = charge_at_rest(cell_v)
        assert (found.ratio, found.least_ratio) == (pytest.approx(ratio, abs=0.002), pytest.approx(least, abs=0.002))
        with pytest.raises(InputError, match="no chemistry"):
            charge_at_rest(3.8, chemistry="lead")

    @pytest.mark.parametrize(
        ("rest_v", "flying_v", "minutes", "note"),
        [
            (4.2, 3.7, (0.75 * 2200 - 110) / 1000 / 11 * 60, ""),  # full: 5 % less, a fifth kept, 110 mAh used
            (3.45, 3.3, 0.0, ""),  # nearly empty at the start: nothing above the reserve
            (None, 3.7, None, "began under load"),
            (4.2, 3.37, None, "yet a cell is down at 3.37 V"),  # a wrong capacity, or a tired pack
        ],
    )
    def test_minutes_left_only_where_the_pack_allows_them(
        self, rest_v: float | None, flying_v: float, minutes: float | None, note: str
    ) -> None:
        watch = Watch(cells=4, capacity_mah=2200.0)
        for k in range(5 if rest_v else 0):
            watch.feed(k - 5.0, {"battery_current": 0.0, "battery_voltage": 4 * (rest_v or 0)})
        for k in range(37):
            found = watch.feed(float(k), {"battery_current": 11.0, "battery_voltage": 4 * flying_v})
        if minutes is None:
            assert "minutes_left" not in found
        else:
            assert found["minutes_left"] == pytest.approx(minutes, rel=0.01, abs=1e-9)
        assert note in str(found.get("pack_note", ""))
        assert bool(note) is ("pack_note" in found)

    def test_another_watch_carries_on_and_counts_nothing_twice(self) -> None:
        rows = [(float(k), {"battery_current": 10.0 if k > 3 else 0.5, "battery_voltage": 16.4}) for k in range(60)]
        first, second = Watch(capacity_mah=1500.0), Watch(capacity_mah=1500.0)
        for at, row in rows[:40]:
            first.feed(at, row)
        second.carry_on(first.carried | {"last_s": 39.0})
        for at, row in rows[40:]:
            first.feed(at, row)
        for at, row in rows[30:]:
            second.feed(at, row)
        assert second.used_mah == pytest.approx(first.used_mah)
        assert second.pack is not None
        assert second.pack.start == first.pack.start  # type: ignore[union-attr]


class TestAir:
    @pytest.mark.parametrize(
        ("turned_deg", "scale", "is_known"),
        [(360, 1.0, True), (200, 1.0, True), (90, 1.0, False), (0, 1.0, False), (360, 1.3, True)],
    )
    def test_wind_is_known_after_a_turn(self, turned_deg: float, scale: float, is_known: bool) -> None:
        """15 m/s through the air, moved 4 m/s north and 3 m/s east: wind of 5 m/s from 217°; also with an airspeed 30 % high."""
        rng = np.random.default_rng(5)
        air = Air()
        for k in range(120):
            way = math.radians(turned_deg * k / 119)
            north, east = 15 * math.cos(way) + 4 + rng.normal(0, 0.2), 15 * math.sin(way) + 3 + rng.normal(0, 0.2)
            speed, course = math.hypot(north, east), math.degrees(math.atan2(east, north)) % 360
            air.feed(k / 2, {"airspeed": 15.0 * scale, "ground_speed": speed, "course": course})
        assert (air.wind is not None) is is_known
        if air.wind is not None:
            assert air.wind.speed_m_s == pytest.approx(5.0, abs=0.3)
            assert air.wind.from_deg == pytest.approx(216.9, abs=4)

    def test_the_way_home_knows_its_wind(self) -> None:
        """North of home by about 1.1 km with wind from the north: home is downwind, more remains than by the cautious rule."""

        def fly(with_airspeed: bool) -> float:
            watch = Watch(capacity_mah=2200.0)
            watch.feed(-1.0, {"battery_current": 0.0, "battery_voltage": 16.8})
            watch.feed(-0.5, {"latitude": 51.5, "longitude": -1.5})
            for k in range(120):
                way = math.radians(3.0 * k)
                north, east = 15 * math.cos(way) - 6, 15 * math.sin(way)
                row: dict[str, float | str] = {
                    "battery_current": 12.0, "battery_voltage": 15.2, "latitude": 51.51, "longitude": -1.5,
                    "ground_speed": math.hypot(north, east), "course": math.degrees(math.atan2(east, north)) % 360,
                }  # fmt: skip
                found = watch.feed(k / 2, row | ({"airspeed": 15.0} if with_airspeed else {}))
            assert ("wind_m_s" in found) is with_airspeed
            return float(found["energy_margin"])

        assert fly(with_airspeed=True) > fly(with_airspeed=False)


class TestShake:
    def noise(self, rate_hz: float, *, line_hz: float = 0.0, keep: float = 1.0) -> tuple:
        rng = np.random.default_rng(3)
        shake = Shake()
        for k in range(int(2.2 * rate_hz)):
            if rng.random() > keep:
                continue
            at = k / rate_hz
            gyro = rng.normal(0, 3.0) + 40 * math.sqrt(2) * math.sin(2 * math.pi * line_hz * at)
            shake.feed(at, {"gyro.roll": gyro, "gyro.pitch": rng.normal(0, 3.0)})
        return shake.noise

    @pytest.mark.parametrize(
        ("rate_hz", "keep", "told"), [(50, 1.0, False), (100, 1.0, True), (400, 1.0, True), (200, 0.8, False)]
    )
    def test_only_where_the_rate_allows(self, rate_hz: float, keep: float, told: bool) -> None:
        assert bool(self.noise(rate_hz, keep=keep)) is told

    def test_bands_and_a_line(self) -> None:
        """White noise of 3 deg/s spreads evenly to half the rate; a line of 40 deg/s RMS at 13 Hz is named."""
        roll, pitch = self.noise(200, line_hz=13.0)
        assert (roll.axis, roll.line_hz, pitch.line_hz) == ("roll", pytest.approx(13, abs=0.5), None)
        assert roll.line_dps == pytest.approx(40, rel=0.05)
        low, high, rms = pitch.bands[1]
        assert rms == pytest.approx(3 * math.sqrt((high - low) / 100), rel=0.25)


class TestTally:
    def test_sums_by_hand_and_over_a_restart(self) -> None:
        """A square of 100 m sides at 10 m/s and 12 A: 40 s, 133 mAh, 400 m of way."""
        corners = [(0, 0), (100, 0), (100, 100), (0, 100), (0, 0)]
        tally = Tally()
        for k in range(41):
            (a, b), share = (corners[min(k // 10, 3)], corners[min(k // 10, 3) + 1]), (k - 10 * min(k // 10, 3)) / 10
            north, east = (a[n] + (b[n] - a[n]) * share for n in (0, 1))
            if k == 20:
                tally = Tally.of(json.loads(json.dumps(tally.as_document())))
            tally.feed(float(k), {"battery_current": 12.0, "north_m": float(north), "east_m": float(east),
                                  "home_distance": math.hypot(north, east), "link_quality": 0.9 - 0.01 * (k == 20)})  # fmt: skip
        assert (tally.flying_s, tally.flying_mah, tally.track_m) == (40.0, pytest.approx(133.3, abs=0.1), pytest.approx(400.0))
        assert (tally.weakest_link, tally.weakest_link_at_m) == (pytest.approx(0.89), pytest.approx(141.4, abs=0.1))
        assert tally.furthest_m == pytest.approx(141.4, abs=0.1)
        assert tally.endurance_s(1500.0) == pytest.approx(0.8 * 1500 * 3.6 / 12)
        assert tally.endurance_s(None) is None
        assert Tally().mean_current_a is None
        assert Tally.of({"flying_s": "rubbish"}) == Tally()


class TestChosen:
    @pytest.mark.parametrize(
        ("key", "scale", "factor"),
        [("battery_voltage", "mV", 0.001), ("link_quality", "%", 0.01), ("used_mah", "", 1.0), ("time", "ms", 0.001),
         ("", "", 1.0), ("time", "0.5", 0.5), ("mode", "", 1.0), ("gyro.roll", "rad/s", 57.29577951308232)],
    )  # fmt: skip
    def test_a_meaning_as_the_tuner_gives_it(self, key: str, scale: str, factor: float) -> None:
        one = chosen("a [V]", key, scale)
        assert (one.key, one.factor) == (key, pytest.approx(factor))
        role = document_of([one])["columns"]["a"]["role"]
        assert role == (key if key and key not in ("used_mah", "time") else None)


class TestLink:
    def test_a_request_is_one_line(self) -> None:
        assert json.loads(request("write", {"p on roll": "42"})) == {
            "nembrit": "link/1",
            "do": "write",
            "values": {"p on roll": "42"},
        }
        with pytest.raises(InputError):
            request("format")

    @pytest.mark.parametrize(
        ("line", "refusal"),
        [
            (b'{"nembrit":"link/1","settings":{"a":1.5},"saved":true,"armed":false,"moving":false}', ""),
            (b'{"nembrit":"link/1","settings":{},"saved":true,"armed":true,"moving":true}', "armed"),
            (b'{"nembrit":"link/1","settings":{},"saved":true,"armed":false,"moving":true}', "moving"),
        ],
    )
    def test_an_answer(self, line: bytes, refusal: str) -> None:
        found = answer(line)
        assert refusal in found.refusal
        assert bool(found.refusal) is bool(refusal)

    @pytest.mark.parametrize(
        "line",
        [b"", b"hello", b"{}", b'{"nembrit":"link/2","settings":{},"saved":true,"armed":false,"moving":false}',
         b'{"nembrit":"link/1","settings":{"a":[1]},"saved":true,"armed":false,"moving":false}',
         b'{"nembrit":"link/1","settings":{},"saved":"yes","armed":false,"moving":false}', b"[" * 5000],
    )  # fmt: skip
    def test_what_is_none_is_said(self, line: bytes) -> None:
        with pytest.raises(InputError, match="is this the right address"):
            answer(line)

    def test_differences_are_by_value(self) -> None:
        assert differences({"a": "1", "b": "on"}, {"a": "1.00", "b": "off", "c": "3"}) == [("b", "on", "off"), ("c", "", "3")]
