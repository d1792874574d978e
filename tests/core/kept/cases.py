"""Numbers that core gives for fixed input, room by room: what must not move unless somebody means to move it.

`python -m tests.core.kept.cases` writes them anew, after the difference was looked at and belongs to the change.
"""

import dataclasses
import json
import math
from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.loop import LOOP
from nembrit.core.analysis.run import MULTIROTOR, analyse
from nembrit.core.filters.chain import chain_response, chain_sos, dc_delay_s
from nembrit.core.filters.sections import FilterSection
from nembrit.core.formats.registry import read_raw
from nembrit.core.manoeuvres.alignment import align, align_manoeuvres
from nembrit.core.manoeuvres.detect import manoeuvres
from nembrit.core.manoeuvres.phases import phases_of
from nembrit.core.noise.allan import allan_deviation, drift_with_temperature, rest_noise
from nembrit.core.recognise import scales
from nembrit.core.recognise.propose import propose
from nembrit.core.records import units
from nembrit.core.records.interpret import interpret
from nembrit.core.records.log import Recording
from nembrit.core.records.quality import quality_notes
from nembrit.core.setup.cards import CARDS
from nembrit.core.simulate.airframe import Faults, SecondGyro, World, airframe_of, vary
from nembrit.core.simulate.flight import fly
from nembrit.core.simulate.position import record_path
from nembrit.core.trials.welch import detectable_difference, flights_needed, holm_adjusted, power, welch_test
from tests.core.kept.advice import ADVICE
from tests.core.kept.binary import BINARY
from tests.core.kept.edges import EDGES
from tests.core.kept.parts import PARTS
from tests.core.kept.planes import PLANES
from tests.core.kept.readings import READINGS
from tests.core.kept.rules import RULES
from tests.core.kept.store import COARSE, save
from tests.core.kept.sweeps import SWEEPS
from tests.core.recognise.test_more_dialects import DIALECTS as MORE
from tests.dialects import DIALECTS
from tests.flying import CARD, HEX, controller, flown, log_file

FACTS = CraftFacts(kind="multirotor", mixer=HEX.mixer(), blades=3)
FAULTS: dict[str, dict[str, Any]] = {
    "sound": {},
    "loose and ringing": {"loose_mount": 0.6, "resonance_factor": 2.5},
    "propeller and axis": {"propeller_motor": 3, "noisy_axis": "pitch"},
    "bearing and spikes": {"bearing_motor": 2, "spike_axis": "roll"},
}


def summed(value: Any) -> Any:
    """Plain data with arrays as a few numbers that depend on every sample."""
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {field.name: summed(getattr(value, field.name)) for field in dataclasses.fields(value)}
    if isinstance(value, dict):
        return {str(key): summed(part) for key, part in value.items()}
    if isinstance(value, np.ndarray):
        return _of_array(value)
    if isinstance(value, (list, tuple)):
        return [summed(part) for part in value]
    if isinstance(value, (float, np.floating)):
        return float(f"{value:.7g}") if math.isfinite(value) else str(value)
    if isinstance(value, complex):
        return [summed(value.real), summed(value.imag)]
    return (
        int(value)
        if isinstance(value, np.integer)
        else value
        if isinstance(value, (str, bool, int)) or value is None
        else str(value)
    )


def _of_array(values: Any) -> list[Any]:
    numbers = np.asarray(values)
    if numbers.dtype.kind in "USO":
        return [str(part) for part in numbers.ravel()[:20]]
    numbers = np.nan_to_num(
        np.abs(numbers) if numbers.dtype.kind == "c" else numbers.astype(np.float64), posinf=1e9, neginf=-1e9
    ).ravel()
    if numbers.size <= 12:
        return [summed(float(number)) for number in numbers]
    weight = np.sin(0.7 * np.arange(numbers.size)) + 1.1
    return [
        numbers.size,
        summed(float(numbers.mean())),
        summed(float(numbers.std())),
        summed(float(numbers @ weight / numbers.size)),
    ]


def _world(**faults: Any) -> World:
    return World(seed=3, wind_m_s=2.0, faults=Faults(**faults), second_gyro=SecondGyro(noise_factor=1.5) if not faults else None)


@lru_cache
def _recording(name: str) -> Recording:
    flight = fly(HEX, controller(), CARD, _world(**FAULTS[name]))
    return Recording.of(flight.channels, sample_rate_hz=2000.0)


def analysis(name: str) -> Any:
    """Everything that one simulated flight answers: noise, rotors, spectra, response, causes, metrics, maps."""
    recording = _recording(name)
    if name == "bearing and spikes":  # nobody records motor speeds there, and the raw gyro is missing
        kept = {role: values for role, values in recording.channels.items() if not role.startswith(("motor_rpm", "gyro_raw"))}
        recording = Recording.of(kept, sample_rate_hz=2000.0)
    flight = Flight(recording.span(2.5, 28.0), craft=FACTS, spans=manoeuvres(recording))
    return summed(analyse(flight, only=[one.key for one in MULTIROTOR if one is not LOOP]))


def loops_of(name: str) -> Any:
    """Margins, following and tracking of one flight: found by search, so that the last digits are the machine's own."""
    recording = _recording(name)
    flight = Flight(recording.span(2.5, 28.0), craft=FACTS, spans=manoeuvres(recording))
    found = analyse(flight, only=["loop"]).loop
    assert found is not None
    keep = (
        "phase_margin_deg", "gain_margin_db", "sensitivity_peak", "bandwidth_hz", "rise_time_s", "delay_s", "gains", "peak_db",
        "handling_bandwidth_hz", "phase_delay_s", "crossover_hz", "settling_time_s", "lag_and_delay_s", "by_throttle",
    )  # fmt: skip
    return summed(
        {axis: {key: getattr(own, key) for key in keep} for axis, own in found.axes.items()}
        | {"tracking": found.tracking, "authority": found.authority, "scores": found.scores, "swings": found.oscillations}
        | {"reasons": found.reasons}
    )


def simulated() -> Any:
    """Channels of flights with every card, by every fault, and the path of one."""
    found = {}
    for card in CARDS:
        flight = fly(HEX, controller(), card, World(seed=8, wind_m_s=3.0))
        found[card.key] = {role: summed(values) for role, values in sorted(flight.channels.items())}
    for name in FAULTS:
        found[name] = {role: summed(values) for role, values in sorted(_recording(name).channels.items())}
    frame = airframe_of(HEX)
    found["frames"] = summed([frame, vary(frame, np.random.default_rng(4))])
    found["path"] = summed(record_path(flown(5), home_deg=(52.1, -2.3), rate_hz=20.0, late_s=0.9, skew_ppm=40.0, seed=2))
    return found


def pilot_moves() -> Any:
    """Phases, manoeuvres and the alignment of two logs and two flights."""
    first = Recording.of(flown(1).channels, sample_rate_hz=2000.0)
    other = Recording.of(flown(5).channels, sample_rate_hz=2000.0)
    sticks = {role: values[3000::4] for role, values in first.channels.items() if role.startswith(("stick", "throttle", "gyro."))}
    late = Recording.of(sticks, sample_rate_hz=500.0 * (1 - 60e-6), start_s=0.2)
    full = fly(HEX, controller(), next(card for card in CARDS if card.key == "full"), World(seed=9))
    whole = Recording.of(full.channels, sample_rate_hz=2000.0)
    return summed(
        {
            "phases": phases_of(first), "spans": manoeuvres(first), "full": manoeuvres(whole), "aligned": align(first, late),
            "matched": align_manoeuvres(first, manoeuvres(first), other, manoeuvres(other)),
        }
    )  # fmt: skip


def tables() -> Any:
    """What the recogniser makes of many people's tables, and what is left of them."""
    found = {}
    files = {make.__name__: make()[0] for make in MORE[::5]} | {
        name: DIALECTS[name](flown(5)).content for name in ("german", "terse")
    }
    for name, content in files.items():
        raw = read_raw(content)
        mapping = propose(raw)
        log = interpret(raw, mapping)
        found[name] = summed(
            {
                "understood": raw.understood, "preamble": raw.preamble, "mapping": mapping.as_json(),
                "channels": {f"{number}.{channel.role}": channel.values() for number, stream in enumerate(log.streams)
                             for channel in stream.channels if channel.role},
                "quality": [(note.code, note.column, note.detail) for note in quality_notes(log)],
            }
        )  # fmt: skip
    return found


def broken_logs() -> Any:
    """Notes about logs with jumps, gaps, stuck, clipped and coarse channels."""
    lines = log_file(5).decode().splitlines()
    rows = [line.split(",") for line in lines[1:12000]]
    for k in range(3000, 3400):
        rows[k][1] = rows[3000][1]
    for k in range(5000, 7000):
        rows[k][2] = str(max(-60.0, min(60.0, float(rows[k][2]))))
    for row in rows:
        row[3] = str(round(float(row[3]) / 5) * 5)
    broken = [*rows[:2000], *rows[2100:4000], rows[3990], *rows[4000:]]
    raw = read_raw("\n".join([lines[0].replace("[", "(").replace("]", ")"), *(",".join(row) for row in broken)]).encode())
    log = interpret(raw, propose(raw))
    return summed(
        [(note.code, note.column, note.detail, note.start_s, note.end_s) for note in (*log.quality, *quality_notes(log))]
    )


def scales_and_units() -> Any:
    """Guesses of scales at both sides of every edge, and every unit."""
    rng = np.random.default_rng(6)
    shape = np.sort(rng.normal(0, 1, 400))
    found: dict[str, Any] = {}
    for name in ("share_scale", "stick_scale", "rate_scale", "voltage_scale", "angle_scale", "speed_scale"):
        guess = getattr(scales, name)
        for top in (
            0.4,
            0.9,
            1.0,
            1.3,
            3.0,
            4.1,
            7.0,
            12.0,
            45.0,
            99.0,
            100.0,
            128.0,
            181.0,
            250.0,
            360.0,
            512.0,
            999.0,
            1000.0,
            1500.0,
            2000.0,
            2048.0,
            33000.0,
        ):
            for low in (0.0, -1.0, 0.5):
                spread = top * (low + (1 - low) * (shape - shape.min()) / np.ptp(shape))
                found[f"{name} {low} {top}"] = summed([guess(spread), guess(np.rint(spread))])
    for norm in (0.5, 0.9, 1.0, 1.1, 9.0, 9.81, 10.2, 90.0, 981.0, 1000.0, 2048.0, 4096.0, 16384.0):
        found[f"accel {norm}"] = summed([scales.accel_factor(norm), scales.accel_factor(norm, is_counted=True)])
    for text in (
        "deg/s",
        "rad/s",
        "mdeg/s",
        "°/s",
        "m/s²",
        "g",
        "mg",
        "V",
        "mV",
        "dV",
        "A",
        "cA",
        "%",
        "ms",
        "µs",
        "s",
        "ns",
        "rpm",
        "Hz",
        "°C",
        "m",
        "km/h",
        "kn",
        "ft",
    ):
        found[f"unit {text}"] = summed(
            [
                units.units_of(text),
                sorted(units.kinds_of(text)),
                units.split_header(f"name [{text}]"),
                units.split_header(f"name ({text})"),
            ]
        )
    for role, text in (
        ("gyro.roll", "rad/s"),
        ("gyro.roll", "0.061"),
        ("throttle", "µs"),
        ("motor.1", "%"),
        ("accel.x", "g"),
        ("battery_voltage", "mV"),
    ):
        factor, offset = units.parse_scale(role, text)
        found[f"scale {role} {text}"] = summed([factor, offset, units.scale_text(role, factor, offset)])
    return found


def sums() -> Any:
    """Filters, Allan deviation, and the statistics of trials."""
    rng = np.random.default_rng(12)
    rate = rng.normal(0, 0.2, 60_000) + 0.01 * np.cumsum(rng.normal(0, 0.01, 60_000))
    grid = np.array([1.0, 20.0, 90.0, 180.0, 400.0])
    found: dict[str, Any] = {}
    for kind, given in (("lowpass_1", {}), ("lowpass_2", {"q": 0.7}), ("notch", {"q": 3.0})):
        section = FilterSection(kind=kind, frequency_hz=120.0, **given)
        sos = chain_sos([section], sample_rate_hz=2000.0)
        found[kind] = summed(
            [sos, chain_response(sos, grid, sample_rate_hz=2000.0).tolist(), dc_delay_s(sos, sample_rate_hz=2000.0)]
        )
    found["allan"] = summed([allan_deviation(rate, sample_rate_hz=500.0), rest_noise(rate, sample_rate_hz=500.0)])
    warm = 20 + np.linspace(0, 12, rate.size)
    found["drift"] = summed(drift_with_temperature(rate + 0.05 * warm, warm, sample_rate_hz=500.0))
    before, after = rng.normal(1, 0.2, 5), rng.normal(0.8, 0.1, 7)
    found["welch"] = summed([welch_test(before, after), holm_adjusted([0.01, 0.2, 0.03])])
    for one_sided in (True, False):
        found[f"power {one_sided}"] = summed(
            [
                power(0.2, sd=0.1, n_before=4, n_after=5, one_sided=one_sided),
                detectable_difference(sd=0.1, n_before=4, n_after=5, one_sided=one_sided),
                flights_needed(0.2, sd=0.1, one_sided=one_sided),
            ]
        )  # fmt: skip
    return found


_OTHERS = PARTS | SWEEPS | RULES | ADVICE | EDGES | READINGS | BINARY | PLANES
CASES: dict[str, Callable[[], Any]] = {
    **{f"analysis, {name}": lambda name=name: analysis(name) for name in FAULTS},  # type: ignore[misc]  # each with its own name
    **{f"{COARSE}{name}": lambda name=name: loops_of(name) for name in ("sound", "loose and ringing")},  # type: ignore[misc]  # likewise
    "simulate": simulated, "manoeuvres": pilot_moves, "tables": tables, "broken logs": broken_logs,
    "scales and units": scales_and_units, "sums": sums,
    **{name: lambda part=part: summed(part()) for name, part in _OTHERS.items()},  # type: ignore[misc]  # likewise
}  # fmt: skip


if __name__ == "__main__":
    for name, case in CASES.items():
        save(name, json.loads(json.dumps(case())))
