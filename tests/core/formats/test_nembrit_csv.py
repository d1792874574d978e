"""Nembrit's own CSV: written and read back identically, and refused with row and column."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nembrit.core.errors import LogReadError
from nembrit.core.formats import nembrit_csv
from nembrit.core.formats.registry import read_log
from nembrit.core.formats.source import Source

HEADER = b"time [s],gyro.roll [deg/s]\n"


@pytest.mark.parametrize(
    ("content", "message"),
    [
        (b"", "the file is empty"),
        (b"\n \n", "the file is empty"),
        (b"# only a comment\n", "no header row"),
        (b"time [s]\n0\n1\n", "only a time column"),
        (HEADER, "only a header and no rows"),
        (HEADER + b"0,1\n", "only 1 row of samples"),
        (HEADER + b"0,1\n1,x\n", r"row 3, column 2 \(gyro.roll\): expected a number, found “x”"),
        (b"# note\n" + HEADER + b"0,1\n1,12 deg\n", "row 4, column 2"),
        (HEADER + b"0,1\n1,2,3\n", "row 3: 3 cells, expected 2"),
        (HEADER + b"0,1\n1,2\n2\n", "row 4: 1 cell, expected 2"),
        (HEADER + b"0,1\n2,2\n1,3\n", r"row 4, column 1 \(time\): 1 s after 2 s; expected time to rise"),
        (HEADER + b"0,1\n0,2\n", "expected time to rise"),
        (HEADER + b"0,1\n,2\n", "no time; every row needs one"),
        (HEADER + b"0,1\n1,inf\n", "an infinite value"),
        (b"time [s],gyro.roll [deg/s],gyro.roll [deg/s]\n0,1,1\n1,1,1\n", "column 3: “gyro.roll” is in column 2 already"),
        (b"time [s],gyro.left [deg/s]\n0,1\n1,1\n", "row 1, column 2: “gyro.left” is not a known meaning"),
        (b"time [h],gyro.roll [deg/s]\n0,1\n1,1\n", "column 1: “time” needs its unit"),
        (b"a;b\n1;2\n", "column 1: expected “time"),
        (b"\x89PNG\r\n\x1a\n\0\0\0", "byte 8: this is not a text file"),
        (b"\xff\xfet\0i\0m\0e\0", "this is not a text file"),
        (b"time [s],gyro.roll [\xb0/s]\n0,1\n1,1\n", "not UTF-8"),
        (b"time [s]," + b",".join(b"other.c%d" % k for k in range(500)) + b"\n", "501 columns; at most 400"),
        (b"time [s],<script>alert(1)</script> [x]\n0,1\n1,1\n", "not a known meaning"),
        (b"x" * 3_000_000, "expected “time"),
    ],
)
def test_other_files_are_refused_with_where_and_what(content: bytes, message: str) -> None:
    with pytest.raises(LogReadError, match=message):
        nembrit_csv.read(Source(content))


def test_byte_order_mark_comments_windows_ends_and_missing_cells_are_taken() -> None:
    log = read_log(
        b"\xef\xbb\xbf# craft: test\r\ntime [ms],gyro.roll [rad/s],mode,other.lamp [lx]\r\n0,1,a,5\r\n1,,b,6\r\n2,3,a,7\r\n"
    )
    gyro, mode, lamp = log.main.channels
    np.testing.assert_allclose(log.main.t_s, [0, 0.001, 0.002])
    np.testing.assert_allclose(gyro.values(), np.degrees([1, np.nan, 3]))
    assert mode.labels == ("a", "b")
    assert mode.samples.tolist() == [0, 1, 0]
    assert lamp.role is None
    assert [note.code for note in log.quality if note.column == "gyro.roll"] == ["missing"]


def test_integers_stay_integers_and_positions_keep_their_digits() -> None:
    log = read_log(b"time [s],motor_rpm.1 [rpm],latitude [deg]\n0,8000,52.123456789\n1,8001,52.123456788\n")
    rpm, latitude = log.main.channels
    assert rpm.samples.dtype == np.int16
    assert latitude.values().tolist() == [52.123456789, 52.123456788]


@settings(max_examples=60)
@given(
    st.lists(st.one_of(st.floats(-1e6, 1e6, allow_nan=False), st.just(float("nan"))), min_size=2, max_size=40),
    st.integers(0, 4),
)
def test_written_numbers_read_back_identically(values: list[float], decimals: int) -> None:
    numbers = np.round(np.array(values), decimals) + 0.0
    t_s = np.arange(numbers.size) / 2000
    log = read_log(nembrit_csv.write([("gyro.roll", numbers)], t_s))
    np.testing.assert_array_equal(log.main.channels[0].values(), numbers)
    np.testing.assert_allclose(log.main.t_s, t_s, rtol=0, atol=1e-12)


@pytest.mark.parametrize("scale", [250.0, 2.0])
def test_a_throttle_far_beyond_full_is_noted_as_wrong_scale(scale: float) -> None:
    log = read_log(nembrit_csv.write([("throttle", np.array([0.0, scale]))], np.array([0.0, 1.0])))
    assert ("scale" in [note.code for note in log.quality]) == (scale > 2.5)
