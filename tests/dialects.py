"""Invented table dialects: one simulated flight written as differently as converters could write it.

Each gives the file and, for every column that has a meaning, its role. Written before the recogniser.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from nembrit.core.simulate.flight import SimulatedFlight
from nembrit.core.types import AXES, FloatArray

DEG = np.pi / 180


@dataclass(frozen=True, slots=True, kw_only=True)
class Dialect:
    content: bytes
    roles: dict[str, str]  # column name as the reader gives it → role


def cells(column: FloatArray, form: str) -> list[str]:
    """Every number as text; kept, since most dialects write the same numbers."""
    return _cells(column.astype(np.float64).tobytes(), form)


@lru_cache(maxsize=256)
def _cells(column: bytes, form: str) -> list[str]:
    numbers = np.frombuffer(column).tolist()
    return (f"{form}\n" * len(numbers) % tuple(numbers)).split("\n")[:-1]


def _rows(columns: list[FloatArray], formats: list[str], *, separator: str, comma: bool = False) -> str:
    text = [cells(column, form) for column, form in zip(columns, formats, strict=True)]
    if comma:
        text = [[cell.replace(".", ",") for cell in column] for column in text]
    return "\n".join(separator.join(row) for row in zip(*text, strict=True)) + "\n"


# name, role ("" for none), numbers and how they are written, column after column
Made = tuple[bytes, set[str]]
Row = tuple[str, str, FloatArray, str]
MOTORS = range(1, 7)
N_ROWS = 40_000  # the snaps of all three axes are among them


def make(table: list[Row], sep: str, head: str = "", comma: bool = False, enc: str = "utf-8") -> Made:
    """A file of these columns and the roles that it holds."""
    body = _rows([row[2][:N_ROWS] for row in table], [row[3] for row in table], separator=sep, comma=comma)
    return (head + sep.join(row[0] for row in table) + "\n" + body).encode(enc), {row[1] for row in table if row[1]}


def _motors(flight: SimulatedFlight) -> int:
    return sum(role.startswith("motor.") for role in flight.channels)


def german(flight: SimulatedFlight) -> Dialect:
    """Semicolons, decimal commas, Latin-1, a preamble, names without units and a row of units."""
    c, n = flight.channels, _motors(flight)
    table = [("Zeit", "time", flight.t_s * 1e3, "%.1f", "ms")]
    for name, axis in zip(("Rollen", "Nicken", "Gieren"), AXES, strict=True):
        table.append((f"Drehrate {name}", f"gyro.{axis}", c[f"gyro.{axis}"], "%.2f", "°/s"))
        table.append((f"Drehrate {name} ungefiltert", f"gyro_raw.{axis}", c[f"gyro_raw.{axis}"], "%.2f", "°/s"))
        table.append((f"Sollrate {name}", f"setpoint.{axis}", c[f"setpoint.{axis}"], "%.1f", "°/s"))
    table.append(("Gas", "throttle", c["throttle"] * 100, "%.1f", "%"))
    table += [(f"Motor {k}", f"motor.{k}", c[f"motor.{k}"] * 100, "%.2f", "%") for k in range(1, n + 1)]
    table.append(("Akkuspannung", "battery_voltage", c["battery_voltage"], "%.2f", "V"))
    table.append(("Strom", "battery_current", c["battery_current"], "%.1f", "A"))
    head = "Gerät;Kornweihe 3\nAufnahme;Wiese hinter dem Hof\nAufnahmerate;2000 Hz\n\n"
    head += ";".join(row[0] for row in table) + "\n" + ";".join(row[4] for row in table) + "\n"
    body = _rows([row[2] for row in table], [row[3] for row in table], separator=";", comma=True)
    return Dialect(content=(head + body).encode("latin-1"), roles={row[0]: row[1] for row in table})


def brackets(flight: SimulatedFlight) -> Dialect:
    """Tabs, bracketed indices, raw integers whose scale stands in comments, a µs clock that wraps at 2³²."""
    c, n = flight.channels, _motors(flight)
    t_us = np.rint(flight.t_s * 1e6 + 2**32 - 7.3e6) % 2**32
    table = [("cycle", "", np.arange(flight.t_s.size) * 4.0), ("usec", "time", t_us)]
    for k, axis in enumerate(AXES):
        table += [
            (f"gyr[{k}]", f"gyro_raw.{axis}", c[f"gyro_raw.{axis}"] * 16.4),
            (f"gyrLpf[{k}]", f"gyro.{axis}", c[f"gyro.{axis}"] * 16.4),
            (f"sp[{k}]", f"setpoint.{axis}", c[f"setpoint.{axis}"]),
            (f"acc[{k}]", f"accel.{'xyz'[k]}", c[f"accel.{'xyz'[k]}"] / 9.80665 * 2048),
        ]
    table += [(f"mot[{k}]", f"motor.{k + 1}", 1000 + 1000 * c[f"motor.{k + 1}"]) for k in range(n)]
    table += [("thr", "throttle", 1000 + 1000 * c["throttle"]), ("vbat_mV", "battery_voltage", 1000 * c["battery_voltage"])]
    head = "# craft: Kestrel mule\n# gyro_scale = 16.4 LSB per dps\n# acc_1g = 2048\n# looptime_us = 250\n"
    body = _rows([row[2] for row in table], ["%.0f"] * len(table), separator="\t")
    roles = {row[0]: row[1] for row in table if row[1]} | {"vbat": "battery_voltage"}
    return Dialect(content=(head + "\t".join(row[0] for row in table) + "\n" + body).encode(), roles=roles)


def radians(flight: SimulatedFlight) -> Dialect:
    """Commas, everything quoted in the header, SI units in parentheses, rates as p, q, r, a clock in ns."""
    c, n = flight.channels, _motors(flight)
    table = [("timestamp_ns", "timestamp_ns", "time", flight.t_s * 1e9 + 1.7e12, "%.0f")]
    for letter, axis in zip("pqr", AXES, strict=True):
        table.append((f"body.rate.{letter} (rad/s)", f"body.rate.{letter}", f"gyro.{axis}", c[f"gyro.{axis}"] * DEG, "%.6f"))
        table.append(
            (f"cmd.rate.{letter} (rad/s)", f"cmd.rate.{letter}", f"setpoint.{axis}", c[f"setpoint.{axis}"] * DEG, "%.6f")
        )
    table += [(f"acc.{x} (m/s^2)", f"acc.{x}", f"accel.{x}", c[f"accel.{x}"], "%.2f") for x in "xyz"]
    table += [(f"actuator_out_{k}", f"actuator_out_{k}", f"motor.{k}", c[f"motor.{k}"], "%.4f") for k in range(1, n + 1)]
    table.append(("collective", "collective", "throttle", c["throttle"], "%.3f"))
    table.append(("bus_voltage (V)", "bus_voltage", "battery_voltage", c["battery_voltage"], "%.2f"))
    head = ",".join(f'"{row[0]}"' for row in table) + "\r\n"
    body = _rows([row[3] for row in table], [row[4] for row in table], separator=",").replace("\n", "\r\n")
    roles = {row[1]: row[2] for row in table} | {"timestamp": "time"}
    return Dialect(content=(head + body).encode(), roles=roles)


def french(flight: SimulatedFlight) -> Dialect:
    """Blanks of uneven width, UTF-16 with a byte-order mark, French names, no units at all."""
    c, n = flight.channels, _motors(flight)
    table = [("temps", "time", flight.t_s, "%10.4f")]
    for name, axis in zip(("roulis", "tangage", "lacet"), AXES, strict=True):
        table.append((f"vitesse_{name}", f"gyro.{axis}", c[f"gyro.{axis}"], "%9.2f"))
        table.append((f"consigne_{name}", f"setpoint.{axis}", c[f"setpoint.{axis}"], "%8.1f"))
        table.append((f"manche_{name}", f"stick.{axis}", c[f"stick.{axis}"], "%7.3f"))
    table.append(("gaz", "throttle", c["throttle"], "%6.3f"))
    table += [(f"moteur{k}", f"motor.{k}", c[f"motor.{k}"], "%7.4f") for k in range(1, n + 1)]
    table.append(("tension_batterie", "battery_voltage", c["battery_voltage"], "%6.2f"))
    head = " ".join(row[0] for row in table) + "\n"
    body = _rows([row[2] for row in table], [row[3] for row in table], separator=" ")
    return Dialect(content=(head + body).encode("utf-16"), roles={row[0]: row[1] for row in table})


def terse(flight: SimulatedFlight) -> Dialect:
    """Short capital names with units in brackets, milli-units, the controller's terms, sticks in per cent."""
    c, n = flight.channels, _motors(flight)
    table = [("T [us]", "T", "time", flight.t_s * 1e6, "%.0f")]
    for letter, axis in zip("RPY", AXES, strict=True):
        table += [
            (f"G{letter}_RAW [mdps]", f"G{letter}_RAW", f"gyro_raw.{axis}", c[f"gyro_raw.{axis}"] * 1000, "%.0f"),
            (f"G{letter}_FLT [mdps]", f"G{letter}_FLT", f"gyro.{axis}", c[f"gyro.{axis}"] * 1000, "%.0f"),
            (f"DES_{letter} [dps]", f"DES_{letter}", f"setpoint.{axis}", c[f"setpoint.{axis}"], "%.1f"),
            (f"RC_{letter} [%]", f"RC_{letter}", f"stick.{axis}", c[f"stick.{axis}"] * 100, "%.1f"),
        ]
        for term in "PIDF":
            role = f"term_{term.lower()}.{axis}"
            table.append((f"{axis.upper()}_{term} [%]", f"{axis.upper()}_{term}", role, c[role] * 100, "%.2f"))
    table.append(("RC_T [%]", "RC_T", "throttle", c["throttle"] * 100, "%.1f"))
    table += [(f"M{k} [%]", f"M{k}", f"motor.{k}", c[f"motor.{k}"] * 100, "%.2f") for k in range(1, n + 1)]
    table.append(("VB [cV]", "VB", "battery_voltage", c["battery_voltage"] * 100, "%.0f"))
    head = ",".join(row[0] for row in table) + "\n"
    body = _rows([row[3] for row in table], [row[4] for row in table], separator=",")
    return Dialect(content=b"\xef\xbb\xbf" + (head + body).encode(), roles={row[1]: row[2] for row in table})


def spanish(flight: SimulatedFlight) -> Dialect:
    """Bars, Spanish names, a sample counter for a clock with the rate in the preamble, motor speed in rpm."""
    c, n = flight.channels, _motors(flight)
    table = [("muestra", "time", np.arange(flight.t_s.size, dtype=float), "%.0f")]
    for name, axis in zip(("alabeo", "cabeceo", "guiñada"), AXES, strict=True):
        table.append((f"giro {name} sin filtrar", f"gyro_raw.{axis}", c[f"gyro_raw.{axis}"], "%.2f"))
        table.append((f"giro {name} filtrado", f"gyro.{axis}", c[f"gyro.{axis}"], "%.2f"))
        table.append((f"giro {name} deseado", f"setpoint.{axis}", c[f"setpoint.{axis}"], "%.1f"))
    table.append(("acelerador", "throttle", c["throttle"] * 1000, "%.0f"))
    table += [(f"salida motor {k}", f"motor.{k}", c[f"motor.{k}"] * 1000, "%.0f") for k in range(1, n + 1)]
    table += [(f"rpm motor {k}", f"motor_rpm.{k}", c[f"motor_rpm.{k}"], "%.0f") for k in range(1, n + 1)]
    head = "vehículo: Zarapito\nfrecuencia de muestreo: 2000 Hz\n" + "|".join(row[0] for row in table) + "\n"
    body = _rows([row[2] for row in table], [row[3] for row in table], separator="|")
    return Dialect(content=(head + body).encode(), roles={row[0]: row[1] for row in table})


DIALECTS: dict[str, Callable[[SimulatedFlight], Dialect]] = {
    "german": german, "brackets": brackets, "radians": radians, "french": french, "terse": terse, "spanish": spanish,
}  # fmt: skip
