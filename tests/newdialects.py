"""Dialects that were invented after the recogniser was changed for issue after issue: twelve of multirotors, six of planes.

A line is: header | role ("" for none) | worth of one unit | decimals; `@` gives what a pulse counts from. Written before they
were tried; `docs/formats.md` tells how they were read at first sight.
"""

from dataclasses import dataclass
from functools import cache

import numpy as np

from nembrit.core.setup.cards import WING_CARDS
from nembrit.core.simulate.plane.airframe import PlaneWorld
from nembrit.core.simulate.plane.flight import PlaneFlight, fly_plane
from nembrit.core.types import AXES, FloatArray
from tests.core.wing.planes import SURFACES
from tests.dialects import cells
from tests.flying import flown

_WORTH = {"rad": 57.29577951308232, "g": 9.80665, "rad/s": 9.549296585513721}
_MODES = {"manual": 3, "hold": 7, "track": 9, "return": 21, "circle": 22, "level": 5, "stabilised": 4, "stab": 4}
_CENTRES = {1: 1512.0, 2: 1487.0, 3: 1510.0, 4: 1494.0}


@dataclass(frozen=True, kw_only=True)
class NewDialect:
    rows: str
    separator: str = ","
    comma: bool = False
    head: str = ""
    units: bool = False  # in a second row
    quote: str = ""
    is_plane: bool = False
    axes: str = "x y z"

    def written(self) -> tuple[bytes, dict[str, str]]:
        """The file, and the role of every header as written (units in brackets and quotes are the reader's to take off)."""
        headers, units, columns, roles = [], [], [], {}
        for line in self.rows.strip().splitlines():
            header, role, worth, decimals, *unit = (part.strip() for part in line.split("|"))
            for part, name in _parts(header, role, self.axes, is_plane=self.is_plane):
                full = role.replace("*", part)
                numbers = _plane(full) if self.is_plane else _multirotor(full)
                factor, _, zero = worth.partition("@")
                own = _CENTRES.get(int(part)) if zero == "centre" else None
                start = own if own is not None else float(zero or 0)
                one = _WORTH.get(factor) or float(factor)
                # a servo in shares counts from its centre, a pulse from its zero
                written = (numbers - start) / one if own is not None else numbers / one + start
                texts = cells(np.nan_to_num(written), f"%.{int(decimals)}f")
                texts = ["" if missing else text for text, missing in zip(texts, ~np.isfinite(written), strict=True)]
                headers.append(self.quote + name + self.quote)
                units.append((unit or [""])[0])
                columns.append([text.replace(".", ",") for text in texts] if self.comma else texts)
                roles[name] = full
        lines = [self.separator.join(headers)] + ([self.separator.join(units)] if self.units else [])
        lines += [self.separator.join(row) for row in zip(*columns, strict=True)]
        return (self.head + "\n".join(lines) + "\n").encode(), roles


def _parts(header: str, role: str, axes: str, *, is_plane: bool) -> list[tuple[str, str]]:
    if "{a}" in header:
        parts = ("x", "y", "z") if role.startswith("accel") else AXES
        return [(part, header.replace("{a}", word)) for part, word in zip(parts, axes.split(), strict=True)]
    if "{m}" in header:
        return [(str(m), header.replace("{m}", str(m))) for m in range(1, 5 if is_plane else 7)]
    if "{n}" in header:
        return [(str(m), header.replace("{n}", str(m - 1))) for m in range(1, 5 if is_plane else 7)]
    return [("", header)]


def _multirotor(role: str) -> FloatArray:
    flight = flown(5)
    if role == "time":
        return flight.t_s[::4] - flight.t_s[0]
    if role == "":
        return np.random.default_rng(1).normal(0, 3, flight.t_s[::4].size).cumsum()
    return flight.channels[role][::4]


@cache
def _planes() -> PlaneFlight:
    card = next(card for card in WING_CARDS if card.key == "wing_return")
    return fly_plane(SURFACES, card, PlaneWorld(seed=8, wind_m_s=3.0))


def _plane(role: str) -> FloatArray:
    flight = _planes()
    if role == "time":
        return np.asarray(flight.t_s)
    if role == "mode":
        return np.array([float(_MODES.get(word, 30)) for word in flight.modes])
    if role == "":
        return np.random.default_rng(2).normal(0, 3, len(flight.modes)).cumsum()
    return np.asarray(flight.channels["course" if role == "attitude.yaw" else role], dtype=np.float64)


MULTIROTORS = {
    "quoted blanks": NewDialect(separator=", ", quote='"', rows="""
        stamp (us) | time | 1e-6 | 0
        lever[0] (us) | stick.roll | 0.002@1500 | 0
        body rate {a} (cdeg/s) | gyro.* | 0.01 | 0
        body rate unfiltered {a} (cdeg/s) | gyro_raw.* | 0.01 | 0
        rate demand {a} (cdeg/s) | setpoint.* | 0.01 | 0
        mot[{n}] (%) | motor.* | 0.01 | 2
        pack (cV) | battery_voltage | 0.01 | 0
        drain (cA) | battery_current | 0.01 | 0"""),
    "second row": NewDialect(separator=";", comma=True, units=True, axes="roll pitch yaw", rows="""
        t | time | 1e-3 | 1 | ms
        omega {a} | gyro.* | rad | 4 | rad/s
        omega raw {a} | gyro_raw.* | rad | 4 | rad/s
        omega wanted {a} | setpoint.* | rad | 4 | rad/s
        thr | throttle | 0.01 | 1 | %
        esc {m} | motor.* | 0.001 | 0 | ‰
        esc {m} speed | motor_rpm.* | 60 | 1 | Hz
        U | battery_voltage | 1 | 2 | V"""),
    "flight mechanics": NewDialect(separator="\t", axes="p q r", rows="""
        time_ms | time | 1e-3 | 1
        {a}_gyro_dps | gyro.* | 1 | 2
        {a}_gyro_raw_dps | gyro_raw.* | 1 | 2
        {a}_cmd_dps | setpoint.* | 1 | 1
        {a}_prop | term_p.* | 0.001 | 1
        {a}_integ | term_i.* | 0.001 | 1
        {a}_deriv | term_d.* | 0.001 | 1
        collective_pct | throttle | 0.01 | 1
        rotor{m}_pct | motor.* | 0.01 | 2"""),
    "scaled integers": NewDialect(head="# gyro lsb: 16.4\n# rate lsb: 16.4\n", rows="""
        us | time | 1e-6 | 0
        gyroFilt[{a}] | gyro.* | 0.06097560975609756 | 0
        gyroRaw[{a}] | gyro_raw.* | 0.06097560975609756 | 0
        rateTarget[{a}] | setpoint.* | 1 | 0
        m{m}_pm | motor.* | 0.001 | 0
        accRaw[{a}] | accel.* | 0.0047884033203125 | 0
        bat_mV | battery_voltage | 0.001 | 0""", axes="0 1 2"),
    "german units": NewDialect(separator=";", comma=True, axes="Roll Nick Gier", rows="""
        Zeit [s] | time | 1 | 4
        Drehrate {a} roh [°/s] | gyro_raw.* | 1 | 2
        Drehrate {a} [°/s] | gyro.* | 1 | 2
        Soll {a} [°/s] | setpoint.* | 1 | 1
        Gas [‰] | throttle | 0.001 | 0
        Motor {m} [‰] | motor.* | 0.001 | 0
        Strom [dA] | battery_current | 0.1 | 0"""),
    "french": NewDialect(separator=";", comma=True, axes="roulis tangage lacet", rows="""
        temps (ms) | time | 1e-3 | 1
        gyro brut {a} (deg/s) | gyro_raw.* | 1 | 2
        gyro filtre {a} (deg/s) | gyro.* | 1 | 2
        consigne {a} (deg/s) | setpoint.* | 1 | 1
        gaz (%) | throttle | 0.01 | 1
        moteur {m} (%) | motor.* | 0.01 | 2
        tension (V) | battery_voltage | 1 | 2"""),
    "dotted paths": NewDialect(separator=",", axes="x y z", rows="""
        loop.time_us | time | 1e-6 | 0
        imu.gyro.raw.{a} [mdeg/s] | gyro_raw.* | 0.001 | 0
        imu.gyro.lpf.{a} [mdeg/s] | gyro.* | 0.001 | 0
        ctl.rate.sp.{a} [mdeg/s] | setpoint.* | 0.001 | 0
        ctl.out.{a} [1] | command.* | 1 | 4
        out.motor.{n} [1] | motor.* | 1 | 4
        imu.acc.{a} [mg] | accel.* | 0.00980665 | 0
        sys.load | | 1 | 1"""),
    "revolutions": NewDialect(separator=" ", axes="r p y", rows="""
        secs | time | 1 | 5
        g{a}_dps | gyro.* | 1 | 2
        gu{a}_dps | gyro_raw.* | 1 | 2
        sp{a}_dps | setpoint.* | 1 | 1
        thr_0_1 | throttle | 1 | 3
        o{m} | motor.* | 1 | 4
        n{m}_rpm | motor_rpm.* | 1 | 0"""),
    "camel": NewDialect(axes="Roll Pitch Yaw", rows="""
        TimeMicros | time | 1e-6 | 0
        Gyro{a}DegPerSec | gyro.* | 1 | 2
        GyroUnfiltered{a}DegPerSec | gyro_raw.* | 1 | 2
        Target{a}DegPerSec | setpoint.* | 1 | 1
        Throttle | throttle | 1e-3@1000 | 0
        Motor{m} | motor.* | 1e-3@1000 | 0
        PackVolts | battery_voltage | 1 | 2"""),
    "sticks": NewDialect(rows="""
        time (ms) | time | 1e-3 | 1
        rcIn[0] | stick.roll | 0.002@1500 | 0
        rcIn[1] | stick.pitch | 0.002@1500 | 0
        rcIn[2] | stick.yaw | 0.002@1500 | 0
        rcIn[3] | throttle | 1e-3@1000 | 0
        spin[{a}] (dps) | gyro.* | 1 | 2
        goal[{a}] (dps) | setpoint.* | 1 | 1
        drive[{n}] (us) | motor.* | 1e-3@1000 | 0""", axes="0 1 2"),
    "spanish": NewDialect(separator="|", axes="alabeo cabeceo guinada", rows="""
        tiempo (s) | time | 1 | 4
        giro {a} (°/s) | gyro.* | 1 | 2
        giro bruto {a} (°/s) | gyro_raw.* | 1 | 2
        consigna {a} (°/s) | setpoint.* | 1 | 1
        acelerador (%) | throttle | 0.01 | 1
        motor {m} (%) | motor.* | 0.01 | 2""".replace(" | ", "|").replace("|", " | ")),
    "terms": NewDialect(axes="roll pitch yaw", rows="""
        t_us | time | 1e-6 | 0
        gyro_{a} | gyro.* | 1 | 2
        gyro_{a}_raw | gyro_raw.* | 1 | 2
        sp_{a} | setpoint.* | 1 | 1
        pid_p_{a} | term_p.* | 0.0005 | 0
        pid_i_{a} | term_i.* | 0.0005 | 0
        pid_d_{a} | term_d.* | 0.0005 | 0
        pid_f_{a} | term_f.* | 0.0005 | 0
        out_{m} | motor.* | 0.0005 | 0
        thr | throttle | 0.001 | 0"""),
}  # fmt: skip

PLANES = {
    "per mille around a centre": NewDialect(is_plane=True, separator=";", head=(
        "# angles: 0.1 deg, rates: deg/s, heights: cm, servo: per mille of throw around its centre\n"
        "# modes: 3=manual 4=stabilised 5=level 9=track 21=return 22=circle 30=other\n"
        "# servo_centre_us: s1=1512 s2=1487 s3=1510 s4=1494\n# throw_us: 400\n"), axes="r p y", rows="""
        ms | time | 1e-3 | 0
        m | mode | 1 | 0
        att_{a} | attitude.* | 0.1 | 0
        g{a} | gyro.* | 1 | 1
        srv_s{m} | servo.* | 0.4@centre | 0
        pitot_cms | airspeed | 0.01 | 0
        bar_cm | altitude | 0.01 | 0
        lat_e7 | latitude | 1e-7 | 0
        lon_e7 | longitude | 1e-7 | 0
        gps_spd_cms | ground_speed | 0.01 | 0
        gps_crs_d10 | course | 0.1 | 0
        mv | battery_voltage | 0.001 | 0"""),
    "pulses and metres": NewDialect(is_plane=True, axes="roll pitch yaw", rows="""
        t_s | time | 1 | 3
        mode | mode | 1 | 0
        bank_deg | attitude.roll | 1 | 2
        nose_deg | attitude.pitch | 1 | 2
        p_dps | gyro.roll | 1 | 1
        q_dps | gyro.pitch | 1 | 1
        r_dps | gyro.yaw | 1 | 1
        us_{m} | servo.* | 1 | 0
        baro_m | altitude | 1 | 2
        lat | latitude | 1 | 7
        lon | longitude | 1 | 7
        ground_ms | ground_speed | 1 | 2
        course_deg | course | 1 | 1
        pack_v | battery_voltage | 1 | 2"""),
    "knots and feet": NewDialect(is_plane=True, separator="\t", axes="roll pitch yaw", rows="""
        time [ms] | time | 1e-3 | 0
        flight mode | mode | 1 | 0
        {a} angle [deg] | attitude.* | 1 | 1
        {a} rate [deg/s] | gyro.* | 1 | 1
        servo {m} [us] | servo.* | 1 | 0
        airspeed [kn] | airspeed | 0.5144444444444445 | 1
        altitude [ft] | altitude | 0.3048 | 0
        latitude [deg] | latitude | 1 | 7
        longitude [deg] | longitude | 1 | 7
        ground speed [kn] | ground_speed | 0.5144444444444445 | 1
        course [deg] | course | 1 | 0"""),
    "german plane": NewDialect(is_plane=True, separator=";", comma=True, axes="Quer Hoch Seit", rows="""
        Zeit (s) | time | 1 | 2
        Modus | mode | 1 | 0
        Querneigung (deg) | attitude.roll | 1 | 1
        Längsneigung (deg) | attitude.pitch | 1 | 1
        Servo {m} (µs) | servo.* | 1 | 0
        Fahrt (km/h) | airspeed | 0.2777777777777778 | 1
        Höhe (m) | altitude | 1 | 1
        Breite | latitude | 1 | 7
        Länge | longitude | 1 | 7
        Kurs (deg) | course | 1 | 0
        Geschwindigkeit über Grund (km/h) | ground_speed | 0.2777777777777778 | 1"""),
    "per cent of a throw": NewDialect(is_plane=True, axes="x y z", rows="""
        ms | time | 1e-3 | 0
        fm | mode | 1 | 0
        gyr_{a} (mdeg/s) | gyro.* | 0.001 | 0
        att_{a} (cdeg) | attitude.* | 0.01 | 0
        out_{m} (%) | servo.* | 4@centre | 1
        alt (dm) | altitude | 0.1 | 0
        spd (dm/s) | ground_speed | 0.1 | 0
        cog (0.1 deg) | course | 0.1 | 0
        lat (1e-7deg) | latitude | 1e-7 | 0
        lon (1e-7deg) | longitude | 1e-7 | 0"""),
    "quoted plane": NewDialect(is_plane=True, separator=", ", quote='"', axes="roll pitch yaw", rows="""
        clock (ms) | time | 1e-3 | 0
        status | mode | 1 | 0
        attitude {a} (rad) | attitude.* | rad | 4
        body rate {a} (rad/s) | gyro.* | rad | 4
        surface {m} (us) | servo.* | 1 | 0
        pitot (m/s) | airspeed | 1 | 2
        height (m) | altitude | 1 | 1
        speed over ground (m/s) | ground_speed | 1 | 2
        track (deg) | course | 1 | 1"""),
}  # fmt: skip
