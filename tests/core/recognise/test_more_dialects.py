"""Invented dialects, each written before the recogniser was changed for it, that must come in whole since.

How many corrections each round needed at first sight stands in `docs/formats.md`.
"""

from collections.abc import Callable
from datetime import UTC, datetime

import numpy as np
import pytest

from nembrit.core.formats.registry import read_raw
from nembrit.core.recognise.fellows import fellow_roles
from nembrit.core.recognise.propose import propose
from nembrit.core.records.interpret import interpret
from nembrit.core.types import AXES
from tests import dialects_forms, dialects_words
from tests.dialects import MOTORS, N_ROWS, Made, Row, make
from tests.dialects_tables import TABLES
from tests.flying import flown


def danish() -> Made:
    """Danish words that no list knows, semicolons, decimal commas."""
    c, t_s = flown(5).channels, flown(5).t_s
    t: list[Row] = [("Tid (s)", "time", t_s, "%.4f")]
    for nm, a in zip(("krængning", "hældning", "drejning"), AXES, strict=True):
        t += [
            (f"Vinkelhastighed {nm} (°/s)", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"Ønsket {nm} (°/s)", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
            (f"Vinkelhastighed {nm}, ufiltreret (°/s)", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.2f"),
        ]
    t += [("Gas (%)", "throttle", 100 * c["throttle"], "%.1f")] + [
        (f"Motor {k} (%)", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS
    ]
    t += [("Batterispænding (V)", "battery_voltage", c["battery_voltage"], "%.2f")]
    return make(t, ";", "Fly: Viben\nDato: 3. maj\n", comma=True)


def counts() -> Made:
    """Bracketed indices, raw counts, motors between two stated ends."""
    c, t_s = flown(5).channels, flown(5).t_s
    t: list[Row] = [("tick", "", np.arange(t_s.size) * 1.0, "%.0f"), ("tUs", "time", np.rint(t_s * 1e6 + 5e8), "%.0f")]
    s = 32768 / 2000
    for k, a in enumerate(AXES):
        t += [
            (f"g[{k}]", f"gyro_raw.{a}", c[f"gyro_raw.{a}"] * s, "%.0f"),
            (f"gFilt[{k}]", f"gyro.{a}", c[f"gyro.{a}"] * s, "%.0f"),
            (f"target[{k}]", f"setpoint.{a}", c[f"setpoint.{a}"], "%.0f"),
            (f"pTerm[{k}]", f"term_p.{a}", c[f"term_p.{a}"] * 1000, "%.0f"),
            (f"iTerm[{k}]", f"term_i.{a}", c[f"term_i.{a}"] * 1000, "%.0f"),
        ]
    t += [(f"m[{k - 1}]", f"motor.{k}", 2000 * c[f"motor.{k}"] + 48, "%.0f") for k in MOTORS] + [
        ("thrCmd", "throttle", 1000 + 1000 * c["throttle"], "%.0f")
    ]
    return make(t, ",", "# board: hand made\n# gyro_full_scale: 2000 dps = 32768\n# motor_min: 48\n# motor_max: 2048\n")


def underscored() -> Made:
    """Units glued on with underscores, motors called u."""
    c, t_s = flown(5).channels, flown(5).t_s
    t: list[Row] = [("stamp_us", "time", t_s * 1e6, "%.0f")]
    for x, a in zip("xyz", AXES, strict=True):
        t += [
            (f"ang_vel_{x}_rad_s", f"gyro_raw.{a}", np.radians(c[f"gyro_raw.{a}"]), "%.5f"),
            (f"ang_vel_filt_{x}_rad_s", f"gyro.{a}", np.radians(c[f"gyro.{a}"]), "%.5f"),
            (f"cmd_ang_vel_{x}_rad_s", f"setpoint.{a}", np.radians(c[f"setpoint.{a}"]), "%.5f"),
            (f"lin_acc_{x}_m_s2", f"accel.{x}", c[f"accel.{x}"], "%.3f"),
        ]
    t += [(f"u_{k}", f"motor.{k}", c[f"motor.{k}"], "%.4f") for k in MOTORS] + [
        ("thrust_cmd", "throttle", c["throttle"], "%.4f"),
        ("vbus_V", "battery_voltage", c["battery_voltage"], "%.2f"),
        ("ibus_A", "battery_current", c["battery_current"], "%.1f"),
    ]
    return make(t, ",")


def blanks() -> Made:
    """Blanks between columns, no units."""
    c, t_s = flown(5).channels, flown(5).t_s
    t: list[Row] = [("elapsed", "time", t_s, "%9.4f")]
    for a in AXES:
        t += [
            (f"{a}_rate", f"gyro.{a}", c[f"gyro.{a}"], "%8.2f"),
            (f"{a}_rate_sp", f"setpoint.{a}", c[f"setpoint.{a}"], "%8.2f"),
            (f"{a}_stick", f"stick.{a}", c[f"stick.{a}"], "%7.3f"),
        ]
    t += (
        [("thr", "throttle", c["throttle"], "%6.3f")]
        + [(f"esc{k}", f"motor.{k}", c[f"motor.{k}"], "%6.3f") for k in MOTORS]
        + [(f"rpm{k}", f"motor_rpm.{k}", c[f"motor_rpm.{k}"], "%7.0f") for k in MOTORS]
    )
    return make(t, "  ", "% exported by a script\n")


def italian() -> Made:
    """UTF-16, tabs, decimal commas, a preamble with quotes."""
    c, t_s = flown(5).channels, flown(5).t_s
    t: list[Row] = [("Tempo [ms]", "time", t_s * 1000, "%.1f")]
    for nm, a in zip(("rollio", "beccheggio", "imbardata"), AXES, strict=True):
        t += [
            (f"Giroscopio {nm} [gradi/s]", f"gyro.{a}", c[f"gyro.{a}"], "%.1f"),
            (f"Giroscopio grezzo {nm} [gradi/s]", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.1f"),
            (f"Comando {nm} [gradi/s]", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += (
        [("Gas [%]", "throttle", 100 * c["throttle"], "%.1f")]
        + [(f"Motore {k} [%]", f"motor.{k}", 100 * c[f"motor.{k}"], "%.1f") for k in MOTORS]
        + [
            ("Tensione [mV]", "battery_voltage", 1000 * c["battery_voltage"], "%.0f"),
            ("Corrente [mA]", "battery_current", 1000 * c["battery_current"], "%.0f"),
        ]
    )
    return make(t, "\t", 'Aereo: Nibbio\nNota: "vento, poco"\n', comma=True, enc="utf-16")


def glued() -> Made:
    """Axis letters and words glued together, pulses."""
    c, t_s = flown(5).channels, flown(5).t_s
    t: list[Row] = [("Time", "time", t_s, "%.4f")]
    for x, a in zip("XYZ", AXES, strict=True):
        t += [
            (f"GyroRaw{x}", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.2f"),
            (f"Gyro{x}", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"Desired{x}", f"setpoint.{a}", c[f"setpoint.{a}"], "%.2f"),
            (f"Accel{x}", f"accel.{x.lower()}", c[f"accel.{x.lower()}"] / 9.80665, "%.3f"),
        ]
    t += (
        [("ThrottleIn", "throttle", 1000 + 1000 * c["throttle"], "%.0f")]
        + [(f"Out{k}", f"motor.{k}", 1000 + 1000 * c[f"motor.{k}"], "%.1f") for k in MOTORS]
        + [
            ("BattVolts", "battery_voltage", c["battery_voltage"], "%.2f"),
            ("BattAmps", "battery_current", c["battery_current"], "%.1f"),
        ]
    )
    return make(t, ",")


DIALECTS = [danish, counts, underscored, blanks, italian, glued, *dialects_words.DIALECTS, *dialects_forms.DIALECTS]
# what one correction must still say: names too terse, or ends of a pulse that no file states
LEFT = {"arrays": {"throttle"}}


@pytest.mark.long(
    "its other cases ask the same",
    only=(
        "blanks",
        "polish",
    ),
)
@pytest.mark.parametrize("dialect", DIALECTS)
def test_a_dialect_unknown_to_the_recogniser_comes_in_whole(dialect: Callable[[], Made]) -> None:
    content, roles = dialect()
    raw = read_raw(content)
    log, flight = interpret(raw, propose(raw)).main, flown(5)
    np.testing.assert_allclose(log.t_s - log.t_s[0], flight.t_s[:N_ROWS] - flight.t_s[0], atol=1e-6)
    assert {channel.role for channel in log.channels if channel.role} == roles - {"time"}
    for role in roles - {"time"} - LEFT.get(dialect.__name__, set()):
        size = np.abs(flight.channels[role]).max()
        np.testing.assert_allclose(
            log.find(role).values(), flight.channels[role][:N_ROWS], atol=0.011 * size + 1e-6, err_msg=role
        )


TERSE = ("us", "g_r", "g_p", "g_y", "gr_r", "gr_p", "gr_y", "m_1", "m_2", "m_3", "kanal A0", "kanal A1", "v")


@pytest.mark.parametrize(
    ("column", "role", "fellows"),
    [
        ("gr_p", "gyro_raw.pitch", {"gr_r": "gyro_raw.roll", "gr_y": "gyro_raw.yaw"}),
        ("g_r", "accel.x", {"g_p": "accel.y", "g_y": "accel.z"}),
        ("g_y", "gain.yaw.d", {"g_r": "gain.roll.d", "g_p": "gain.pitch.d"}),
        ("m_2", "motor.2", {"m_1": "motor.1", "m_3": "motor.3"}),
        ("m_2", "servo.1", {}),  # m_1 would be servo 0
        ("kanal A1", "motor.2", {"kanal A0": "motor.1"}),
        ("g_r", "gyro.pitch", {}),  # against the letters and against the order: not for us to guess
        ("v", "battery_voltage", {}),
        ("us", "throttle", {}),
    ],
)
def test_one_correction_takes_its_fellows_along(column: str, role: str, fellows: dict[str, str]) -> None:
    found = fellow_roles(TERSE, ("",) * len(TERSE), TERSE.index(column), role)
    assert {TERSE[k]: follows for k, follows in found.items()} == fellows


@pytest.mark.long("its other cases ask the same", only=("polish",))
@pytest.mark.parametrize("name", TABLES)
def test_a_dialect_told_as_a_table_comes_in_whole(name: str) -> None:
    content, columns = TABLES[name].written()
    raw = read_raw(content)
    log = interpret(raw, propose(raw)).main
    assert {channel.role for channel in log.channels if channel.role} == {column.role for column in columns} - {"time"}
    for column in columns:
        found = log.t_s - log.t_s[0] if column.role == "time" else log.find(column.role).values()
        spread = np.abs(column.numbers).max()
        np.testing.assert_allclose(found, column.numbers, atol=0.011 * spread + 1e-6, err_msg=column.header)


AEROPLANE_CLOCKS = {  # how ten rows a second of a model aeroplane's log tell the time
    "when": "2026-09-05T15:12:{:06.3f}",
    "Tijd": "0:00:{:05.2f}",
    "UTC": "2026-08-01 09:30:{:06.3f}",
    "Uhrzeit": "05.09.2026 15:12:{:06.3f}",
}


@pytest.mark.parametrize("clock", AEROPLANE_CLOCKS)
def test_an_aeroplanes_log_with_times_of_day(clock: str) -> None:
    t_s = np.arange(0, 59, 0.1)
    columns = {
        "lat": 47.31 + 1e-3 * np.sin(t_s / 9), "lon": 8.51 + 1e-3 * np.cos(t_s / 9), "height (ft)": 130 + 40 * np.sin(t_s / 5),
        "speed over ground (kt)": 27 + 5 * np.sin(t_s), "track (deg)": (60 * t_s) % 360, "bank (deg)": 28 + 9 * np.sin(t_s / 2),
        "aileron (us)": 1500 + 160 * np.sin(t_s), "elevator (us)": 1520 + 110 * np.sin(t_s / 3),
        "throttle (%)": 50 + 20 * np.sin(t_s),
        "pack (V)": 12.4 - 0.006 * t_s, "vario (m/s)": np.cos(t_s / 5),
    }  # fmt: skip
    rows = ["|".join([clock, *columns])]
    rows += [
        "|".join([AEROPLANE_CLOCKS[clock].format(t_s[k]), *(f"{v[k]:.6f}" for v in columns.values())]) for k in range(t_s.size)
    ]
    raw = read_raw("\n".join(rows).encode())
    log = interpret(raw, propose(raw)).main
    np.testing.assert_allclose(log.t_s, t_s, atol=1e-6)
    roles = [
        "latitude", "longitude", "altitude", "ground_speed", "course", "attitude.roll", "servo.1", "servo.2", "throttle",
        "battery_voltage", None,
    ]  # fmt: skip
    assert [channel.role for channel in log.channels] == roles
    told = {"when": datetime(2026, 9, 5, 15, 12), "UTC": datetime(2026, 8, 1, 9, 30), "Uhrzeit": datetime(2026, 9, 5, 15, 12)}
    assert raw.started_at == told.get(clock)  # as the clock shows it: no zone is stated


def test_a_dated_clock_with_its_zone_tells_when_the_log_began() -> None:
    rows = [f"2026-09-05T00:30:{s:02d}+02:00,{s % 7}.5" for s in range(40)]
    raw = read_raw(("stamp,gyro.roll [deg/s]\n" + "\n".join(rows) + "\n").encode())
    assert raw.started_at == datetime(2026, 9, 4, 22, 30, tzinfo=UTC)
