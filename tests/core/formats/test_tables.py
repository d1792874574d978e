"""Tables of any dialect: recognised, refused or kept with a note; written and read back the same."""

import gzip
import io
import json
import zipfile

import numpy as np
import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nembrit.core.errors import CoreError, InputError, LogReadError
from nembrit.core.formats import table
from nembrit.core.formats.archive import members_of
from nembrit.core.formats.give import WRITERS, GivenColumn, to_geojson
from nembrit.core.formats.gpx import write as write_gpx
from nembrit.core.formats.registry import read_log, read_raw
from nembrit.core.recognise.propose import propose
from nembrit.core.records.interpret import interpret
from nembrit.core.records.mapping import ClockUnknown, Mapping, check_mapping, mapping_from_json
from nembrit.core.records.units import parse_scale, scale_text
from tests.dialects import DIALECTS
from tests.flying import flown

ROWS = b"".join(b"%.3f,%d,%d\n" % (k / 1000, k % 7, 3 * k % 11) for k in range(300))
WIDE = b"\n".join([b",".join(b"c%d" % k for k in range(500)), *[b",".join(b"%d" % k for k in range(500))] * 9])
HEADER = b"time,gyro x (deg/s),throttle\n"


@pytest.mark.long("flies and analyses several flights; its parts are asked one by one")
@pytest.mark.parametrize("name", DIALECTS)
def test_an_invented_dialect_is_understood_without_a_correction(name: str) -> None:
    flight = flown(5)
    dialect = DIALECTS[name](flight)
    raw = read_raw(dialect.content)
    log = interpret(raw, propose(raw))
    np.testing.assert_allclose(log.main.t_s, flight.t_s, atol=1e-9)
    wanted = set(dialect.roles.values()) - {"time"}
    assert {channel.role for channel in log.main.channels if channel.role} == wanted
    for role in wanted:
        channel = log.main.find(role)
        size = np.abs(flight.channels[role]).max()
        np.testing.assert_allclose(channel.values(), flight.channels[role], atol=0.011 * size + 1e-6, err_msg=role)
        assert channel.confidence >= 0.5, (role, channel.reason)


@pytest.mark.parametrize(
    ("content", "message"),
    [
        (b"", "the file is empty"),
        (b" \n\n ", "the file is empty"),
        (b"# only a comment\n", "the file has no rows"),
        (HEADER, "no table of numbers in the first"),
        (HEADER + b"0,1,2\n", "only 1 row of numbers"),
        (b"words and words\nand more of them\n" * 20, "no table of numbers in the first"),
        (b"x" * 400_000, "one very long line without separators"),
        (b"\x89PNG\r\n\x1a\n\0\0\0", "a PNG picture"),
        (b"\xff\xd8\xff\xe0 pixels", "a JPEG picture"),
        (b"%PDF-1.7\n1 0 obj", "a PDF document"),
        (b"abc\0\0\1\2\3" * 500, "byte 3: this is not text"),
        (bytes(range(1, 9)) * 400, "this is not text"),
        (WIDE, "500 columns"),
        (b"PAR1 something else", "this Parquet file is cut off"),
        (b"PAR1" + b"\0" * 40 + b"PAR1", "cannot be read"),
        (b"<?xml version='1.0'?><!DOCTYPE gpx [<!ENTITY a 'b'>]><gpx>&a;</gpx>", "defines entities"),
        (b"<?xml version='1.0'?><gpx><trk>", "this GPX file is broken"),
        (b"<gpx xmlns='http://www.topografix.com/GPX/1/1'></gpx>", "0 positions"),
        (b'{"a": 1}\n', "no objects in"),
        (b'{"a": 1, "b": ' * 3, "no objects in"),
        (b"$GPGGA,1,2*01\n$GPRMC,bad*01\n", "no sentence with a valid checksum"),
        (b"\x1f\x8b\x08broken", "this .gz file is broken"),
        (gzip.compress(HEADER + ROWS)[:60], "cut off"),
        (b"PK\x03\x04 no zip at all", "broken or cut off"),
        (b"\xff\xfe" + "nur Worte\n".encode("utf-16-le") * 5, "no table of numbers"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_is_refused_with_where_and_what(content: bytes, message: str) -> None:
    with pytest.raises(LogReadError, match=message):
        read_log(content)


@pytest.mark.parametrize(
    ("content", "code", "rows"),
    [
        (HEADER + ROWS[:-4], "row", 299),  # the last line is cut off
        (HEADER + ROWS + b"0.3,7\n", "row", 300),
        (HEADER + ROWS + b"0.3,oops,1\n", "text", 301),
        (HEADER + ROWS + b"0.3,1\n0.301,1,1,1\n", "row", 300),  # one too short, one too long: as many cells as two whole ones
        (HEADER + ROWS[:900] + b"\n# a pause\n" + ROWS[900:], "", 300),
        (HEADER + ROWS + b"0.3,nan,1\n0.301,inf,1\n", "missing", 302),
        (HEADER + ROWS + b"0.1,5,5\n", "time_backward", 301),
        (HEADER + ROWS + b"0.299,5,5\n", "time_repeated", 301),
        (HEADER + ROWS + b",5,5\n", "time_missing", 301),
        (HEADER + ROWS + ROWS, "clock_restart", 600),
        (b"time,gyro x\n" + b"".join(b"%.3f,7\n" % (k / 1000) for k in range(50)), "constant", 50),
        (b"time,gyro x,gyro x\n" + ROWS.replace(b"\n", b"\n"), "", 300),
        (b"time a b\n" + ROWS.replace(b",", b" ") + b"0.3 7\n   ", "row", 300),  # ends in blanks
        (HEADER + ROWS[:900] + ROWS[900:].replace(b"\n", b"\r"), "", 300),  # other line ends later on
        (b'time,"<script>alert(1)</script>",throttle\n' + ROWS, "", 300),
        (b"time,throttle\n" + b"".join(b"%.3f,%d\n" % (k / 1000, 40000 * (k % 2)) for k in range(50)), "", 50),
    ],
)
@pytest.mark.parametrize("block_bytes", [300, 8 * 1024 * 1024], ids=["small blocks", "one block"])
def test_what_can_be_kept_is_kept_with_a_note(
    content: bytes, code: str, rows: int, block_bytes: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(table, "_BLOCK_BYTES", block_bytes)
    log = read_log(content)
    assert log.rows_read == rows
    assert not code or code in {note.code for note in log.quality}
    assert (np.diff(log.main.t_s) > 0).all()


@pytest.mark.parametrize(
    ("times", "unit", "expected_s", "code"),
    [
        (np.arange(100) * 500 + 2**32 - 20_000, "us", np.arange(100) * 5e-4, "clock_wrap"),
        (np.arange(100) // 2, "ms", np.arange(100) * 5e-4, "clock_coarse"),
        (
            np.r_[np.arange(50), np.arange(50)] * 1000.0,
            "us",
            np.r_[np.arange(50) * 1e-3, 1.049 + np.arange(50) * 1e-3],
            "clock_restart",
        ),
        (1.7e18 + np.arange(100) * 1e6, "ns", np.arange(100) * 1e-3, ""),
    ],
)
def test_clocks_are_straightened_and_told(times: np.ndarray, unit: str, expected_s: np.ndarray, code: str) -> None:
    times = times % 2**32 if code == "clock_wrap" else times
    rows = "".join(f"{t:.0f},{k % 9}\n" for k, t in enumerate(times))
    log = read_log(f"stamp [{unit}],gyro x [deg/s]\n{rows}".encode())
    np.testing.assert_allclose(log.main.t_s, expected_s, atol=3e-7)
    assert not code or code in {note.code for note in log.quality}


def test_a_counter_without_a_rate_is_asked_for() -> None:
    content = b"sample,gyro x\n" + b"".join(b"%d,%d\n" % (k, k % 5) for k in range(40))
    with pytest.raises(ClockUnknown, match="at what rate was this logged"):
        read_log(content)
    assert read_log(b"# sample rate: 500 Hz\n" + content).main.t_s[1] == 1 / 500


class TestOtherForms:
    def test_json_lines_of_two_rates_are_two_streams(self) -> None:
        lines = [json.dumps({"session": "one"})]
        for k in range(100):
            lines.append(json.dumps({"t [ms]": 10 * k, "gyro": {"x": k, "y": -k, "z": 0.5}, "motor": [0.1, 0.2]}))
            if k % 10 == 0:
                lines.append(json.dumps({"t [ms]": 10 * k, "vbat [V]": 16.0 - k / 100, "mode": "level"}))
        log = read_log("\n".join([*lines, "no object"]).encode())
        assert [stream.n_samples for stream in log.streams] == [100, 10]
        assert {channel.role for stream in log.streams for channel in stream.channels} == {
            "gyro.roll", "gyro.pitch", "gyro.yaw", "motor.1", "motor.2", "battery_voltage", "mode",
        }  # fmt: skip
        assert log.rows_dropped == 1

    def test_parquet_keeps_its_types_and_leaves_out_what_is_no_column_of_numbers(self) -> None:
        frame = pl.DataFrame(
            {"time [s]": [0.0, 0.1, 0.2], "gyro.roll [deg/s]": [1, 2, 3], "mode": ["a", "b", "a"], "list": [[1], [2], [3]]}
        )
        buffer = io.BytesIO()
        frame.write_parquet(buffer)
        log = read_log(buffer.getvalue())
        assert [(channel.role, channel.samples.dtype.name) for channel in log.main.channels] == [
            ("gyro.roll", "int16"),
            ("mode", "int32"),
        ]
        assert {note.code for note in log.quality} >= {"column"}

    @pytest.mark.parametrize("packed", [gzip.compress(HEADER + ROWS), gzip.compress(HEADER) + gzip.compress(ROWS)])
    def test_gzip_is_opened(self, packed: bytes) -> None:
        assert read_log(packed).rows_read == 300

    def test_a_zip_of_several_and_a_bomb(self) -> None:
        def zipped(**files: bytes) -> bytes:
            buffer = io.BytesIO()
            with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
                for name, content in files.items():
                    archive.writestr(f"folder/{name}.csv", content)
                archive.writestr("__MACOSX/x", b"clutter")
            return buffer.getvalue()

        assert [member.name for member in members_of("a.zip", zipped(one=ROWS, two=ROWS))] == ["one.csv", "two.csv"]
        with pytest.raises(LogReadError, match="unpacks to more than"):
            members_of("bomb.zip", zipped(bomb=b"0" * 200_000_000))
        with pytest.raises(LogReadError, match="an archive inside an archive"):
            members_of("nested.zip", zipped(inner=gzip.compress(ROWS)))
        with pytest.raises(LogReadError, match="2 files in one archive"):
            read_log(zipped(one=ROWS, two=ROWS))


finite = st.floats(min_value=-1e6, max_value=1e6, allow_nan=False).map(lambda value: round(value, 4))


@settings(max_examples=60)
@given(
    rows=st.lists(st.tuples(finite, finite), min_size=6, max_size=40),
    separator=st.sampled_from([",", ";", "\t", "|", " "]),
    comma=st.booleans(),
    encoding=st.sampled_from(["utf-8", "utf-8-sig", "utf-16", "latin-1"]),
    end=st.sampled_from(["\n", "\r\n"]),
    quoted=st.booleans(),
    comments=st.booleans(),
)
def test_a_table_reads_back_as_written_in_any_dialect(
    rows: list[tuple[float, float]], separator: str, comma: bool, encoding: str, end: str, quoted: bool, comments: bool
) -> None:
    comma = comma and separator != ","
    quote = '"' if quoted and separator != " " else ""
    lines = ["# höhe: 3"] if comments else []
    lines.append(separator.join(f"{quote}{name}{quote}" for name in ("time", "gyro_x", "Höhe")))
    for k, (first, second) in enumerate(rows):
        cells = [f"{k / 100:.2f}", repr(first), repr(second)]
        lines.append(separator.join(f"{quote}{cell.replace('.', ',') if comma else cell}{quote}" for cell in cells))
    raw = read_raw((end.join(lines) + end).encode(encoding))
    _, gyro, height = raw.tables[0].columns
    np.testing.assert_array_equal(gyro.numbers(), [row[0] for row in rows])
    np.testing.assert_array_equal(height.numbers(), [row[1] for row in rows])
    assert (gyro.name, height.name) == ("gyro_x", "Höhe")


@settings(max_examples=40)
@given(
    kind=st.sampled_from(["csv", "parquet"]),
    values=st.lists(st.floats(allow_nan=True, allow_infinity=False, width=64), min_size=2, max_size=30),
)
def test_what_is_given_out_reads_back_identically(kind: str, values: list[float]) -> None:
    t_s = np.arange(len(values)) / 3200
    labels = ("hover", "loiter")
    columns = [
        GivenColumn(role="gyro.roll", name="gyro.roll", unit="deg/s", values=np.array(values)),
        GivenColumn(role=None, name="lamp, [left]", unit="lx", values=np.array(values)),
        GivenColumn(role="mode", name="mode", unit="", values=np.arange(len(values)) % 2, labels=labels),
    ]
    log = read_log(WRITERS[kind](t_s, columns))
    gyro, lamp, mode = log.main.channels
    np.testing.assert_array_equal(log.main.t_s, np.round(t_s, 9))
    np.testing.assert_array_equal(gyro.values(), values)
    np.testing.assert_array_equal(lamp.values(), values)
    assert (gyro.role, lamp.role, lamp.name) == ("gyro.roll", None, "other.lamp left")
    assert [mode.labels[code] for code in mode.samples] == [labels[k % 2] for k in range(len(values))]


def test_json_lines_geojson_and_gpx_are_given_out() -> None:
    import datetime

    column = GivenColumn(role="gyro.roll", name="x", unit="", values=np.array([1.0, np.nan]))
    assert read_log(WRITERS["jsonl"](np.array([0.0, 0.1]), [column])).main.find("gyro.roll").values()[0] == 1.0
    latitude, longitude = np.array([52.0, np.nan, 52.001]), np.array([-1.0, np.nan, -1.001])
    feature = json.loads(to_geojson(latitude, longitude, np.array([10.0, 11.0, np.nan]), name="a & b"))
    assert feature["geometry"] == {"type": "LineString", "coordinates": [[-1.0, 52.0, 10.0], [-1.001, 52.001]]}
    started = datetime.datetime(2026, 10, 1, tzinfo=datetime.UTC)
    log = read_log(write_gpx(np.array([0.0, 1.0, 2.5]), latitude, longitude, None, name="a & b", started_at=started))
    np.testing.assert_array_equal(log.main.find("latitude").values(), [52.0, 52.001])
    np.testing.assert_array_equal(log.main.t_s, [0.0, 2.5])
    for refused in (
        lambda: to_geojson(latitude[:2], longitude[:2], None, name=""),
        lambda: WRITERS["csv"](np.array([0.0]), [column]),
        lambda: WRITERS["csv"](np.arange(2.0), []),
    ):
        with pytest.raises(InputError):
            refused()


@pytest.mark.parametrize(
    ("role", "text", "expected"),
    [
        ("gyro.roll", "rad/s", (57.29577951308232, 0.0)), ("gyro.roll", "-1", (-1.0, 0.0)), ("throttle", "µs", (0.001, -1.0)),
        ("stick.roll", "µs", (0.002, -3.0)), ("motor.3", "%", (0.01, 0.0)), ("battery_voltage", "cV", (0.01, 0.0)),
        ("motor_rpm.1", "Hz", (60.0, 0.0)), ("gyro_temperature", "°F", (5 / 9, -160 / 9)), ("latitude", "1e-7deg", (1e-7, 0.0)),
        ("altitude", "0,3048", (0.3048, 0.0)),
    ],
)  # fmt: skip
def test_a_typed_unit_or_factor_is_understood_and_shown_again(role: str, text: str, expected: tuple[float, float]) -> None:
    found = parse_scale(role, text)
    assert found == pytest.approx(expected)
    assert parse_scale(role, scale_text(role, *found)) == pytest.approx(found)


@pytest.mark.parametrize(("role", "text"), [("gyro.roll", "V"), ("gyro.roll", "0"), ("throttle", "quick"), ("accel.x", "1e99")])
def test_a_wrong_scale_says_what_is_expected(role: str, text: str) -> None:
    with pytest.raises(InputError, match=role):
        parse_scale(role, text)


def test_a_mapping_survives_its_json_and_wrong_ones_are_refused() -> None:
    raw = read_raw(HEADER + ROWS)
    mapping = propose(raw)
    assert mapping_from_json(json.loads(json.dumps(mapping.as_json()))).tables == mapping.tables
    for broken in ({}, {"tables": [{"clock": {}}]}, {"tables": [{"clock": {"speed": 1}, "columns": []}]}):
        with pytest.raises(InputError, match="this is not an import profile"):
            mapping_from_json(broken)
    document = mapping.as_json()
    for role, message in (("gyro.left", "not a known meaning"), ("throttle", "given to")):
        document["tables"][0]["columns"][1]["role"] = role
        with pytest.raises(InputError, match=message):
            check_mapping(mapping_from_json(document))
    assert Mapping(tables=()).n_doubtful == 0
    assert issubclass(ClockUnknown, CoreError)
