"""Units as people write them in headers, and times of day in columns of text."""

from datetime import UTC, date, datetime, time, timedelta

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nembrit.core.formats.calendar import seconds_of
from nembrit.core.formats.registry import read_raw
from nembrit.core.records.units import kinds_of, split_header, unit_for, units_of

DEG = 180 / np.pi

# header | name | quantity | worth of one in the core's unit
HEADERS = f"""
rollRateDegPerSec | rollRate | rate | 1
RollRateDeciDegPerSec | RollRate | rate | 0.1
wx_milli_deg_per_s | wx | rate | 0.001
omega_x_rad_s | omega_x | rate | {DEG}
Drehrate Grad pro Sekunde | Drehrate | rate | 1
vitesse_degres_par_seconde | vitesse | rate | 1
giro_x_graus_por_segundo | giro_x | rate | 1
giro_x_graus_s | giro_x | rate | 1
velocita gradi al secondo | velocita | rate | 1
hoeksnelheid graden per seconde | hoeksnelheid | rate | 1
gyro x (deg/s) | gyro x | rate | 1
gyro.p [rad/s] | gyro.p | rate | {DEG}
PitchAngleCentiDeg | PitchAngle | angle | 0.01
bank_degrees | bank | angle | 1
heading radians | heading | angle | {DEG}
PackMillivolts | Pack | voltage | 0.001
pack_milli_volts | pack | voltage | 0.001
PackCentivolts | Pack | voltage | 0.01
busVolts | bus | voltage | 1
pack_milliamps | pack | current | 0.001
CurrentMilliAmperes | Current | current | 0.001
ibus_A | ibus | current | 1
AltitudeCentimetres | Altitude | length | 0.01
altitude_centi_meters | altitude | length | 0.01
HeightFeet | Height | length | 0.3048
hauteur metres | hauteur | length | 1
GroundSpeedCmPerSec | GroundSpeed | velocity | 0.01
speed_m_s | speed | velocity | 1
SpeedKmPerHour | Speed | velocity | {1 / 3.6}
SpeedKnots | Speed | velocity | {1852 / 3600}
Snelheid (km/u) | Snelheid | velocity | {1 / 3.6}
AccelXMetresPerSecondSquared | AccelX | acceleration | 1
accel_x_m_s2 | accel_x | acceleration | 1
AccelXCmPerSecPerSec | AccelX | acceleration | 0.01
rotor1_revs_per_second | rotor1 | speed | 60
Rotor1RevsPerMinute | Rotor1 | speed | 1
Drehzahl [1/min] | Drehzahl | speed | 1
ThrottlePercent | Throttle | share | 0.01
throttle_permille | throttle | share | 0.001
temp [°F] | temp | temperature | {5 / 9}
"""


@pytest.mark.parametrize("line", HEADERS.strip().splitlines())
def test_a_headers_unit_is_parted_and_known(line: str) -> None:
    header, name, quantity, worth = (part.strip() for part in line.split("|"))
    found, text = split_header(header)
    unit = unit_for(text, quantity)
    assert (found, unit is not None) == (name, True), text
    assert unit.factor == pytest.approx(float(worth))


@pytest.mark.parametrize(
    "header",
    [
        "roll", "gyro_x", "motor 1", "m", "s", "h", "rate_per_axis", "roll par", "per", "kilo", "micro", "deg", "x_s", "P[0]",
        "gyr[2]",
        "att.pitch", "stick al", "voltage", "Sekunde", "throttleMin", "rotation", "turns", "modeS", "linkQuality", "state_m",
    ],
)  # fmt: skip
def test_a_name_without_a_unit_keeps_all_its_words(header: str) -> None:
    assert split_header(header) == (header, "")


@pytest.mark.parametrize(
    "text", ["", "deg per", "per second", "m per s per min", "deg per s per s", "volts per s", "revs", "12", "parsecs"]
)
def test_what_is_no_unit_is_none(text: str) -> None:
    assert units_of(text) == ()
    assert not kinds_of(text)


@settings(max_examples=200)
@given(st.text(max_size=40))
def test_parting_a_header_never_fails_and_loses_nothing(header: str) -> None:
    name, unit = split_header(header)
    plain = " ".join(header.split())
    assert name in plain
    assert unit in plain or unit.replace("/", "_") in plain  # ``speed_m_s``
    assert units_of(unit) is not None


CLOCKS = [  # first cell, seconds after midnight, midnight
    ("0:00:01", 1.0, None),
    ("23:59:59.999", 86_399.999, None),
    ("7:05:09,25", 25_509.25, None),
    ("12:00:00 Z", 43_200.0, None),
    ("2026-11-14T09:05:03", 32_703.0, datetime(2026, 11, 14)),
    ("2026-11-14 09:05:03.123456", 32_703.123456, datetime(2026, 11, 14)),
    ("2026/11/14 9:05:03", 32_703.0, datetime(2026, 11, 14)),
    ("14.11.2026 9:05:03,5", 32_703.5, datetime(2026, 11, 14)),
    ("2026-11-14T09:05:03Z", 32_703.0, datetime(2026, 11, 14, tzinfo=UTC)),
    ("2026-11-14T09:05:03+02:00", 32_703.0, datetime(2026, 11, 13, 22, tzinfo=UTC)),
    ("2026-11-14T09:05:03-0330", 32_703.0, datetime(2026, 11, 14, 3, 30, tzinfo=UTC)),
]


@pytest.mark.parametrize(("cell", "seconds", "midnight"), CLOCKS)
def test_times_of_day_are_read(cell: str, seconds: float, midnight: datetime | None) -> None:
    found, began = seconds_of([cell, cell])
    assert found.tolist() == [seconds, seconds]
    assert began == midnight


@pytest.mark.parametrize(
    "cells",
    [
        [], [""], ["hover", "cruise"], ["a:b", "c:d"], ["1:2", "1:3"], ["12:30", "12:31"], ["00:01:02:03", "x"], ["2026-13-01"],
        ["ratio 3:00:01", "z"], ["10:75:00", "10:76:00"],
    ],
)  # fmt: skip
def test_other_words_are_no_times(cells: list[str]) -> None:
    assert seconds_of(cells) is None


@pytest.mark.parametrize("cell", ["2026-13-01 10:00:00", "2026-02-30T10:00:00Z", "31.04.2026 10:00:00"])
def test_days_that_are_not_in_the_calendar_have_no_time(cell: str) -> None:
    found, began = seconds_of([cell, "2026-03-01 10:00:01" if "-" in cell else "01.03.2026 10:00:01"])
    assert np.isnan(found[0])
    assert found[1] == 36_001.0
    assert began is None or (began.month, began.day) == (3, 1)


def test_a_cell_without_a_time_is_missing_and_midnight_is_passed() -> None:
    cells = ["23:59:58.5", "23:59:59.0", "", "0:00:00.0", *[f"0:00:{k:02d}.0" for k in range(1, 60)]]
    found, _ = seconds_of(cells)
    assert np.isnan(found[2])
    assert np.nanmin(np.diff(found[3:])) == 1.0
    assert found[3] == 86_400.0


@settings(max_examples=60)
@given(
    st.datetimes(datetime(2000, 1, 1), datetime(2060, 1, 1)),
    st.floats(0.001, 0.9),
    st.sampled_from(["%Y-%m-%dT%H:%M:%S.%f", "%d.%m.%Y %H:%M:%S,%f"]),
)
def test_any_moments_come_back(first: datetime, step_s: float, form: str) -> None:
    moments = [first + timedelta(seconds=k * step_s) for k in range(50)]
    found, midnight = seconds_of([moment.strftime(form) for moment in moments])
    assert midnight == datetime.combine(date(first.year, first.month, first.day), time())
    np.testing.assert_allclose(found, [(moment - midnight).total_seconds() for moment in moments], atol=1e-9)


@pytest.mark.parametrize("separator", [",", ";", "\t", "|"])
def test_a_clock_of_the_day_is_the_files_clock(separator: str) -> None:
    rows = [separator.join((f"10:00:{k // 20:02d}.{5 * (k % 20):02d}", f"{k % 7}", f"{16 - k / 900:.2f}")) for k in range(400)]
    raw = read_raw(("\n".join([separator.join(("at", "thr", "pack (V)")), *rows]) + "\n").encode())
    clock = raw.tables[0].columns[0]
    assert (clock.name, clock.unit, clock.labels) == ("at", "s", None)
    np.testing.assert_allclose(np.diff(clock.numbers()), 0.05, atol=1e-9)
