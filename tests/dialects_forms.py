"""Invented dialects of rounds four to six: counts, terse names, more languages."""

import numpy as np

from nembrit.core.types import AXES
from tests.dialects import MOTORS, Made, Row, make
from tests.flying import flown

SEED = 5


def indonesian() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("waktu_detik", "time", t_s, "%.4f")]
    for name, a in zip(("guling", "angguk", "oleng"), AXES, strict=True):
        t += [
            (f"laju_{name}", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"laju_mentah_{name}", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.2f"),
            (f"sasaran_{name}", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += [("gas", "throttle", c["throttle"], "%.3f")] + [
        (f"keluaran_motor_{k}", f"motor.{k}", c[f"motor.{k}"], "%.4f") for k in MOTORS
    ]
    t += [("tegangan_baterai", "battery_voltage", c["battery_voltage"], "%.2f")]
    return make(t, ",")


def counts3() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("frame", "", np.arange(t_s.size) * 1.0, "%.0f")]
    for k, a in enumerate(AXES):
        t += [
            (f"gy[{k}]", f"gyro_raw.{a}", np.rint(c[f"gyro_raw.{a}"] * 131.072 / 8), "%.0f"),
            (f"gyf[{k}]", f"gyro.{a}", np.rint(c[f"gyro.{a}"] * 131.072 / 8), "%.0f"),
            (f"ac[{k}]", f"accel.{'xyz'[k]}", np.rint(c[f"accel.{'xyz'[k]}"] / 9.80665 * 4096), "%.0f"),
            (f"tgt[{k}]", f"setpoint.{a}", np.rint(c[f"setpoint.{a}"]), "%.0f"),
            (f"stk[{k}]", f"stick.{a}", np.rint(1500 + 500 * c[f"stick.{a}"]), "%.0f"),
        ]
    t += [("stk[3]", "throttle", np.rint(1000 + 1000 * c["throttle"]), "%.0f")] + [
        (f"mo[{k - 1}]", f"motor.{k}", np.rint(1000 + 1000 * c[f"motor.{k}"]), "%.0f") for k in MOTORS
    ]
    t += [("vb", "battery_voltage", np.rint(c["battery_voltage"] * 10), "%.0f")]
    content, roles = make(t, "\t", "; sampled at 2000 Hz\n; gyro 16.384 LSB per deg/s\n")
    return content, roles | {"time"}


def swedish() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Tid (ms)", "time", t_s * 1e3, "%.1f")]
    for name, a in zip(("roll", "tipp", "gir"), AXES, strict=True):
        t += [
            (f"Vridhastighet {name} (grader/s)", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"Begärd vridhastighet {name} (grader/s)", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
            (f"Spak {name} (%)", f"stick.{a}", 100 * c[f"stick.{a}"], "%.1f"),
        ]
    t += (
        [("Gas (%)", "throttle", 100 * c["throttle"], "%.1f")]
        + [(f"Motor {k} (%)", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS]
        + [(f"Varvtal {k} (varv/min)", f"motor_rpm.{k}", c[f"motor_rpm.{k}"], "%.0f") for k in MOTORS]
    )
    t += [
        ("Batterispänning (V)", "battery_voltage", c["battery_voltage"], "%.2f"),
        ("Ström (A)", "battery_current", c["battery_current"], "%.1f"),
    ]
    return make(t, ";", "Flygplan: Storspov\n", comma=True, enc="utf-16")


def si() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Time:s", "time", t_s, "%.5f")]
    for x, a in zip("xyz", AXES, strict=True):
        t += [
            (f"AngularRate.{x.upper()}:rad/s", f"gyro.{a}", np.radians(c[f"gyro.{a}"]), "%.5f"),
            (f"AngularRateDemand.{x.upper()}:rad/s", f"setpoint.{a}", np.radians(c[f"setpoint.{a}"]), "%.5f"),
            (f"SpecificForce.{x.upper()}:m/s^2", f"accel.{x}", c[f"accel.{x}"], "%.3f"),
        ]
    t += (
        [("Lift:1", "throttle", c["throttle"], "%.3f")]
        + [(f"Rotor{k}.Demand:1", f"motor.{k}", c[f"motor.{k}"], "%.4f") for k in MOTORS]
        + [(f"Rotor{k}.Speed:rad/s", f"motor_rpm.{k}", c[f"motor_rpm.{k}"] * np.pi / 30, "%.2f") for k in MOTORS]
    )
    t += [
        ("Supply:V", "battery_voltage", c["battery_voltage"], "%.2f"),
        ("Supply:A", "battery_current", c["battery_current"], "%.1f"),
    ]
    return make(t, ",")


def portuguese() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("instante_us", "time", t_s * 1e6, "%.0f")]
    for name, a in zip(("rolagem", "arfagem", "guinada"), AXES, strict=True):
        t += [
            (f"p_{name}", f"term_p.{a}", 100 * c[f"term_p.{a}"], "%.3f"),
            (f"i_{name}", f"term_i.{a}", 100 * c[f"term_i.{a}"], "%.3f"),
            (f"d_{name}", f"term_d.{a}", 100 * c[f"term_d.{a}"], "%.3f"),
            (f"giro_{name}", f"gyro.{a}", c[f"gyro.{a}"], "%.1f"),
            (f"referencia_{name}", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += (
        [("acelerador", "throttle", 100 * c["throttle"], "%.1f")]
        + [(f"motor_{k}", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS]
        + [("bateria", "battery_voltage", 1000 * c["battery_voltage"], "%.0f")]
    )
    return make(t, ";")


def wide() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Sample Time", "time", t_s, "%.4f")]
    for n, a in zip(("Roll", "Pitch", "Yaw"), AXES, strict=True):
        t += [
            (f"{n} Gyro (Raw)", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.1f"),
            (f"{n} Gyro (Filtered)", f"gyro.{a}", c[f"gyro.{a}"], "%.1f"),
            (f"{n} Setpoint", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
            (f"{n} Stick", f"stick.{a}", c[f"stick.{a}"], "%.3f"),
            (f"{n} P", f"term_p.{a}", 100 * c[f"term_p.{a}"], "%.2f"),
            (f"{n} D", f"term_d.{a}", 100 * c[f"term_d.{a}"], "%.2f"),
        ]
    t += (
        [("Throttle", "throttle", 100 * c["throttle"], "%.1f")]
        + [(f"Motor {chr(64 + k)}", f"motor.{k}", 100 * c[f"motor.{k}"], "%.1f") for k in MOTORS]
        + [
            ("Battery Voltage", "battery_voltage", c["battery_voltage"], "%.2f"),
            ("Battery Current", "battery_current", c["battery_current"], "%.1f"),
        ]
    )
    return make(t, ",")


def romanian() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Timp (s)", "time", t_s, "%.4f")]
    for name, a in zip(("ruliu", "tangaj", "girație"), AXES, strict=True):
        t += [
            (f"Viteză unghiulară brută {name} (grade/s)", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.2f"),
            (f"Viteză unghiulară {name} (grade/s)", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"Referință {name} (grade/s)", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
            (
                f"Accelerație {'xyz'[AXES.index(a)]} (m/s²)",
                f"accel.{'xyz'[AXES.index(a)]}",
                c[f"accel.{'xyz'[AXES.index(a)]}"],
                "%.2f",
            ),
        ]
    t += (
        [("Accelerație motor (%)", "throttle", 100 * c["throttle"], "%.1f")]
        + [(f"Motorul {k} (%)", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS]
        + [
            ("Tensiune (V)", "battery_voltage", c["battery_voltage"], "%.2f"),
            ("Curent (A)", "battery_current", c["battery_current"], "%.1f"),
        ]
    )
    return make(t, ";", "Model: Cocor\n", comma=True)


def indexed() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("t[us]", "time", t_s * 1e6 + 9e8, "%.0f")]
    for k, a in enumerate(AXES):
        t += [
            (f"w[{k}]", f"gyro.{a}", np.rint(c[f"gyro.{a}"] * 32.768), "%.0f"),
            (f"wRaw[{k}]", f"gyro_raw.{a}", np.rint(c[f"gyro_raw.{a}"] * 32.768), "%.0f"),
            (f"wCmd[{k}]", f"setpoint.{a}", np.rint(c[f"setpoint.{a}"] * 32.768), "%.0f"),
            (f"f[{k}]", f"accel.{'xyz'[k]}", np.rint(c[f"accel.{'xyz'[k]}"] / 9.80665 * 2048), "%.0f"),
        ]
    t += [(f"mot[{k - 1}]", f"motor.{k}", np.rint(1000 * c[f"motor.{k}"]), "%.0f") for k in MOTORS] + [
        ("coll", "throttle", np.rint(1000 * c["throttle"]), "%.0f"),
        ("batt", "battery_voltage", np.rint(1000 * c["battery_voltage"]), "%.0f"),
    ]
    return make(t, "\t", "# unit of w: 1/32.768 dps\n# w_lsb_per_dps: 32.768\n")


def czech() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("čas_ms", "time", t_s * 1000, "%.1f")]
    for name, a in zip(("klonění", "klopení", "zatáčení"), AXES, strict=True):
        t += [
            (f"gyro_{name}_dps", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"žádané_{name}_dps", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
            (f"páka_{name}_pct", f"stick.{a}", 100 * c[f"stick.{a}"], "%.1f"),
        ]
    t += (
        [("plyn_pct", "throttle", 100 * c["throttle"], "%.1f")]
        + [(f"motor_{k}_pct", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS]
        + [(f"otáčky_{k}_rpm", f"motor_rpm.{k}", c[f"motor_rpm.{k}"], "%.0f") for k in MOTORS]
        + [
            ("napětí_V", "battery_voltage", c["battery_voltage"], "%.2f"),
            ("proud_A", "battery_current", c["battery_current"], "%.1f"),
        ]
    )
    return make(t, ",")


def korean() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("시간(초)", "time", t_s, "%.4f")]
    for name, a in zip(("롤", "피치", "요"), AXES, strict=True):
        t += [
            (f"각속도 {name} (deg/s)", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"목표 {name} (deg/s)", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += (
        [("스로틀 (%)", "throttle", 100 * c["throttle"], "%.1f")]
        + [(f"모터 {k} (%)", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS]
        + [
            ("전압 (V)", "battery_voltage", c["battery_voltage"], "%.2f"),
            ("전류 (A)", "battery_current", c["battery_current"], "%.1f"),
        ]
    )
    return make(t, ",")


def matrix() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("timeStampMicro", "time", t_s * 1e6, "%.0f")]
    for n, a in zip(("X", "Y", "Z"), AXES, strict=True):
        t += [
            (f"bodyRates{n}", f"gyro.{a}", np.radians(c[f"gyro.{a}"]), "%.5f"),
            (f"bodyRatesUnfiltered{n}", f"gyro_raw.{a}", np.radians(c[f"gyro_raw.{a}"]), "%.5f"),
            (f"bodyRatesReference{n}", f"setpoint.{a}", np.radians(c[f"setpoint.{a}"]), "%.5f"),
            (f"specificForce{n}", f"accel.{n.lower()}", c[f"accel.{n.lower()}"], "%.4f"),
        ]
    t += (
        [("collectiveThrust", "throttle", c["throttle"], "%.4f")]
        + [(f"motorCommand{k}", f"motor.{k}", c[f"motor.{k}"], "%.4f") for k in MOTORS]
        + [(f"motorSpeed{k}", f"motor_rpm.{k}", c[f"motor_rpm.{k}"] * np.pi / 30, "%.2f") for k in MOTORS]
        + [("batteryVoltage", "battery_voltage", c["battery_voltage"], "%.2f")]
    )
    return make(t, ",")


def catalan() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("temps", "time", t_s, "%.4f")]
    for name, a in zip(("balanceig", "capcineig", "guinyada"), AXES, strict=True):
        t += [
            (f"vel_ang_{name}", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"vel_ang_crua_{name}", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.2f"),
            (f"vel_ang_volguda_{name}", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
        ]
    t += (
        [("accelerador", "throttle", c["throttle"], "%.3f")]
        + [(f"motor{k}", f"motor.{k}", c[f"motor.{k}"], "%.4f") for k in MOTORS]
        + [
            ("tensió", "battery_voltage", c["battery_voltage"], "%.2f"),
            ("corrent", "battery_current", c["battery_current"], "%.1f"),
        ]
    )
    return make(t, "  ", "% Vol del matí\n")


def estonian() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Aeg (ms)", "time", t_s * 1000, "%.1f")]
    for name, a in zip(("kalle", "ninakalle", "pööre"), AXES, strict=True):
        t += [
            (f"Pöörlemiskiirus {name} (kraadi/s)", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"Soovitud {name} (kraadi/s)", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
            (f"Juhtkang {name} (%)", f"stick.{a}", 100 * c[f"stick.{a}"], "%.1f"),
        ]
    t += (
        [("Gaas (%)", "throttle", 100 * c["throttle"], "%.1f")]
        + [(f"Mootor {k} (%)", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS]
        + [
            ("Pinge (V)", "battery_voltage", c["battery_voltage"], "%.2f"),
            ("Vool (A)", "battery_current", c["battery_current"], "%.1f"),
        ]
    )
    return make(t, ";", "Mudel: Kiivitaja\n", comma=True)


def raw_ints() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("it", "", np.arange(t_s.size) * 1.0, "%.0f"), ("clk_us", "time", np.rint(t_s * 1e6 + 4e6), "%.0f")]
    for k, a in enumerate(AXES):
        t += [
            (f"gyro_raw[{k}]", f"gyro_raw.{a}", np.rint(c[f"gyro_raw.{a}"] * 16.4), "%.0f"),
            (f"gyro_out[{k}]", f"gyro.{a}", np.rint(c[f"gyro.{a}"] * 16.4), "%.0f"),
            (f"wanted[{k}]", f"setpoint.{a}", np.rint(c[f"setpoint.{a}"]), "%.0f"),
            (f"accel[{k}]", f"accel.{'xyz'[k]}", np.rint(c[f"accel.{'xyz'[k]}"] / 9.80665 * 4096), "%.0f"),
            (f"sticks[{k}]", f"stick.{a}", np.rint(1500 + 500 * c[f"stick.{a}"]), "%.0f"),
        ]
    t += (
        [("sticks[3]", "throttle", np.rint(1000 + 1000 * c["throttle"]), "%.0f")]
        + [(f"drive[{k - 1}]", f"motor.{k}", np.rint(4095 * c[f"motor.{k}"]), "%.0f") for k in MOTORS]
        + [("pack_mV", "battery_voltage", np.rint(1000 * c["battery_voltage"]), "%.0f")]
    )
    return make(t, ",", "# gyro counts per dps: 16.4\n# drive full scale: 4095\n")


def science() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("t (s)", "time", t_s, "%.5f")]
    for x, a in zip("xyz", AXES, strict=True):
        t += [
            (f"omega_{x} (rad s^-1)", f"gyro.{a}", np.radians(c[f"gyro.{a}"]), "%.5f"),
            (f"omega_d_{x} (rad s^-1)", f"setpoint.{a}", np.radians(c[f"setpoint.{a}"]), "%.5f"),
            (f"a_{x} (m s^-2)", f"accel.{x}", c[f"accel.{x}"], "%.3f"),
        ]
    t += (
        [("T (-)", "throttle", c["throttle"], "%.4f")]
        + [(f"u{k} (-)", f"motor.{k}", c[f"motor.{k}"], "%.4f") for k in MOTORS]
        + [(f"Omega{k} (rad s^-1)", f"motor_rpm.{k}", c[f"motor_rpm.{k}"] * np.pi / 30, "%.1f") for k in MOTORS]
        + [
            ("V_bat (V)", "battery_voltage", c["battery_voltage"], "%.2f"),
            ("I_bat (A)", "battery_current", c["battery_current"], "%.1f"),
        ]
    )
    return make(t, "\t")


def telemetry() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("Clock ms", "time", t_s * 1e3, "%.1f")]
    for n, a in zip(("Roll", "Pitch", "Yaw"), AXES, strict=True):
        t += [
            (f"{n} rate dps", f"gyro.{a}", c[f"gyro.{a}"], "%.1f"),
            (f"{n} rate demand dps", f"setpoint.{a}", c[f"setpoint.{a}"], "%.1f"),
            (f"{n} rate unfiltered dps", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.1f"),
            (f"{n} stick pct", f"stick.{a}", 100 * c[f"stick.{a}"], "%.1f"),
        ]
    t += (
        [("Throttle stick pct", "throttle", 100 * c["throttle"], "%.1f")]
        + [(f"ESC {k} pct", f"motor.{k}", 100 * c[f"motor.{k}"], "%.2f") for k in MOTORS]
        + [(f"ESC {k} rpm", f"motor_rpm.{k}", c[f"motor_rpm.{k}"], "%.0f") for k in MOTORS]
        + [
            ("Pack volts", "battery_voltage", c["battery_voltage"], "%.2f"),
            ("Pack amps", "battery_current", c["battery_current"], "%.1f"),
        ]
    )
    return make(t, "|")


def object_like() -> Made:
    c, t_s = flown(SEED).channels, flown(SEED).t_s
    t: list[Row] = [("meta.time_ms", "time", t_s * 1000, "%.1f")]
    for n, a in zip(("roll", "pitch", "yaw"), AXES, strict=True):
        t += [
            (f"gyro.filtered.{n}", f"gyro.{a}", c[f"gyro.{a}"], "%.2f"),
            (f"gyro.unfiltered.{n}", f"gyro_raw.{a}", c[f"gyro_raw.{a}"], "%.2f"),
            (f"loop.desired_rate.{n}", f"setpoint.{a}", c[f"setpoint.{a}"], "%.2f"),
            (f"loop.d_term.{n}", f"term_d.{a}", c[f"term_d.{a}"], "%.5f"),
            (f"loop.p_term.{n}", f"term_p.{a}", c[f"term_p.{a}"], "%.5f"),
        ]
    t += (
        [("loop.throttle", "throttle", c["throttle"], "%.4f")]
        + [(f"motors[{k - 1}].output", f"motor.{k}", c[f"motor.{k}"], "%.4f") for k in MOTORS]
        + [(f"motors[{k - 1}].rpm", f"motor_rpm.{k}", c[f"motor_rpm.{k}"], "%.0f") for k in MOTORS]
        + [
            ("power.battery_v", "battery_voltage", c["battery_voltage"], "%.2f"),
            ("power.battery_a", "battery_current", c["battery_current"], "%.1f"),
        ]
    )
    return make(t, ";")


DIALECTS = [
    indonesian,
    counts3,
    swedish,
    si,
    portuguese,
    wide,
    romanian,
    indexed,
    czech,
    korean,
    matrix,
    catalan,
    estonian,
    raw_ints,
    science,
    telemetry,
    object_like,
]
