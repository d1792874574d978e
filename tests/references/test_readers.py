"""Readers against other libraries and published examples; real recordings through the ordinary path."""

import io
from pathlib import Path

import geographiclib.geodesic
import gpxpy
import numpy as np
import pandas as pd
import pytest

from nembrit.core.formats import nmea
from nembrit.core.formats.registry import read_log, read_raw
from nembrit.core.manoeuvres.alignment import align
from nembrit.core.records.log import FlightLog
from nembrit.core.records.timebase import uniform
from nembrit.core.records.track import track_of
from tests.dialects import DIALECTS
from tests.flying import flown

DATA = Path(__file__).parents[1] / "data"
WGS84 = geographiclib.geodesic.Geodesic.WGS84


@pytest.mark.long("every number of large tables")
@pytest.mark.parametrize(
    ("name", "options"),
    [
        ("german", {"sep": ";", "decimal": ",", "skiprows": [0, 1, 2, 3, 5], "encoding": "latin-1"}),
        ("brackets", {"sep": "\t", "comment": "#"}),
        ("radians", {}),
        ("french", {"sep": r"\s+", "encoding": "utf-16"}),
        ("terse", {"encoding": "utf-8-sig"}),
        ("spanish", {"sep": "|", "skiprows": 2}),
    ],
)
def test_every_number_is_the_one_that_pandas_reads(name: str, options: dict) -> None:
    content = DIALECTS[name](flown(5)).content
    table = read_raw(content).tables[0]
    frame = pd.read_csv(io.BytesIO(content), **options)
    assert len(table.columns) == frame.shape[1]
    for column, expected in zip(table.columns, frame.columns, strict=True):
        # pandas' quick parser may be off by the last bit
        np.testing.assert_allclose(column.numbers(), frame[expected].to_numpy(dtype=float), rtol=3e-16, err_msg=expected)


def test_a_track_is_the_one_that_gpxpy_reads() -> None:
    content = (DATA / "walk_track" / "walk.gpx").read_bytes()
    log = read_log(content)
    points = [point for point, *_ in gpxpy.parse(content.decode()).walk()]
    stream = log.main
    for role, expected in (
        ("latitude", [p.latitude for p in points]),
        ("longitude", [p.longitude for p in points]),
        ("altitude", [p.elevation for p in points]),
    ):
        np.testing.assert_array_equal(stream.find(role).values(), expected)


def test_the_length_of_a_walk_is_that_of_its_geodesics() -> None:
    # Karney's geodesics summed over each segment: 4576.9075 m for this file (worked out beforehand with geographiclib)
    stream = read_log((DATA / "walk_track" / "walk.gpx").read_bytes()).main
    latitude, longitude = stream.find("latitude").values(), stream.find("longitude").values()
    segment = next(channel for channel in stream.channels if channel.name == "segment").values()
    track = track_of(stream.t_s, latitude, longitude, segment=segment)
    steps = zip(latitude, longitude, latitude[1:], longitude[1:], np.diff(segment), strict=False)
    expected_m = sum(WGS84.Inverse(*ends)["s12"] for *ends, jump in steps if not jump)
    assert expected_m == pytest.approx(4576.9075, abs=0.01)
    assert track.length_m == pytest.approx(expected_m, rel=1e-3)  # the plane's own error over 2 km


@pytest.mark.parametrize("place", [(0.01, 0.01), (47.0, 8.0), (-33.9, 151.2), (69.6, 18.9)])
@pytest.mark.parametrize("step", [(0.003, 0.0), (0.0, 0.004), (-0.01, 0.02)])
def test_the_grid_agrees_with_geodesics(place: tuple[float, float], step: tuple[float, float]) -> None:
    latitude, longitude = np.array([place[0], place[0] + step[0]]), np.array([place[1], place[1] + step[1]])
    track = track_of(np.array([0.0, 1.0]), latitude, longitude)
    inverse = WGS84.Inverse(latitude[0], longitude[0], latitude[1], longitude[1])
    assert np.hypot(track.east_m[1], track.north_m[1]) == pytest.approx(inverse["s12"], rel=1e-3)
    bearing = np.degrees(np.arctan2(track.east_m[1], track.north_m[1])) % 360
    assert abs((bearing - inverse["azi1"] + 180) % 360 - 180) < 0.1


@pytest.mark.parametrize(
    ("sentence", "expected"),
    [  # worked examples of NMEA 0183 sentences as commonly published
        ("GPGGA,123519,4807.038,N,01131.000,E,1,08,0.9,545.4,M,46.9,M,,", "47"),
        ("GPRMC,123519,A,4807.038,N,01131.000,E,022.4,084.4,230394,003.1,W", "6A"),
        ("GPGLL,4916.45,N,12311.12,W,225444,A,", "1D"),
    ],
)
def test_checksums_are_the_published_ones(sentence: str, expected: str) -> None:
    assert nmea.checksum(sentence) == expected


def test_published_sentences_give_their_published_position() -> None:
    later = "GPGGA,123520,4807.040,N,01131.000,E,1,08,0.9,545.4,M,46.9,M,,"
    lines = [
        "$GPGGA,123519,4807.038,N,01131.000,E,1,08,0.9,545.4,M,46.9,M,,*47",
        "$GPRMC,123519,A,4807.038,N,01131.000,E,022.4,084.4,230394,003.1,W*6A",
        f"${later}*{nmea.checksum(later)}",
        "$GPGGA,123521,4807.040,N,01131.000,E,1,08,0.9,545.4,M,46.9,M,,*00",
    ]
    raw = read_raw("\r\n".join(lines).encode())
    columns = {column.name: column.numbers() for column in raw.tables[0].columns}
    assert columns["latitude"][0] == pytest.approx(48.1173, abs=5e-5)  # half the last digit that is printed
    assert columns["longitude"][0] == pytest.approx(11.516667, abs=5e-7)
    assert columns["altitude"].tolist() == [545.4, 545.4]
    assert columns["ground_speed"][0] == pytest.approx(22.4 * 1852 / 3600)  # a knot is 1852 m an hour, exactly
    assert columns["course"][0] == 84.4
    assert str(raw.started_at) == "1994-03-23 12:35:19+00:00"
    assert raw.rows_dropped == 1
    assert "checksum 00" in raw.notes[0].detail


def _read(*parts: str) -> FlightLog:
    return read_log(DATA.joinpath(*parts).read_bytes())


class TestRealRecordings:
    """Nobody here made these files; the makers stand in their folders' licence notes."""

    def test_a_worn_recorder_is_understood_as_it_wrote(self) -> None:
        log = _read("worn_imu", "worn_imu_as_written.txt")
        by_hand = _read("worn_imu", "worn_imu_50hz.csv")  # the same, with roles and units set by hand
        assert log.main.t_s[-1] - log.main.t_s[0] == pytest.approx(952 / 50)
        for axis in ("roll", "pitch", "yaw"):
            gyro = log.main.find(f"gyro.{axis}").values()
            np.testing.assert_allclose(gyro, by_hand.main.find(f"gyro_raw.{axis}").values(), rtol=1e-9)
        for axis in "xyz":
            np.testing.assert_array_equal(log.main.find(f"accel.{axis}").values(), by_hand.main.find(f"accel.{axis}").values())

    def test_two_clocks_of_one_recorder_are_lined_up(self) -> None:
        logs = [_read("hand_imu", name) for name in ("inertial.csv", "second_accelerometer.csv")]
        rates_hz = [(log.main.n_samples - 1) / (log.main.t_s[-1] - log.main.t_s[0]) for log in logs]
        assert rates_hz == pytest.approx([49.9148, 47.8551], rel=1e-4)  # mean rates, worked out from the stamps
        found = align(uniform(logs[0].main), uniform(logs[1].main))
        assert found.correlation > 0.97  # 0.989 to 0.994 a channel, worked out beforehand with scipy on resampled data
        # the first stamps are 4.996 ms apart; scipy's correlation of resampled data had its best lag at 8 to 10 ms
        assert found.offset_s + 0.004996 == pytest.approx(0.009, abs=0.0015)
