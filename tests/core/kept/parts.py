"""Kept numbers of single functions on made-up input that comes near their edges."""

import io
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np

from nembrit.core.causes.sight import Sight
from nembrit.core.errors import CoreError
from nembrit.core.formats import gpx, nmea
from nembrit.core.formats.dialect import dialect_of
from nembrit.core.formats.give import WRITERS, GivenColumn, to_geojson
from nembrit.core.formats.registry import format_of, read_raw
from nembrit.core.manoeuvres.alignment import align
from nembrit.core.manoeuvres.detect import manoeuvres
from nembrit.core.manoeuvres.phases import phases_of
from nembrit.core.noise.allan import allan_deviation
from nembrit.core.noise.sensors import chip_ringing, shared_ringing
from nembrit.core.noise.spikes import spikes_of
from nembrit.core.recognise.clock import clock_of_table
from nembrit.core.recognise.names import guesses_of
from nembrit.core.records.interpret import straightened
from nembrit.core.records.log import Channel, Recording, Stream
from nembrit.core.records.mapping import ClockUse, TableMapping
from nembrit.core.records.raw import RawColumn, RawTable
from nembrit.core.records.relations import likeness, middle_rows, roughness
from nembrit.core.records.timebase import clock_notes, clock_of, thinned, uniform
from nembrit.core.records.units import split_header
from nembrit.core.response.loop import chain_delay_s, idle_ratio, integral_over_proportional, oscillation, slow_error_dps
from nembrit.core.setup.controller import controller_from_json, controller_to_json
from nembrit.core.setup.craft import LAYOUTS, craft_from_json, craft_to_json, layout_motors
from nembrit.core.setup.pasted import read_pasted
from nembrit.core.spectra.density import Spectrum
from nembrit.core.trials.counting import FlownFlight, standings
from nembrit.core.trials.looks import boundaries, levels_of, spent
from nembrit.core.trials.permutation import permutation_test
from nembrit.core.trials.plan import Limit, Plan, Primary
from nembrit.core.trials.trial import judge
from tests.flying import HEX, controller, flown

NAMES = (
    "time|t|Zeit|ticks|count|loop count|gyro x|gyro y|gyro z|acc x|acc y|acc z|roll rate|pitch rate|yaw rate|"
    "roll rate target|pitch rate target|yaw rate target|roll|pitch|yaw|roll angle|wanted roll angle|stick roll|"
    "stick pitch|stick yaw|stick t|throttle|gas|motor 1|motor 2|motor 3|motor 4|m5|rpm motor 1|motor speed 2|servo 1|"
    "output 3|mix roll|roll out|out pitch|P roll|I roll|D roll|F roll|pterm x|kp roll|gain yaw|battery|U_bat|I_bat|"
    "voltage|current|amps|lat|lon|alt|ground speed|speed|course|heading|wanted heading|mode|event|gyro temp|"
    "baro temperature|imu temperature|w x|a x|omega_z|phi_dot|cmd roll|cmd roll rate|command g x|second gyro x|"
    "gyro x 2|filtered gyro roll|raw gyro roll|unfiltered rate yaw|velocity|velocity angular roll|error roll|x|y|z|p|"
    "q|r"
).split("|")
UNITS = ("", "deg/s", "rad/s", "m/s²", "g", "%", "V", "A", "ms", "rpm", "°C", "deg", "µs", "m/s")


TABLES = (
    "a,b\n1,2\n3,4\n",
    "a;b\n1,5;2\n3,5;4\n",
    "x y\n1 2\n3 4\n",
    "# k: v\n# a,b\n1,2\n3,4\n",
    "a\tb\n[s]\t[V]\n1\t2\n3\t4\n",
    "1,2\n3,4\n5,6\n",
    "made at 9\nrate 500 Hz\n\na,b,\n1,2,\n3,4,\n",
    '"a;1";b\n1;"2"\n3;4\n',
    "a,b\n1,\n,4\nnan,5\n",
    "t,long\n1,12345678901234567\n2,12345678901234568\n",
)


def _told(call: Callable[[], Any]) -> Any:
    try:
        return call()
    except CoreError as error:
        return f"refused: {error}"


def names() -> Any:
    found = {}
    for unit in UNITS:
        for name in NAMES:
            guess = guesses_of((name,), (unit,))[0]
            found[f"{name} [{unit}]"] = [guess.role, guess.confidence, guess.state, guess.index]
    together = guesses_of(tuple(NAMES), ("",) * len(NAMES))
    written = ("gyro [deg/s]", "a (b)", "U_bat_V", "RPM motor", "speed m/s", "I", "tempC", "long name " * 9)
    headers = [split_header(text) for text in written]
    return {"alone": found, "together": [[one.role, one.confidence] for one in together], "headers": headers}


def _table(*columns: Any, names: tuple[str, ...] = (), units: tuple[str, ...] = ()) -> RawTable:
    return RawTable(
        columns=tuple(
            RawColumn(name=names[k] if names else f"c{k}", unit=units[k] if units else "", samples=np.asarray(values))
            for k, values in enumerate(columns)
        )
    )


def _clocks() -> Iterator[tuple[str, Any]]:
    n = np.arange(4000)
    yield "seconds", n / 1000
    yield "milliseconds", n * 2.0
    yield "microseconds", n * 500.0 + 3e6
    yield "nanoseconds", n * 1e6
    yield "counter", n
    yield "every eighth", n * 8
    yield "coarse", np.floor(n / 4) * 4
    yield "slow", n / 10
    yield "wraps", (n * 40) % 65536
    yield "restarts", np.where(n < 2000, n, n - 2000) / 1000
    yield "strays", np.where(n % 500 == 7, n - 30, n) / 1000
    yield "repeats", np.where(n % 300 == 9, n - 1, n) / 1000
    yield "gaps", (n + 200 * (n > 1500) + 5 * (n > 3000)) / 1000
    yield "uneven", np.cumsum(1 + 0.3 * np.sin(n)) / 1000
    yield "missing", np.where(n % 700 == 3, np.nan, n / 1000)


def clocks() -> Any:
    found: dict[str, Any] = {}
    value = np.sin(np.arange(4000) / 9)
    for name, ticks in _clocks():
        table = _table(ticks, value, names=("time", "gyro x"))
        guesses = guesses_of(("time", "gyro x"), ("", ""))
        nameless = guesses_of(("a", "b"), ("", ""))
        uses = [clock_of_table(table, guesses, rates) for rates in ((), (2000.0,))]
        uses.append(clock_of_table(_table(ticks, value), nameless, ()))
        parts: list[Any] = [uses]
        for unit_s in (1.0, 1e-3, 1e-6):
            meaning = TableMapping(clock=ClockUse(column=0, unit_s=unit_s, confidence=1.0), columns=())
            parts.append(_told(lambda meaning=meaning, table=table: straightened(table, meaning)))
        rising = np.unique(ticks[np.isfinite(ticks)]).astype(np.float64)
        stream = Stream(t_s=rising, channels=(Channel(role="gyro.roll", name="g", unit="deg/s", samples=np.sin(rising)),))
        parts += [_told(lambda rising=rising: clock_of(rising)), _told(lambda rising=rising: clock_notes(clock_of(rising)))]
        parts += [_told(lambda stream=stream: uniform(stream)), _told(lambda stream=stream: thinned(stream, most_hz=90.0).t_s)]
        found[name] = parts
    return found


def movements() -> Any:
    rng = np.random.default_rng(3)
    x = np.cumsum(rng.normal(0, 1, 6000))
    pairs = {
        "same": x, "late": np.roll(x, 12), "turned": -2 * x, "noisy": x + rng.normal(0, 20, x.size),
        "other": rng.normal(0, 1, x.size),
        "still": np.zeros(x.size), "short": x[:40], "half missing": np.where(np.arange(x.size) % 2, np.nan, x),
    }  # fmt: skip
    found: dict[str, Any] = {}
    for name, y in pairs.items():
        found[name] = [_told(lambda y=y: likeness(x[: y.size], y, rate_hz=500.0)), _told(lambda y=y: roughness(y))]
    found["middle"] = [middle_rows(n) for n in (1, 100, 50_000, 3_000_000)]
    first = Recording.of(flown(5).channels, sample_rate_hz=2000.0)
    others = ((1000.0, 1.3, 40, "stick throttle"), (100.0, 2.6, -80, "stick"), (50.0, 0.7, 150, "gyro."))
    for rate_hz, late_s, ppm, families in others:
        t_s = np.arange(int(24 * rate_hz)) / rate_hz
        roles = [role for role in first.channels if role.startswith(tuple(families.split()))]
        there_s = t_s * (1 + ppm * 1e-6) + late_s
        own = {role: np.round(np.interp(there_s, flown(5).t_s, first.channels[role]), 3) for role in roles}
        other = Recording.of(own, sample_rate_hz=rate_hz)
        found[f"aligned {rate_hz}"] = _told(lambda other=other: align(first, other))
    return found


def stick_work() -> Any:
    """Throttle and set-points in steps and ramps of many sizes."""
    found = {}
    t_s = np.arange(24_000) / 1000
    for size in (0.1, 0.25, 0.5, 0.9):
        for length_s in (0.3, 1.0, 3.0, 8.0):
            on = (t_s > 6) & (t_s < 6 + length_s)
            flying = np.where((t_s > 2) & (t_s < 22), 0.35, 0.0)
            jump = np.where(on, 0.35 + 0.6 * size, flying)
            ramp = np.where(on, 0.3 + 0.65 * size * (t_s - 6) / length_s, flying)
            rate = np.where(on, 700 * size * np.sin(2 * np.pi * (t_s - 6) / length_s), 0.0)
            still = 0 * t_s
            moves = (("jump", jump, still), ("ramp", ramp, still), ("rate", flying, rate), ("stop", flying, np.abs(rate)))
            for name, throttle, roll in moves:
                channels = {
                    "throttle": throttle, "setpoint.roll": roll, "setpoint.pitch": 0 * t_s, "setpoint.yaw": roll / 3,
                    "gyro.roll": np.roll(roll, 20), "gyro.pitch": 0 * t_s, "gyro.yaw": np.roll(roll, 20) / 3,
                    **{f"motor.{k}": throttle for k in range(1, 5)},
                }  # fmt: skip
                recording = Recording.of(channels, sample_rate_hz=1000.0)
                found[f"{name} {size} {length_s}"] = [
                    [span.kind, span.axis, span.start_s, span.end_s] for span in manoeuvres(recording)
                ] + [phases_of(recording).windows_s]
    return found


def loops() -> Any:
    rng = np.random.default_rng(8)
    t_s = np.arange(40_000) / 2000
    asked = 90 * np.sin(2 * np.pi * 0.8 * t_s) + np.cumsum(rng.normal(0, 1, t_s.size)) / 9
    found: dict[str, Any] = {}
    for swing_hz, swing in ((12.0, 4.0), (25.0, 9.0), (60.0, 2.0), (94.0, 6.0), (0.0, 0.0)):
        raw = np.roll(asked, 30) + swing * np.sin(2 * np.pi * swing_hz * t_s) + rng.normal(0, 2, t_s.size)
        channels = {
            "setpoint.roll": asked, "gyro_raw.roll": raw, "gyro.roll": np.convolve(raw, np.ones(7) / 7)[: raw.size],
            "term_p.roll": 0.001 * (asked - raw), "term_i.roll": np.cumsum(asked - raw) * 1e-6,
            "throttle": np.where((t_s > 9) & (t_s < 12), 0.0, 0.4),
        }  # fmt: skip
        recording = Recording.of(channels, sample_rate_hz=2000.0)
        everywhere = np.ones(t_s.size, bool)
        whole = Recording.of(channels | {f"setpoint.{axis}": 0 * t_s for axis in ("pitch", "yaw")}, sample_rate_hz=2000.0)
        spans = list(manoeuvres(whole))
        found[str(swing_hz)] = [
            chain_delay_s(recording, "roll"),
            oscillation(recording, "roll", everywhere),
            slow_error_dps(recording, "roll", everywhere),
            integral_over_proportional(recording, "roll"),
            _told(lambda recording=recording, spans=spans: idle_ratio(recording, "roll", spans)),
        ]
    return found


def bumps_and_spikes() -> Any:
    rng = np.random.default_rng(5)
    grid = np.arange(501) * 2.0
    found: dict[str, Any] = {}
    for centre_hz in (140.0, 160.0, 250.0, 400.0, 415.0, 425.0, 480.0, 700.0):
        for rise in (1.5, 2.2, 8.0):
            shape = 10 ** (rise * np.exp(-(((grid - centre_hz) / 25) ** 2)) / 10) / (1 + (grid / (1.15 * centre_hz)) ** 12)
            one = Spectrum(frequency_hz=grid, psd_dps2_per_hz=shape + 1e-6, n_segments=40, n_effective=30.0)
            other = Spectrum(frequency_hz=grid * 1.05, psd_dps2_per_hz=shape * 1.5 + 1e-6, n_segments=40, n_effective=30.0)
            found[f"{centre_hz} {rise}"] = [chip_ringing(one), shared_ringing({"roll": one, "pitch": other})]
    noise = rng.normal(0, 3, 20_000)
    motor = np.where((np.arange(20_000) // 400) % 2 == 0, 0.3, 0.5)
    for every in (97, 400, 4000):
        spiky = noise.copy()
        spiky[2::every] += 240
        channels = {"gyro_raw.roll": spiky, "motor.1": motor}
        found[f"spikes {every}"] = spikes_of(Recording.of(channels, sample_rate_hz=2000.0), "roll")
    for n in (9, 30, 200, 5000):
        found[f"allan {n}"] = _told(lambda n=n: allan_deviation(noise[:n], sample_rate_hz=100.0))
    recording = Recording.of(flown(5).channels, sample_rate_hz=2000.0)
    sight = Sight(recording.span(3.0, 9.0), n_motors=6, blades=3)
    found["sight"] = [_told(lambda name=name: getattr(sight, name)) for name in ("gyro_roles", "track", "lines")]
    return found


def files() -> Any:
    t_s = np.arange(40) / 7
    words = ("a, b", 'c "d"')
    columns = [
        GivenColumn(role="gyro.roll", name="g", unit="deg/s", values=np.sin(t_s) * 1e3 / 7),
        GivenColumn(role=None, name="mode", unit="", values=np.arange(40.0) % 2, labels=words),
        GivenColumn(role=None, name="mode", unit="lx", values=np.where(np.arange(40) % 9 == 0, np.nan, t_s)),
        GivenColumn(role=None, name="mode", unit="lx", values=t_s),
    ]
    found: dict[str, Any] = {}
    for kind, write in WRITERS.items():
        content = write(t_s, columns)
        found[kind] = content.decode() if kind != "parquet" else [format_of(content[:4096]).key]
    found["places"] = to_geojson(50 + t_s / 1e4, -3 + t_s / 1e4, 100 + t_s, name="path").decode()
    body = [f"GPRMC,1203{k:02d}.5,A,5012.{k:04d},N,00301.{k:04d},W,12.{k},84.{k},170726,," for k in range(30)]
    body += [f"GPGGA,1203{k:02d}.5,5012.{k:04d},N,00301.{k:04d},W,1,08,0.9,10{k}.4,M,47.0,M,," for k in range(30)]
    sentences = "".join(f"${line}*{nmea.checksum(line)}\r\n" for line in sorted(body, key=lambda line: line.split(",")[1]))
    found["sentences"] = read_raw(sentences.encode()).tables
    begin = sentences[:300]
    for text in (begin, f"noise\n{begin}", "x" * 5000 + begin, "$GP", "", "<gpx>", "a,b\n1,2\n3,4\n"):
        head = text.encode()
        found[f"head {text[:12]!r} {len(text)}"] = [nmea.matches(head), gpx.matches(head), format_of(head).key]
    for text in TABLES:
        found[f"dialect {text[:14]!r}"] = _told(lambda text=text: dialect_of(text))
    broken = b"a,b,c\n" + b"".join(b"%d,%d,%d\n" % (k, 2 * k, 3 * k) if k % 41 else b"%d,%d\n" % (k, k) for k in range(900))
    found["rows of other lengths"] = [read_raw(broken).tables, read_raw(io.BytesIO(broken)).rows_dropped]
    found["pasted"] = read_pasted("[a]\nx = 1 # n\ny: 2\n[b]\nx\t3\nx 4\nwhat is this\nset z 5, 6\n")
    return found


def setups() -> Any:
    found: dict[str, Any] = {key: layout_motors(key) for key in LAYOUTS}
    bare = {"schema": "nembrit.craft/1", "name": "n", "kind": "multirotor", "motors": []}
    found["bare craft"] = craft_from_json(bare)
    found["craft"] = craft_to_json(HEX)
    for changes in ({}, {"smooth_gyro_hz": "0"}, {"d_on_roll": "0", "p_on_yaw": "99"}, {"smooth_d_hz": "60"}):
        made = _told(lambda changes=changes: controller(**changes))
        written = made if isinstance(made, str) else controller_to_json(made)
        found[f"controller {changes}"] = written if isinstance(written, str) else [written, controller_from_json(written)]
    return found


def verdicts() -> Any:
    found: dict[str, Any] = {
        "spent": [spent([0.3, 0.6, 1.0], level=0.05, kind=kind) for kind in ("cautious", "even")],
        "bounds": boundaries([0.01, 0.02, 0.05], [0.3, 0.6, 1.0]),
        "levels": [levels_of((4, 6), (3 / 70,)), levels_of((5, 8, 10), (12 / 252, 0.002)), levels_of((4,), ())],
    }
    rng = np.random.default_rng(2)
    for order, design in (("bbbbaaaa", "free"), ("baabbaab", "blocks"), ("babaabbaba", "pairs")):
        is_after = [letter == "a" for letter in order]
        values = rng.normal(0, 1, len(order)) - np.array(is_after)
        found[order] = [permutation_test(values, is_after, design=design, level=level) for level in (0.05, 0.2)]
    limits = (Limit(metric="overshoot.roll", most=0.03),)
    plan = Plan(primary=Primary(metric="motion_noise.roll", direction="lower"), limits=limits)
    for ratio in (0.6, 0.85, 1.0, 1.3):
        for scatter in (0.03, 0.3):
            flights = [
                FlownFlight(
                    number=k, is_after=k > 5,
                    metrics={name: (ratio if k > 5 else 1.0) * float(np.exp(scatter * rng.normal())) for name in
                             ("motion_noise.roll", "motor_roughness", "bounce_back.roll", "overshoot.roll")},
                )
                for k in range(1, 11)
            ]  # fmt: skip
            found[f"{ratio} {scatter}"] = judge(standings(flights, plan), plan)
    return found


PARTS: dict[str, Callable[[], Any]] = {
    "names": names, "clocks": clocks, "movements": movements, "stick work": stick_work, "loops": loops,
    "bumps and spikes": bumps_and_spikes, "files": files, "setups": setups, "verdicts": verdicts,
}  # fmt: skip
