"""Kept numbers of rules and sums as one input after the other moves through its range."""

from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.metrics import metrics_of
from nembrit.core.causes import signs
from nembrit.core.causes.findings import findings_of
from nembrit.core.causes.ranking import rank
from nembrit.core.causes.sight import Sight
from nembrit.core.causes.symptoms import symptoms_of
from nembrit.core.causes.table import CAUSES
from nembrit.core.errors import CoreError
from nembrit.core.formats.registry import read_raw
from nembrit.core.manoeuvres.detect import manoeuvres
from nembrit.core.noise import balance
from nembrit.core.recognise.propose import propose
from nembrit.core.records.interpret import interpret
from nembrit.core.records.log import Channel, FlightLog, Recording, Stream
from nembrit.core.records.quality import quality_notes
from nembrit.core.report.codec import from_json, to_json
from nembrit.core.response.authority import lost_share, usable_mask
from nembrit.core.response.step import step_response
from nembrit.core.rotors.search import speed_law
from nembrit.core.rotors.track import rotor_track
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.configuration import Setting
from nembrit.core.setup.controller import controller_from_settings, controller_to_json
from nembrit.core.setup.limits import within
from nembrit.core.setup.namemap import MEANINGS, Meaning
from nembrit.core.simulate.airframe import Faults, World
from nembrit.core.simulate.flight import fly
from nembrit.core.spectra.frames import frames_of
from tests.flying import CARD, HEX, controller, flown, log_file

MIXER = HEX.mixer()
GRID = (0.0, 0.02, 0.1, 0.2, 0.3, 0.4, 0.55, 0.7, 0.9, 1.0, 1.3, 1.7, 2.4, 3.3, 4.5, 6.0, 8.5, 12.0, 20.0, 45.0, 90.0)
FULL = next(card for card in CARDS if card.key == "full")
# faint faults and tunes that are a little off: where rules have their edges
FLIGHTS: dict[str, tuple[dict[str, str], dict[str, Any]]] = {
    "a little loose": ({}, {"loose_mount": 0.2}),
    "rings a little": ({"smooth_gyro_hz": "0"}, {"resonance_factor": 1.5}),
    "rings": ({}, {"resonance_factor": 2.2}),
    "sharp": ({"p_on_roll": "80", "p_on_pitch": "80"}, {}),
    "dull": ({"smooth_gyro_hz": "45", "smooth_d_hz": "30"}, {}),
    "much D": ({"d_on_roll": "55", "d_on_pitch": "55", "smooth_d_hz": "0"}, {}),
    "little I": ({"i_on_roll": "8", "i_on_pitch": "8"}, {}),
}


def told(call: Callable[[], Any]) -> Any:
    try:
        return call()
    except CoreError as error:
        return f"refused: {error}"


@lru_cache
def _sight(name: str) -> Sight:
    changes, faults = FLIGHTS[name]
    flight = fly(HEX, controller(**changes), FULL if name == "little I" else CARD, World(seed=12, faults=Faults(**faults)))
    recording = Recording.of(flight.channels, sample_rate_hz=2000.0)
    spans = manoeuvres(recording)
    end_s = recording.duration_s - 2.0
    return Sight(recording.span(2.5, end_s), mixer=MIXER, blades=3, spans=spans)


def faint_faults() -> Any:
    found = {}
    for name in FLIGHTS:
        sight = _sight(name)
        symptoms = symptoms_of(sight)
        metrics = metrics_of(
            Flight(sight.recording, craft=CraftFacts(kind="multirotor", mixer=MIXER, blades=3), spans=sight.spans)
        )
        found[name] = [symptoms.values, metrics, findings_of(sight, symptoms, metrics=metrics), sight.lines, sight.vibration]
    return found


def evidence() -> Any:
    """Every cause's evidence, and the ranking, as each value goes through its range."""
    found: dict[str, Any] = {}
    for name in ("a little loose", "sharp", "much D"):
        base = dict(symptoms_of(_sight(name)).values)
        for key in base:
            tried = [base | {key: value} for x in GRID for value in (x, base[key] * (0.5 + x / 4))]
            likely = [[rank(values).likelihood[cause.code] for cause in CAUSES] for values in tried]
            summed = [sum(part for cause in CAUSES for part in (cause.evidence(values) or (-1.0,))) for values in tried]
            found[f"{name} {key}"] = [np.asarray(likely), np.asarray(summed)]
        for cause in CAUSES:
            own = cause.measure(_sight(name)).values
            without = {key: value for key, value in base.items() if key not in own}
            found[f"{name} without {cause.code}"] = [rank(without), [other.evidence(without) for other in CAUSES]]
    return found


def _code(finding: Any) -> Any:
    return None if finding is None else [finding.code, finding.severity, finding.axis]


def single_signs() -> Any:
    sight = _sight("rings a little")
    assert sight.frames is not None
    assert sight.vibration is not None
    found: dict[str, Any] = {"shares": []}
    for x in GRID:
        found[f"at {x}"] = [
            _code(signs.slow_log(1000 * x)),
            _code(signs.overlap(replace(sight.vibration, axis_separation=x))),
            _code(signs.wash({"roll": 10 * x, "pitch": 9 * x})),
            _code(signs.idle_low(x)),
            [_code(signs.sensor_worse("roll", x, history)) for history in ((1, 1, 1), (1, 1, 1, 1), (1.0, 1.1, 0.9, 1.2, 1.0))],
            [_code(signs.swing_kind(sight.frames, axis, (x, 10 * x + 9))) for axis in ("roll", "pitch")],
        ]
        found["shares"].append([_code(signs.filters_open(1.0, x, y)) for y in (0.0, 0.02, 0.03, 0.031, 0.05)])
    # a swing that comes and goes by known amounts
    for depth in (0.0, 0.5, 1.0, 2.0, 3.0, 4.0, 5.0):
        power = {
            role: values * np.exp(depth * np.sin(np.arange(len(values))))[:, None] for role, values in sight.frames.power.items()
        }
        found[f"comes and goes {depth}"] = signs.swing_kind(replace(sight.frames, power=power), "roll", (9.0, 40.0))
    found["moved"] = [signs.spikes_moved("roll", axes) for axes in ((), ("roll",), ("pitch", "yaw"))]
    return found


def sums_of_the_bench() -> Any:
    found: dict[str, Any] = {}
    for grade in balance.GRADES:
        residual = None if grade < 1 else grade / 700
        found[str(grade)] = told(
            lambda grade=grade, residual=residual: balance.permissible(grade, 11.0, 19_000.0, residual_g_mm=residual)
        )
    found["force"] = [balance.force_n(0.2, 21_000), balance.unbalance_g_mm(0.7, 21_000), balance.force_from_vibration_n(3.0, 640)]
    found["tips"] = [balance.tip_speed(diameter, 24_000) for diameter in (2.5, 5.1, 13.0)]
    exact = balance.permissible(40.0, 11.0, 19_000.0).permissible_g_mm
    found["at the grade"] = balance.permissible(40.0, 11.0, 19_000.0, residual_g_mm=exact)
    for given in ((0, 1, 1), (1, -1, 1), (1, 1, float("inf"))):
        found[f"refused {given}"] = told(lambda given=given: balance.permissible(*given))
    for value in ("1", "100", "0.99", "100.1", "x" * 50, None, float("nan"), 10**400):
        found[f"within {value!s:.20}"] = told(lambda value=value: within(value, "a mass", 1, 100))
    result = balance.permissible(6.3, 11.123456789, 19_000.0, residual_g_mm=1 / 3)
    found["codec"] = [
        to_json(result),
        from_json(balance.Balance, to_json(result)),
        to_json(np.array([[1 / 3, np.nan], [2e9 / 3, 1]])),
    ]
    return found


def controllers() -> Any:
    """A controller from every setting alone beside its gains, and without each of them."""
    gains = [f"gain.rate.{axis}.{term}" for axis in ("roll", "pitch", "yaw") for term in "pid"]
    found: dict[str, Any] = {}

    def made(keys: list[str], value: str = "7", scale: float | None = 0.01) -> Any:
        settings = [Setting(name=key, value="2" if key in gains else value) for key in keys]
        names = {key: Meaning(key, scale) for key in keys}
        return told(lambda: controller_to_json(controller_from_settings(settings, names)))

    for key in MEANINGS:
        others = [one for one in gains if one != key]
        found[key] = [made([*others, key]), made([*others, key], "200", 1.0), made(others)]
    roll = ["rates.roll.full_dps", "rates.roll.half_dps"]
    found["odd"] = [
        made(gains, scale=None),
        made([*gains, "idle"], "-1"),
        made([*gains, "idle"], "x"),
        made([*gains, *roll], "90", 1.0),
    ]
    return found


def _columns(content: bytes) -> tuple[list[str], list[list[str]]]:
    lines = content.decode().splitlines()
    return lines[0].split(","), [line.split(",") for line in lines[9000:16000]]


def proposals() -> Any:
    """What is proposed for one flight under worse and worse headers and scales."""
    header, rows = _columns(log_file(5))
    plain = [name.split(" [")[0] for name in header]
    bare = [f"c{k}" for k in range(len(header))]
    roles = {name: k for k, name in enumerate(plain)}
    found: dict[str, Any] = {}
    usual: dict[str, str] = {}

    def tried(name: str, names: list[str], change: Callable[[list[str]], list[str]] = list, keep: Any = None) -> None:
        columns = [k for k in range(len(names)) if keep is None or k in keep]
        text = "\n".join(",".join(row[k] for k in columns) for row in [names, *(change(row) for row in rows)])
        (table,) = propose(read_raw((text + "\n").encode())).tables
        uses = {use.name: f"{use.role} {use.factor:.5g} {use.offset:.4g} {use.confidence:.2f}" for use in table.columns}
        usual.update({name: use for name, use in uses.items() if name not in usual})
        found[name] = [table.clock, {name: use for name, use in uses.items() if usual[name] != use}]

    def scaled(family: str, factor: float, is_whole: bool = False) -> Callable[[list[str]], list[str]]:
        places = {k for name, k in roles.items() if name.startswith(family)}

        def change(row: list[str]) -> list[str]:
            values = [float(text) * factor if k in places and text else None for k, text in enumerate(row)]
            return [
                text if value is None else f"{value:.0f}" if is_whole else f"{value:.6g}"
                for text, value in zip(row, values, strict=True)
            ]

        return change

    tried("without units", plain)
    tried("without names", bare)
    found["usual"] = dict(usual)
    for family in ("gyro", "setpoint", "term", "motor", "throttle", "accel", "stick", "battery"):
        tried(f"without names of {family}", [b if p.startswith(family) else p for p, b in zip(plain, bare, strict=True)])
        for factor, is_whole in ((0.0174533, False), (-1.0, False), (10.0, True), (1000.0, True), (2048.0, True)):
            tried(f"{family} times {factor}", plain, scaled(family, factor, is_whole))
    for family in ("gyro_raw", "setpoint", "motor.", "time"):
        tried(f"without {family}", plain, keep={k for name, k in roles.items() if not name.startswith(family)})
    return found


def _made_log(rate_hz: float, n: int, changes: Iterator[tuple[str, Any]]) -> FlightLog:
    rng = np.random.default_rng(4)
    t_s = np.arange(n) / rate_hz
    wanted = {axis: 200 * np.sin(2 * np.pi * (0.5 + k / 3) * t_s) for k, axis in enumerate(("roll", "pitch", "yaw"))}
    columns: dict[str, Any] = {f"setpoint.{axis}": values for axis, values in wanted.items()}
    columns |= {f"gyro.{axis}": values + rng.normal(0, 3, n) for axis, values in wanted.items()}
    columns |= {"throttle": 0.4 + 0 * t_s, "motor.1": 0.4 + rng.normal(0, 0.05, n)}
    for role, values in changes:
        if role == "t":
            t_s = values(t_s)
        else:
            columns[role] = values(columns.get(role, t_s))
    channels = tuple(Channel(role=role, name=role, unit="", samples=np.asarray(values)) for role, values in columns.items())
    return FlightLog(format_key="csv", streams=(Stream(t_s=t_s, channels=channels),), rows_read=n)


def doubts() -> Any:
    """Notes on logs as one thing after the other goes wrong by more and more."""
    found: dict[str, Any] = {}

    def tried(name: str, *changes: tuple[str, Any], rate_hz: float = 1000.0, n: int = 12_000) -> None:
        notes = quality_notes(_made_log(rate_hz, n, iter(changes)))
        found[name] = [[note.code, note.severity, note.column, note.detail, note.start_s, note.end_s] for note in notes]

    def stuck(length: int) -> Callable[[Any], Any]:
        return lambda v: np.concatenate([v[:4000], np.full(length, v[4000]), v[4000 + length :]])

    for length in (200, 240, 260, 400, 3000):
        tried(f"stuck {length}", ("gyro.roll", stuck(length)), ("motor.1", stuck(length)))
    for most in (120.0, 180.0, 195.0, 203.0, 260.0):
        tried(f"clipped {most}", ("gyro.pitch", lambda v, most=most: np.clip(v, -most, most)))
    for run in (3, 4, 5):
        spikes = np.zeros(12_000, bool)
        spikes[1000 : 1000 + run] = spikes[6000 : 6000 + run] = True
        tried(f"runs of {run}", ("gyro.yaw", lambda v, spikes=spikes: np.where(spikes, 2000.0, v)))
    for step in (1, 4, 7, 9, 12, 40):
        tried(f"steps of {step}", ("gyro.roll", lambda v, step=step: (np.rint(v / step) * step).astype(np.int32)))
    for mixed in (0.2, 0.4, 0.6, 0.7, 0.8, 1.0):
        other = 200 * np.sin(2 * np.pi * (0.5 + 1 / 3) * np.arange(12_000) / 1000)
        tried(f"mirrored {mixed}", ("gyro.roll", lambda v, mixed=mixed: (1 - mixed) * v * 0.5 - mixed * v))
        tried(f"swapped {mixed}", ("gyro.roll", lambda v, mixed=mixed, other=other: (1 - mixed) * v + mixed * other))
    for jitter in (0.1, 0.19, 0.21, 0.4):
        steps = np.random.default_rng(1).normal(0, jitter, 12_000).clip(-0.9, 2)
        tried(f"jitter {jitter}", ("t", lambda t, steps=steps: np.cumsum(1 + steps) / 1000))
    for size in (0.9, 1.0, 1.1, 1.5, 99.0, 101.0, 1200.0):
        for role in ("throttle", "motor.1", "stick.roll", "term_p.roll", "accel.x", "gyro_raw.roll", "motor_rpm.1"):
            tried(f"{role} of {size}", (role, lambda v, size=size: size * np.sin(np.arange(v.size) / 50)))
    for share in (0.001, 0.01, 0.05, 0.3, 0.99, 1.0):
        missing = np.random.default_rng(2).random(12_000) < share
        tried(f"missing {share}", ("gyro.roll", lambda v, missing=missing: np.where(missing, np.nan, v)))
    for rate_hz, n in ((10.0, 400), (19.0, 700), (21.0, 700), (1000.0, 3), (1000.0, 300)):
        tried(f"at {rate_hz} for {n}", ("gyro.roll", lambda v: -v), rate_hz=rate_hz, n=n)
    return found


def speeds() -> Any:
    """Motor speeds from their lines: frames with throttle that moves more and less, other fillings and packs."""
    found: dict[str, Any] = {}
    recording = Recording.of(flown(5).channels, sample_rate_hz=2000.0)
    kept = {role: values for role, values in recording.channels.items() if not role.startswith("motor_rpm")}
    for name, start_s, end_s, without in (
        ("whole", 2.5, 28.0, ()), ("short", 5.0, 12.0, ()), ("shorter", 8.0, 12.0, ()), ("from start", 0.0, 9.0, ()),
        ("no throttle", 2.5, 28.0, ("throttle",)), ("no pack", 2.5, 28.0, ("battery",)),
        ("no accelerometer", 2.5, 20.0, ("accel",)),
        ("one axis", 2.5, 20.0, ("gyro_raw.pitch", "gyro_raw.yaw", "gyro.pitch", "gyro.yaw", "accel")),
        ("no motors", 2.5, 28.0, ("motor",)),
    ):  # fmt: skip
        channels = {role: values for role, values in kept.items() if not role.startswith(without or ("-",))}
        part = Recording.of(channels, sample_rate_hz=2000.0).span(start_s, end_s)
        frames = told(lambda part=part: frames_of(part))
        if not isinstance(frames, str):
            law, track = speed_law(frames), rotor_track(frames)
            found[name] = [frames.t_s, frames.is_calm, frames.is_low, frames.throttle, frames.motors, frames.voltage, law, track]
        masks = [usable_mask(part, axis, mixer=mixer) for axis in ("roll", "yaw") for mixer in (MIXER, None, MIXER[:4])]
        found[f"{name}, authority"] = [[*masks], [lost_share(part, mask) for mask, _ in masks]]
    for limit in (0.4, 0.6, 0.95):
        channels = {role: np.clip(values, 0, limit) if role.startswith("motor.") else values for role, values in kept.items()}
        part = Recording.of({**channels, "term_d.roll": 8 * kept["term_d.roll"]}, sample_rate_hz=2000.0)
        mask, _ = usable_mask(part, "roll", mixer=MIXER)
        found[f"limited to {limit}"] = [mask, lost_share(part, mask)]
    return found


def step_responses() -> Any:
    """Loops of second order with known damping, and noise that drowns them bit by bit."""
    rng = np.random.default_rng(6)
    found: dict[str, Any] = {}
    for rate_hz in (500.0, 2000.0):
        n = int(24 * rate_hz)
        moves = np.repeat(rng.normal(0, 200, n // int(0.4 * rate_hz)), int(0.4 * rate_hz))
        asked = np.convolve(moves, np.ones(int(0.03 * rate_hz)) / int(0.03 * rate_hz), mode="same")
        for damping in (0.25, 0.5, 0.9):
            wn, x, speed = 2 * np.pi * 9, 0.0, 0.0
            answer = np.zeros(asked.size)
            for k in range(asked.size):
                speed += (wn**2 * (asked[k] - x) - 2 * damping * wn * speed) / rate_hz
                x += speed / rate_hz
                answer[k] = x
            for noise in (4.0, 20.0, 120.0):
                use = np.ones(asked.size, bool)
                use[: asked.size // 3 if noise == 20.0 else 0] = False
                noisy = answer + rng.normal(0, noise, asked.size)
                found[f"{rate_hz} {damping} {noise}"] = told(
                    lambda noisy=noisy, use=use, rate_hz=rate_hz, asked=asked: step_response(
                        asked, noisy, use, sample_rate_hz=rate_hz
                    )
                )
    return found


def spans_of_logs() -> Any:
    recording = Recording.of({"gyro.roll": np.arange(1000.0)}, sample_rate_hz=100.0, start_s=2.0)
    edges = ((0.0, 3.0), (2.0, 12.0), (4.004, 4.006), (5.0, 99.0), (11.0, 1.0), (2.5, 2.5))
    found: dict[str, Any] = {str(edge): [recording.span(*edge), recording.span(*edge).duration_s] for edge in edges}
    raw = read_raw(log_file(5))
    log = interpret(raw, propose(raw))
    found["main"] = [log.main.n_samples, [stream.n_samples for stream in log.streams]]
    channel = Channel(
        role=None, name="n", unit="", samples=np.array([1, 2, 900], np.int16), divisor=100.0, factor=3.0, offset=-1.0
    )
    found["values"] = channel.values()
    return found


SWEEPS: dict[str, Callable[[], Any]] = {
    "faint faults": faint_faults, "evidence": evidence, "single signs": single_signs, "bench sums": sums_of_the_bench,
    "controllers": controllers, "proposals": proposals, "doubts": doubts, "speeds": speeds, "step responses": step_responses,
    "spans": spans_of_logs,
}  # fmt: skip
