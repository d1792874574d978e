"""Invented dialects of rounds one to three: other words, other scripts, other ways to write units."""

import numpy as np

from nembrit.core.types import AXES
from tests.dialects import MOTORS, Made, Row, make
from tests.flying import flown

SEED = 5


def dutch() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("tijd", "time", t_s * 1000, "%.1f")]
    for name, a in zip(("rol", "stamp", "gier"), AXES, strict=True):
        t += [
            (f"hoeksnelheid {name} ruw [°/s]", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.2f"),
            (f"hoeksnelheid {name} [°/s]", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"gewenst {name} [°/s]", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += [(f"versnelling {x} [m/s2]", f"accel.{x}", c[f"accel.{x}"], "%.2f") for x in "xyz"]
    t += [("gas [%]", "throttle", 100 * c["throttle"], "%.1f")] + [
        (f"motor {k} [%]", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS
    ]
    t += [
        ("accuspanning [V]", "battery_voltage", c["battery_voltage"], "%.2f"),
        ("stroom [A]", "battery_current", c["battery_current"], "%.1f"),
    ]
    return make(t, ";", "Toestel: Grutto\nDatum: 3-5-2026\n", comma=True)


def paths() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("header.stamp.nsec", "time", t_s * 1e9 + 1.7e15, "%.0f")]
    for x, a in zip("xyz", AXES, strict=True):
        t += [
            (f"imu.angular_velocity.{x}", f"gyro_raw.{a}", np.radians(c[f"gyro_raw.{a}"]), "%.6f"),
            (f"imu_filtered.angular_velocity.{x}", f"gyro.{a}", np.radians(c[f"gyro.{a}"]), "%.6f"),
            (f"rate_target.{x}", f"setpoint.{a}", np.radians(c[f"setpoint.{a}"]), "%.6f"),
            (f"imu.linear_acceleration.{x}", f"accel.{x}", c[f"accel.{x}"], "%.4f"),
        ]
    t += [("input.throttle", "throttle", c["throttle"], "%.4f")]
    t += [(f"actuators.output.{k - 1}", f"motor.{k}", c[f"motor.{k}"], "%.4f") for k in MOTORS]
    t += [(f"actuators.speed.{k - 1}", f"motor_rpm.{k}", c[f"motor_rpm.{k}"], "%.0f") for k in MOTORS]
    t += [
        ("power.voltage", "battery_voltage", c["battery_voltage"], "%.2f"),
        ("power.current", "battery_current", c["battery_current"], "%.1f"),
    ]
    return make(t, "\t")


def counts2() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    s = 32.8
    t: list[Row] = [("loop", "", np.arange(t_s.size) * 1.0, "%.0f"), ("micros", "time", np.rint(t_s * 1e6 + 12345678), "%.0f")]
    for k, a in enumerate(AXES):
        t += [
            (f"gyroCount({k})", f"gyro_raw.{a}", c[f"gyro_raw.{a}"] * s, "%.0f"),
            (f"gyroFiltered({k})", f"gyro.{a}", c[f"gyro.{a}"] * s, "%.0f"),
            (f"rateCmd({k})", f"setpoint.{a}", c[f"setpoint.{a}"] * 10, "%.0f"),
            (f"accCount({k})", f"accel.{'xyz'[k]}", c[f"accel.{'xyz'[k]}"] / 9.80665 * 4096, "%.0f"),
        ]
    t += [(f"motorOut({k - 1})", f"motor.{k}", c[f"motor.{k}"] * 1000, "%.0f") for k in MOTORS]
    t += [("throttle", "throttle", c["throttle"] * 1000, "%.0f"), ("vbat", "battery_voltage", c["battery_voltage"] * 100, "%.0f")]
    return make(
        t,
        ",",
        "// firmware: own\n// gyroSensitivity: 32.8 LSB/dps\n// accSensitivity: 4096 LSB/g\n// rateCmdScale: 10 per dps\n",
    )


def camel() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("TimeSec", "time", t_s, "%.5f")]
    for name, a in zip(("Roll", "Pitch", "Yaw"), AXES, strict=True):
        t += [
            (f"{name}RateDegPerSec", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"{name}RateTargetDegPerSec", f"setpoint.{a}", c[f"setpoint.{a}"], "%.2f"),
            (f"{name}PilotInputPercent", f"stick.{a}", 100 * c[f"stick.{a}"], "%.1f"),
        ]
        for term, w in zip("pid", ("Prop", "Integ", "Deriv"), strict=True):
            t += [(f"{name}{w}OutPercent", f"term_{term}.{a}", 100 * c[f"term_{term}.{a}"], "%.3f")]
    t += [("ThrottlePercent", "throttle", 100 * c["throttle"], "%.1f")]
    t += [(f"Motor{k}Percent", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS]
    t += [
        ("BatteryVolts", "battery_voltage", c["battery_voltage"], "%.2f"),
        ("BatteryAmps", "battery_current", c["battery_current"], "%.1f"),
    ]
    return make(t, ",")


def pqr() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("t", "time", t_s, "%.4f")]
    for x, letter, a in zip("xyz", "pqr", AXES, strict=True):
        t += [
            (letter, f"gyro.{a}", np.radians(c[f"gyro.{a}"]), "%.5f"),
            (letter + "_ref", f"setpoint.{a}", np.radians(c[f"setpoint.{a}"]), "%.5f"),
            (f"a{x}", f"accel.{x}", c[f"accel.{x}"] / 9.80665, "%.4f"),
        ]
    t += [("dthr", "throttle", c["throttle"], "%.4f")] + [
        (f"w{k}", f"motor_rpm.{k}", c[f"motor_rpm.{k}"] * 2 * np.pi / 60, "%.1f") for k in MOTORS
    ]
    t += [(f"n{k}", f"motor.{k}", c[f"motor.{k}"], "%.4f") for k in MOTORS]
    t += [("ubat", "battery_voltage", c["battery_voltage"], "%.2f")]
    head = ",".join(
        {"t": "s"}.get(r[0], "rad/s" if r[0][0] in "pqrw" else "g" if r[0][0] == "a" else "V" if r[0] == "ubat" else "-")
        for r in t
    )
    content, roles = make(t, ",")
    first, rest = content.split(b"\n", 1)
    return first + b"\n" + head.encode() + b"\n" + rest, roles


def polish() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Czas(s)", "time", t_s, "%9.4f")]
    for name, a in zip(("przechylenie", "pochylenie", "odchylenie"), AXES, strict=True):
        t += [
            (f"żyro_{name}(st/s)", f"gyro.{a}", c[f"gyro.{a}"], "%8.2f"),
            (f"zadana_{name}(st/s)", f"setpoint.{a}", c[f"setpoint.{a}"], "%8.1f"),
            (f"drążek_{name}(%)", f"stick.{a}", 100 * c[f"stick.{a}"], "%6.1f"),
        ]
    t += [("gaz(%)", "throttle", 100 * c["throttle"], "%6.1f")] + [
        (f"silnik_{k}(%)", f"motor.{k}", 100 * c[f"motor.{k}"], "%6.2f") for k in MOTORS
    ]
    t += [(f"obroty_{k}(obr/min)", f"motor_rpm.{k}", c[f"motor_rpm.{k}"], "%7.0f") for k in MOTORS]
    t += [
        ("napięcie(V)", "battery_voltage", c["battery_voltage"], "%6.2f"),
        ("prąd(A)", "battery_current", c["battery_current"], "%6.1f"),
    ]
    return make(t, "  ", "# model: Czajka\n")


def turkish() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Zaman (ms)", "time", t_s * 1000, "%.1f")]
    for name, a in zip(("yatış", "yunuslama", "sapma"), AXES, strict=True):
        t += [
            (f"Açısal hız {name} (der/s)", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"Ham açısal hız {name} (der/s)", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.2f"),
            (f"İstenen {name} (der/s)", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += [("Gaz kolu (%)", "throttle", 100 * c["throttle"], "%.1f")] + [
        (f"Motor {k} (%)", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS
    ]
    t += [
        ("Gerilim (V)", "battery_voltage", c["battery_voltage"], "%.2f"),
        ("Akım (A)", "battery_current", c["battery_current"], "%.1f"),
    ]
    return make(t, ";", "Uçak: Turna\n", comma=True)


def hungarian() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("idő", "time", t_s, "%.4f", "s")]
    for name, a in zip(("dőlés", "bólintás", "legyezés"), AXES, strict=True):
        t += [
            (f"szögsebesség_{name}", f"gyro.{a}", c[f"gyro.{a}"], "%.2f", "°/s"),
            (f"kívánt_{name}", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f", "°/s"),
            (f"bot_{name}", f"stick.{a}", 100 * c[f"stick.{a}"], "%.1f", "%"),
        ]
    t += [("gázkar", "throttle", 100 * c["throttle"], "%.1f", "%")] + [
        (f"motor_{k}", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f", "%") for k in MOTORS
    ]
    t += [
        ("feszültség", "battery_voltage", c["battery_voltage"], "%.2f", "V"),
        ("áram", "battery_current", c["battery_current"], "%.1f", "A"),
    ]
    content, roles = make([r[:4] for r in t], "\t")
    a, b = content.split(b"\n", 1)
    return a + b"\n" + "\t".join(r[4] for r in t).encode() + b"\n" + b, roles


def arrays() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("sample.time_us", "time", t_s * 1e6 + 3e7, "%.0f")]
    for k, a in enumerate(AXES):
        t += [
            (f"sensor.gyro.raw[{k}]", f"gyro_raw.{a}", np.rint(c[f"gyro_raw.{a}"] * 65.5), "%.0f"),
            (f"sensor.gyro.lpf[{k}]", f"gyro.{a}", np.rint(c[f"gyro.{a}"] * 65.5), "%.0f"),
            (f"sensor.accel.raw[{k}]", f"accel.{'xyz'[k]}", np.rint(c[f"accel.{'xyz'[k]}"] / 9.80665 * 8192), "%.0f"),
            (f"controller.rate_sp[{k}]", f"setpoint.{a}", c[f"setpoint.{a}"], "%.0f"),
            (f"controller.err_p[{k}]", f"term_p.{a}", 1000 * c[f"term_p.{a}"], "%.0f"),
            (f"controller.err_i[{k}]", f"term_i.{a}", 1000 * c[f"term_i.{a}"], "%.0f"),
            (f"controller.err_d[{k}]", f"term_d.{a}", 1000 * c[f"term_d.{a}"], "%.0f"),
        ]
    t += [("receiver.ch[2]", "throttle", 988 + 1024 * c["throttle"], "%.0f")]
    t += [(f"mixer.out[{k - 1}]", f"motor.{k}", np.rint(2047 * c[f"motor.{k}"]), "%.0f") for k in MOTORS]
    t += [("battery.mv", "battery_voltage", 1000 * c["battery_voltage"], "%.0f")]
    return make(
        t, ",", "# sensor.gyro.lsb_per_dps=65.5\n# sensor.accel.lsb_per_g=8192\n# mixer.out_max=2047\n# mixer.out_min=0\n"
    )


def greek() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("t/s", "time", t_s, "%.4f")]
    for m, a in zip(("x", "y", "z"), AXES, strict=True):
        t += [
            (f"ω_{m} / (rad/s)", f"gyro.{a}", np.radians(c[f"gyro.{a}"]), "%.5f"),
            (f"ω_{m},soll / (rad/s)", f"setpoint.{a}", np.radians(c[f"setpoint.{a}"]), "%.5f"),
            (f"a_{m} / (m/s²)", f"accel.{m}", c[f"accel.{m}"], "%.3f"),
        ]
    t += [("δ_Schub / %", "throttle", 100 * c["throttle"], "%.1f")] + [
        (f"u_{k} / %", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS
    ]
    t += [(f"n_{k} / (1/min)", f"motor_rpm.{k}", c[f"motor_rpm.{k}"], "%.0f") for k in MOTORS] + [
        ("U_Akku / V", "battery_voltage", c["battery_voltage"], "%.2f")
    ]
    return make(t, ";")


def short() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("TS", "time", t_s * 1e3, "%.1f")]
    for x, a in zip("XYZ", AXES, strict=True):
        t += [
            (f"G{x}", f"gyro.{a}", c[f"gyro.{a}"], "%.1f"),
            (f"SP{x}", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
            (f"A{x}", f"accel.{x.lower()}", 1000 * c[f"accel.{x.lower()}"] / 9.80665, "%.0f"),
        ]
    t += (
        [("TH", "throttle", c["throttle"] * 1000, "%.0f")]
        + [(f"O{k}", f"motor.{k}", c[f"motor.{k}"] * 1000, "%.0f") for k in MOTORS]
        + [("VB", "battery_voltage", c["battery_voltage"], "%.2f"), ("IB", "battery_current", c["battery_current"], "%.1f")]
    )
    return make(t, " ")


def norwegian() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Tidspunkt [µs]", "time", t_s * 1e6, "%.0f")]
    for name, a in zip(("rull", "stigning", "giring"), AXES, strict=True):
        t += [
            (f"Gyro {name} før filter [grader/s]", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.1f"),
            (f"Gyro {name} etter filter [grader/s]", f"gyro.{a}", c[f"gyro.{a}"], "%.1f"),
            (f"Ønsket {name} [grader/s]", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += (
        [("Gasspådrag [%]", "throttle", 100 * c["throttle"], "%.1f")]
        + [(f"Motorpådrag {k} [%]", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS]
        + [(f"Turtall {k} [o/min]", f"motor_rpm.{k}", c[f"motor_rpm.{k}"], "%.0f") for k in MOTORS]
    )
    t += [
        ("Spenning [V]", "battery_voltage", c["battery_voltage"], "%.2f"),
        ("Strøm [A]", "battery_current", c["battery_current"], "%.1f"),
    ]
    return make(t, ";", "Modell: Tjeld\n", comma=True)


def finnish() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Aika [s]", "time", t_s, "%.4f")]
    for name, a in zip(("kallistus", "nousukulma", "suunta"), AXES, strict=True):
        t += [
            (f"Kulmanopeus {name} [ast/s]", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"Tavoite {name} [ast/s]", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
            (f"Ohjain {name} [%]", f"stick.{a}", 100 * c[f"stick.{a}"], "%.1f"),
        ]
    t += [("Kaasu [%]", "throttle", 100 * c["throttle"], "%.1f")] + [
        (f"Moottori {k} [%]", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS
    ]
    t += [(f"Kiihtyvyys {x} [m/s²]", f"accel.{x}", c[f"accel.{x}"], "%.3f") for x in "xyz"]
    t += [
        ("Jännite [V]", "battery_voltage", c["battery_voltage"], "%.2f"),
        ("Virta [A]", "battery_current", c["battery_current"], "%.1f"),
    ]
    return make(t, "\t", "Kone: Kurki\n", comma=True)


def japanese() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("時刻[ms]", "time", t_s * 1000, "%.1f")]
    for name, a in zip(("ロール", "ピッチ", "ヨー"), AXES, strict=True):
        t += [
            (f"角速度{name}[deg/s]", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"目標{name}[deg/s]", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += [("スロットル[%]", "throttle", 100 * c["throttle"], "%.1f")] + [
        (f"モーター{k}[%]", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS
    ]
    t += [("電圧[V]", "battery_voltage", c["battery_voltage"], "%.2f")]
    return make(t, ",")


def rawhw() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("N", "", np.arange(t_s.size) * 1.0, "%.0f"), ("TIME_MS", "time", t_s * 1e3, "%.1f")]
    for x, a in zip("XYZ", AXES, strict=True):
        t += [
            (f"IMU1_GYR_{x}", f"gyro_raw.{a}", np.rint(c[f"gyro_raw.{a}"] * 16.4), "%.0f"),
            (f"IMU1_ACC_{x}", f"accel.{x.lower()}", np.rint(c[f"accel.{x.lower()}"] / 9.80665 * 2048), "%.0f"),
            (f"CTL_RATE_{x}", f"gyro.{a}", c[f"gyro.{a}"], "%.1f"),
            (f"CTL_RATE_REF_{x}", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += (
        [("CTL_THR", "throttle", c["throttle"], "%.3f")]
        + [(f"PWM_OUT_{k}", f"motor.{k}", 1000 + 1000 * c[f"motor.{k}"], "%.0f") for k in MOTORS]
        + [("BAT_V", "battery_voltage", c["battery_voltage"], "%.2f"), ("BAT_I", "battery_current", c["battery_current"], "%.1f")]
    )
    return make(t, ";", "IMU1_GYR_SCALE;16.4\nIMU1_ACC_SCALE;2048\nLOG_RATE_HZ;2000\n\n")


def russian() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Время, с", "time", t_s, "%.4f")]
    for name, a in zip(("крен", "тангаж", "рыскание"), AXES, strict=True):
        t += [
            (f"Гироскоп {name}, град/с", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"Задано {name}, град/с", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += [("Газ, %", "throttle", 100 * c["throttle"], "%.1f")] + [
        (f"Мотор {k}, %", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS
    ]
    t += [
        ("Напряжение, В", "battery_voltage", c["battery_voltage"], "%.2f"),
        ("Ток, А", "battery_current", c["battery_current"], "%.1f"),
    ]
    return make(t, ";", "", comma=True)


def verbose() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Elapsed time since arming (seconds)", "time", t_s, "%.4f")]
    for name, a in zip(("roll axis", "pitch axis", "yaw axis"), AXES, strict=True):
        t += [
            (f"Measured rotation about {name} (degrees per second)", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"Unfiltered rotation about {name} (degrees per second)", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.2f"),
            (f"Commanded rotation about {name} (degrees per second)", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += [("Throttle position (percent)", "throttle", 100 * c["throttle"], "%.1f")] + [
        (f"Output to motor number {k} (percent)", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS
    ]
    t += [(f"Motor number {k} speed (revolutions per minute)", f"motor_rpm.{k}", c[f"motor_rpm.{k}"], "%.0f") for k in MOTORS]
    t += [
        ("Flight battery (volts)", "battery_voltage", c["battery_voltage"], "%.2f"),
        ("Flight battery (amperes)", "battery_current", c["battery_current"], "%.1f"),
    ]
    return make(t, ",")


def nested() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("t_ns", "time", t_s * 1e9, "%.0f")]
    for n, a in zip(("roll", "pitch", "yaw"), AXES, strict=True):
        t += [
            (f"state/body_rate/{n}", f"gyro.{a}", np.radians(c[f"gyro.{a}"]), "%.5f"),
            (f"setpoint/body_rate/{n}", f"setpoint.{a}", np.radians(c[f"setpoint.{a}"]), "%.5f"),
            (f"ctrl/p/{n}", f"term_p.{a}", c[f"term_p.{a}"], "%.5f"),
            (f"ctrl/i/{n}", f"term_i.{a}", c[f"term_i.{a}"], "%.5f"),
            (f"ctrl/d/{n}", f"term_d.{a}", c[f"term_d.{a}"], "%.5f"),
            (f"rc/{n}", f"stick.{a}", c[f"stick.{a}"], "%.4f"),
        ]
    t += (
        [("rc/thrust", "throttle", c["throttle"], "%.4f")]
        + [(f"motors/{k - 1}/cmd", f"motor.{k}", c[f"motor.{k}"], "%.4f") for k in MOTORS]
        + [(f"motors/{k - 1}/rps", f"motor_rpm.{k}", c[f"motor_rpm.{k}"] / 60, "%.2f") for k in MOTORS]
    )
    t += [("power/volts", "battery_voltage", c["battery_voltage"], "%.2f")]
    return make(t, ",")


DIALECTS = [
    dutch,
    paths,
    counts2,
    camel,
    pqr,
    polish,
    turkish,
    hungarian,
    arrays,
    greek,
    short,
    norwegian,
    finnish,
    japanese,
    rawhw,
    russian,
    verbose,
    nested,
]
