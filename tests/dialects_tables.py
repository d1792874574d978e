"""Further invented dialects as short tables: header | role | worth of one unit | decimals | unit row.

`{a}` runs over the dialect's words for the axes and `{m}` over motors from 1, `{n}` from 0; `*` in a role is
the part that goes with it. What a pulse or a clock counts from is added after the worth of one unit.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from nembrit.core.types import AXES, FloatArray
from tests.dialects import cells
from tests.flying import flown

EVERY = 4  # of the rows of a flight at 2 kHz
_DEG = 57.29577951308232


@dataclass(frozen=True, slots=True, kw_only=True)
class Column:
    header: str
    role: str
    numbers: FloatArray  # in the unit of the role
    texts: list[str]
    unit: str


@dataclass(frozen=True, slots=True, kw_only=True)
class TableDialect:
    """How one converter writes; `rows` as the module tells."""

    rows: str
    axes: str = "x y z"
    separator: str = ","
    comma: bool = False
    head: str = ""
    has_unit_row: bool = False
    quote: str = ""
    newline: str = "\n"
    encoding: str = "utf-8"

    def columns(self) -> Iterator[Column]:
        for line in self.rows.strip().splitlines():
            header, role, worth, decimals, *unit = (part.strip() for part in line.split("|"))
            for part, at, value in self._parts(header, role):
                full_role = role.replace("*", value)
                numbers = _numbers(full_role)
                factor, _, zero = worth.partition("@")
                written = numbers / _worth(factor) + float(zero or 0)
                texts = cells(written, f"%.{int(decimals)}f")
                yield Column(
                    header=header.replace(part, at), role=full_role, numbers=numbers, unit=(unit or [""])[0],
                    texts=[text.replace(".", ",") for text in texts] if self.comma else texts,
                )  # fmt: skip

    def _parts(self, header: str, role: str) -> list[tuple[str, str, str]]:
        parts = ("x", "y", "z") if role.startswith("accel") else AXES
        motors = range(1, 7)
        if "{a}" in header:
            return [("{a}", word, part) for word, part in zip(self.axes.split(), parts, strict=True)]
        if "{x}" in header:
            return [("{x}", letter, part) for letter, part in zip("xyz", parts, strict=True)]
        if "{m}" in header or "{n}" in header:
            return [("{m}", str(m), str(m)) if "{m}" in header else ("{n}", str(m - 1), str(m)) for m in motors]
        return [("{}", "", "")]

    def written(self) -> tuple[bytes, list[Column]]:
        """The file and what stands in it."""
        columns = list(self.columns())
        lines = [self.separator.join(self.quote + column.header + self.quote for column in columns)]
        lines += [self.separator.join(column.unit for column in columns)] if self.has_unit_row else []
        lines += [self.separator.join(cells) for cells in zip(*(column.texts for column in columns), strict=True)]
        return (self.head + self.newline.join(lines) + self.newline).encode(self.encoding), columns


def _worth(text: str) -> float:
    return {"rad": _DEG, "g": 9.80665, "rad/s": 60 / (2 * np.pi)}.get(text) or float(text)


def _numbers(role: str) -> FloatArray:
    flight = flown(5)
    if role == "time":
        return flight.t_s[::EVERY] - flight.t_s[0]
    if role.startswith("attitude"):
        return np.cumsum(flight.channels[f"gyro.{role.split('.')[1]}"])[::EVERY] / 2000
    if role in ("gyro_temperature", "none"):
        return np.linspace(31.0, 36.0, flight.t_s[::EVERY].size)
    return flight.channels[role][::EVERY]


# two made while the recogniser was changed for them, then six and six that were not tried before (see docs/formats.md)
TABLES = {
    "german_shares": TableDialect(
        axes="Rollen Nicken Gieren", separator=";", comma=True, head="Flugschreiber 3;Aufnahme 14.11.2026\n", encoding="latin-1",
        rows="""
        Zeit [ms] | time | 1e-3 | 1
        Drehrate {a} ungefiltert [°/s] | gyro_raw.* | 1 | 2
        Drehrate {a} [°/s] | gyro.* | 1 | 2
        Sollwert {a} [°/s] | setpoint.* | 1 | 1
        Knüppel {a} [%] | stick.* | 0.01 | 1
        Gas [%] | throttle | 0.01 | 1
        P-Anteil {a} [%] | term_p.* | 0.01 | 2
        I-Anteil {a} [%] | term_i.* | 0.01 | 2
        D-Anteil {a} [%] | term_d.* | 0.01 | 2
        Summe {a} [%] | command.* | 0.01 | 2
        Motor {m} Ansteuerung [%] | motor.* | 0.01 | 2
        Motor {m} Drehzahl [1/min] | motor_rpm.* | 1 | 0
        Akkuspannung [V] | battery_voltage | 1 | 2""",
    ),
    "units_in_words": TableDialect(
        axes="Roll Pitch Yaw", encoding="utf-16", newline="\r\n",
        rows="""
        ElapsedMicros | time | 1e-6 | 0
        {a}RateRawDeciDegPerSec | gyro_raw.* | 0.1 | 0
        {a}RateDeciDegPerSec | gyro.* | 0.1 | 0
        {a}RateDemandDeciDegPerSec | setpoint.* | 0.1 | 0
        {a}StickMicros | stick.* | 0.002@1500 | 0
        ThrottlePermille | throttle | 1e-3 | 0
        Output{m}Permille | motor.* | 1e-3 | 0
        Rotor{m}Rpm | motor_rpm.* | 1 | 0
        PackMillivolts | battery_voltage | 1e-3 | 0
        PackMilliamps | battery_current | 1e-3 | 0""",
    ),
    "letters": TableDialect(
        axes="p q r", separator="  ", has_unit_row=True, head="# rig flight 9\n",
        rows="""
        t | time | 1@12.5 | 4 | s
        {a}_unfilt | gyro_raw.* | rad | 5 | rad/s
        {a}_meas | gyro.* | rad | 5 | rad/s
        {a}_ref | setpoint.* | rad | 5 | rad/s
        a{x} | accel.* | g | 4 | g
        thr | throttle | 1 | 3 | -
        u{m} | motor.* | 1 | 4 | -
        n{m} | motor_rpm.* | 60 | 1 | Hz
        T_imu | gyro_temperature | 1 | 2 | degC""",
    ),
    "portuguese": TableDialect(
        axes="rolagem arfagem guinada", separator="\t", quote='"',
        rows="""
        tempo_s | time | 1 | 4
        giro_bruto_{a}_graus_s | gyro_raw.* | 1 | 2
        giro_filtrado_{a}_graus_s | gyro.* | 1 | 2
        alvo_{a}_graus_s | setpoint.* | 1 | 1
        comando_{a} | command.* | 1 | 4
        acelerador | throttle | 1 | 3
        motor_{m}_pct | motor.* | 0.01 | 2
        rotacao_{m}_rpm | motor_rpm.* | 1 | 0
        aceleracao_{x}_m_s2 | accel.* | 1 | 2
        tensao_bateria_mV | battery_voltage | 1e-3 | 0""",
    ),
    "bracketed": TableDialect(
        axes="0 1 2", head="board: workshop four\nomega_lsb_per_dps: 32.8\nacc_lsb_per_g: 2048\nlooptime_us: 500\n",
        rows="""
        t_us | time | 1e-6@81234567 | 0
        omegaUnf[{a}] | gyro_raw.* | 0.030487804878 | 0
        omega[{a}] | gyro.* | 0.030487804878 | 0
        goal[{a}] | setpoint.* | 1 | 0
        ctlP[{a}] | term_p.* | 1e-3 | 0
        ctlI[{a}] | term_i.* | 1e-3 | 0
        ctlD[{a}] | term_d.* | 1e-3 | 0
        throttle_permille | throttle | 1e-3 | 0
        esc[{n}] | motor.* | 1e-3 | 0
        spin[{n}] | motor_rpm.* | 60 | 0
        acc[{a}] | accel.* | 0.004788403 | 0
        vbat_cV | battery_voltage | 0.01 | 0""",
    ),
    "spanish": TableDialect(
        axes="alabeo cabeceo guiñada", separator=";", comma=True, encoding="latin-1",
        rows="""
        Tiempo (s) | time | 1 | 4
        Giro sin filtrar {x} (°/s) | gyro_raw.* | 1 | 2
        Giro filtrado {x} (°/s) | gyro.* | 1 | 2
        Consigna {a} (°/s) | setpoint.* | 1 | 1
        Mando {a} (%) | stick.* | 0.01 | 1
        Acelerador (%) | throttle | 0.01 | 1
        Motor {m} (%) | motor.* | 0.01 | 2
        Vueltas motor {m} (rpm) | motor_rpm.* | 1 | 0
        Aceleración {x} (m/s²) | accel.* | 1 | 2
        Corriente batería (A) | battery_current | 1 | 1""",
    ),
    "indexed": TableDialect(
        axes="0 1 2", head="gyro_scale_dps_per_lsb,0.0609756\nlog_rate_hz,500\n",
        rows="""
        us | time | 1e-6@5000000 | 0
        rateRaw[{a}] | gyro_raw.* | 0.0609756 | 0
        rateFlt[{a}] | gyro.* | 0.0609756 | 0
        rateCmd[{a}] | setpoint.* | 1 | 0
        P[{a}] | term_p.* | 1e-3 | 0
        I[{a}] | term_i.* | 1e-3 | 0
        D[{a}] | term_d.* | 1e-3 | 0
        FF[{a}] | term_f.* | 1e-3 | 0
        mix[{a}] | command.* | 1e-3 | 0
        m[{n}] | motor.* | 1e-3 | 0
        rpm[{n}] | motor_rpm.* | 1 | 0""",
    ),
    "sentences": TableDialect(
        quote='"',
        rows="""
        Time since start (s) | time | 1 | 4
        Angular velocity about {x}, unfiltered (deg/s) | gyro_raw.* | 1 | 2
        Angular velocity about {x}, filtered (deg/s) | gyro.* | 1 | 2
        Demanded angular velocity about {x} (deg/s) | setpoint.* | 1 | 2
        Throttle demand (fraction) | throttle | 1 | 3
        Motor {m} demand (fraction) | motor.* | 1 | 4
        Motor {m} speed (rev/min) | motor_rpm.* | 1 | 0
        Specific force {x} (g) | accel.* | g | 4
        Supply voltage (V) | battery_voltage | 1 | 2""",
    ),
    "terse": TableDialect(
        separator=" ",
        rows="""
        us | time | 1e-6 | 0
        g{x}r | gyro_raw.* | 1 | 2
        g{x} | gyro.* | 1 | 2
        s{x} | setpoint.* | 1 | 1
        thr | throttle | 1 | 3
        m{m} | motor.* | 1 | 4
        r{m} | motor_rpm.* | 1 | 0
        a{x} | accel.* | 1 | 2
        vb | battery_voltage | 1 | 2""",
    ),
    "dotted": TableDialect(
        rows="""
        stamp.us | time | 1e-6 | 0
        imu.gyro.{x} | gyro.* | 1 | 2
        imu.gyro_unfiltered.{x} | gyro_raw.* | 1 | 2
        ctrl.rate_setpoint.{x} | setpoint.* | 1 | 1
        ctrl.p.{x} | term_p.* | 1 | 4
        ctrl.i.{x} | term_i.* | 1 | 4
        ctrl.d.{x} | term_d.* | 1 | 4
        ctrl.out.{x} | command.* | 1 | 4
        pilot.{x} | stick.* | 1 | 3
        pilot.throttle | throttle | 1 | 3
        motor.{n}.duty | motor.* | 1 | 4
        motor.{n}.rpm | motor_rpm.* | 1 | 0
        imu.temp_c | gyro_temperature | 1 | 1""",
    ),
    "french": TableDialect(
        axes="roulis tangage lacet",
        rows="""
        temps_ms | time | 1e-3 | 1
        gyro_brut_{a} | gyro_raw.* | 1 | 2
        gyro_{a} | gyro.* | 1 | 2
        consigne_{a} | setpoint.* | 1 | 1
        manche_{a} | stick.* | 1 | 3
        gaz | throttle | 1 | 3
        moteur{m} | motor.* | 1 | 4
        tours_minute{m} | motor_rpm.* | 1 | 0
        accel_{x} (g) | accel.* | g | 4
        tension (V) | battery_voltage | 1 | 2""",
    ),
    "counts_and_pulses": TableDialect(
        axes="r p y", separator=";", head="firmware build: 12\ngyr_lsb_per_dps: 16\n",
        rows="""
        clk_us | time | 1e-6@77 | 0
        gyr_raw[{a}] | gyro_raw.* | 0.0625 | 0
        gyr[{a}] | gyro.* | 0.0625 | 0
        tgt[{a}] | setpoint.* | 0.0625 | 0
        thr_pwm | throttle | 1e-3@1000 | 0
        pwm[{m}] | motor.* | 1e-3@1000 | 0
        tach_hz[{m}] | motor_rpm.* | 60 | 0
        acc_mg[{x}] | accel.* | 0.00980665 | 0
        cur_mA | battery_current | 1e-3 | 0""",
    ),
    "unit_row": TableDialect(
        axes="roll pitch yaw", has_unit_row=True,
        rows="""
        time | time | 1 | 4 | s
        voltage | battery_voltage | 1 | 2 | V
        {a} rate | gyro.* | rad | 5 | rad/s
        {a} rate raw | gyro_raw.* | rad | 5 | rad/s
        {a} rate cmd | setpoint.* | rad | 5 | rad/s
        {a} angle | attitude.* | rad | 4 | rad
        throttle cmd | throttle | 1 | 3 | -
        motor{m} cmd | motor.* | 1 | 4 | -
        motor{m} speed | motor_rpm.* | rad/s | 1 | rad/s
        accel {x} | accel.* | 1 | 3 | m/s^2""",
    ),
    "polish": TableDialect(
        rows="""
        czas_s | time | 1 | 4
        zyroskop_surowy_{x} | gyro_raw.* | 1 | 2
        zyroskop_{x} | gyro.* | 1 | 2
        predkosc_zadana_{x} | setpoint.* | 1 | 1
        drazek_{x} | stick.* | 1 | 3
        gaz | throttle | 1 | 3
        silnik_{m} | motor.* | 1 | 4
        obroty_{m} | motor_rpm.* | 1 | 0
        przyspieszenie_{x} | accel.* | 1 | 2
        napiecie_V | battery_voltage | 1 | 2""",
    ),
    "camel": TableDialect(
        axes="Roll Pitch Yaw", separator="\t",
        rows="""
        timeMs | time | 1e-3 | 1
        unfilteredGyro{a} | gyro_raw.* | 1 | 1
        filteredGyro{a} | gyro.* | 1 | 1
        commandedRate{a} | setpoint.* | 1 | 1
        propTerm{a} | term_p.* | 0.01 | 2
        intTerm{a} | term_i.* | 0.01 | 2
        derTerm{a} | term_d.* | 0.01 | 2
        ffTerm{a} | term_f.* | 0.01 | 2
        mixInput{a} | command.* | 0.01 | 2
        stick{a} | stick.* | 0.002 | 0
        stickThrottle | throttle | 1e-3@1000 | 0
        motorFraction{m} | motor.* | 1 | 4
        motorRpm{m} | motor_rpm.* | 1 | 0""",
    ),
}  # fmt: skip
