"""Kept numbers of what the benches advise and write, of single signs, and of what files state about themselves."""

import itertools
from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np

from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import FlightResults, analyse
from nembrit.core.formats import nmea
from nembrit.core.formats.registry import read_raw
from nembrit.core.noise.rows import noise_rows
from nembrit.core.noise.sensors import BandRatio, attribute, band_ratios, chip_ringing, plainest, shared_ringing
from nembrit.core.recognise.preamble import scale_before
from nembrit.core.records.log import Recording
from nembrit.core.report.choosing import filters_document, prediction_document
from nembrit.core.report.documents import report_document
from nembrit.core.response.edge import ZONES, headline, room_of
from nembrit.core.response.oscillation import sustained
from nembrit.core.setup.cards import CARDS
from nembrit.core.simulate.airframe import World
from nembrit.core.simulate.flight import fly
from nembrit.core.spectra.density import Spectrum
from nembrit.core.spectra.frames import frames_of
from nembrit.core.tuning.best import CAUTIONS, best_gains, best_term, limits_for
from nembrit.core.tuning.classical import classical_gains
from nembrit.core.tuning.design import best_chain, target_for, trade_curve
from nembrit.core.tuning.flown import flown_loop
from nembrit.core.tuning.residual import check_of
from nembrit.core.tuning.whatif import Change
from nembrit.core.types import AXES
from tests.core.kept.sweeps import told
from tests.core.tuning.trying import BASE, ROTOR, bench, low, scaled
from tests.flying import HEX, controller


def benches() -> Any:
    """What the benches of filters and gains advise and write, over cautions, schools, pins and limits."""
    found: dict[str, Any] = {}
    for name, settings in (("sound", BASE), ("hot", scaled({axis: {"p": 1.9, "d": 1.7} for axis in AXES}))):
        one = bench(settings)
        for caution, pins in itertools.product(CAUTIONS, (frozenset(), frozenset({"d_term"}), frozenset({"gyro", "notches"}))):
            for school in ("as set", "chip", "software"):
                design = best_chain(one.task(pins), target_for(caution, 6.0), school)
                found[f"{name} {caution} {sorted(pins)} {school}"] = [design.chains, design.lag_deg, design.motor_rms]
        found[f"{name} targets"] = [target_for(caution, inch) for caution in CAUTIONS for inch in (2.5, 4.9, 5.0, 5.1, 8.0, 13.0)]
        curve = trade_curve(one.task(), "as set", 5)
        found[f"{name} trade"] = curve
        found[f"{name} check"] = check_of(one.noise, one.known)
        own = one.loop.axes["roll"]
        for caution, motors in itertools.product(CAUTIONS, (0.8, 1.0, 1.05, 3.0)):
            limits = limits_for(caution, motors)
            best = best_gains(own, "roll", limits, motor_ratio=lambda p, d: (p + d) / 2, flown=settings, step=one.steps["roll"])
            terms = [best_term(own, "roll", term, limits, flown=settings) for term in "if"]
            found[f"{name} best {caution} {motors}"] = [
                [best.p, best.d, best.bound_by, best.breaks, best.is_change], [[t.ratio, t.bound_by, t.is_change] for t in terms],
            ]  # fmt: skip
        found[f"{name} classical"] = classical_gains(own)
        found[f"{name} parts"] = flown_loop(own).loop()
        tried = [Change(gains={"roll": {term: ratio}}) for term, ratio in zip("pidfp", (0.6, 1.3, 0.7, 1.6, 4.0), strict=True)]
        tried.append(Change(chains=replace(settings, gyro=(low(90.0), ROTOR))))
        found[f"{name} predicted"] = [prediction_document(one, change) for change in tried]
        found[f"{name} filters"] = [
            filters_document(one, chains) for chains in (settings, replace(settings, gyro=(low(90.0), ROTOR)))
        ]
        rooms = [room_of(axis, loop) for axis, loop in one.loop.axes.items()]
        found[f"{name} edge"] = [rooms, headline(rooms, is_whole=True), ZONES]
    return found


@lru_cache
def _results() -> tuple[FlightResults, Flight]:
    flight = fly(HEX, controller(), next(card for card in CARDS if card.key == "response"), World(seed=21))
    own = Flight(
        Recording.of(flight.channels, sample_rate_hz=2000.0).span(2.5, 28.0), craft=CraftFacts(mixer=HEX.mixer(), blades=3)
    )
    return analyse(own), own


def documents() -> Any:
    results, flight = _results()
    log_part = {"window_s": [2.5, 28.0]}
    shown = {axis: {"p": 43.0, "i": 40.0, "d": 35.0, "f": 15.0} for axis in AXES}
    whole = report_document(
        results, log_part, spans=flight.spans, window_start_s=2.5, shown_gains=shown, recording=flight.recording
    )
    bare = report_document(replace(results, motors=None, loop=None), log_part, spans=flight.spans[:3], window_start_s=0.0)
    return {"whole": whole, "bare": bare}


def rows() -> Any:
    _, flight = _results()
    found: dict[str, Any] = {}
    for name, kept in (("all", ()), ("no throttle", ("throttle",)), ("no drive", ("throttle", "motor"))):
        channels = {role: values for role, values in flight.recording.channels.items() if not kept or not role.startswith(kept)}
        frames = frames_of(replace(flight.recording, channels=channels))
        assert frames is not None
        powers = {role: power for role, power in frames.power.items() if role.startswith("gyro")}
        for part in (powers, {role: power for role, power in powers.items() if role == "gyro.roll"}, {}):
            found[f"{name} {len(part)}"] = noise_rows(frames, part, None)
    return found


def gyros() -> Any:
    """Bumps at the end of the band, and two gyros against each other."""
    found: dict[str, Any] = {}
    f = np.arange(0, 1001, 4.0)
    for at, height, drop, width in itertools.product(
        (145.0, 152.0, 420.0, 838.0), (1.9, 2.4, 7.0), (4.0, 7.4, 25.0), (15.0, 50.0)
    ):
        level = np.where(f > at + width, -drop, 0.0) + height * np.exp(-(((f - at) / width) ** 2))
        found[f"ringing {at} {height} {drop} {width}"] = chip_ringing(_spectrum(f, level))
    for apart, other in itertools.product((0.0, 20.0, 30.0), (4.0, 8.9, 9.2)):
        spectra = {
            axis: _spectrum(f, np.where(f > 450, -25.0, 0.0) + height * np.exp(-(((f - 400 - shift) / 40) ** 2)))
            for axis, height, shift in (("roll", 4.0, 0.0), ("pitch", other, apart), ("yaw", 4.2, 1.0))
        }
        found[f"shared {apart} {other}"] = shared_ringing(spectra)
    first = _spectrum(f, 2.0 + 0 * f)
    for db in (-3.0, -1.0, 0.0, 1.6, 2.0, 2.6, 6.0):
        ratios = band_ratios(first, _spectrum(f, db + 0 * f))
        found[f"ratios {db}"] = [ratios, [one.is_different for one in ratios], plainest({"roll": ratios, "pitch": ratios[:1]})]
    made = [BandRatio(band="motion", ratio=r, interval=(r / 1.2, r * 1.2)) for r in (0.6, 0.9, 1.0, 1.15, 1.25, 2.0)]
    found["swaps"] = [attribute(before, after) for before in made for after in made]
    return found


def _spectrum(frequency_hz: Any, level_db: Any) -> Spectrum:
    return Spectrum(frequency_hz=frequency_hz, psd_dps2_per_hz=10 ** (level_db / 10), n_segments=60, n_effective=30.0)


def swings() -> Any:
    """Swings of every kind near the edges at which they are told, and what feeds them."""
    found: dict[str, Any] = {}
    t_s = np.arange(8000) / 1000.0
    rng = np.random.default_rng(6)
    quiet = rng.normal(0, 0.4, t_s.size)
    for hz, size, db_per_s, fed in itertools.product((3.0, 18.0, 60.0), (5.0, 11.0, 13.0, 30.0, 130.0), (0.0, 2.0, 5.0), "pidn"):
        grows = 10 ** (db_per_s * (t_s - 4) / 20)
        swing = size * grows * np.sin(2 * np.pi * hz * t_s)
        terms = {f"term_{term}.roll": 0.01 * swing * (1.0 if term == fed else 0.2) for term in "pid"} if fed != "n" else {}
        motors = {"motor.1": 0.4 + 0.06 * swing / 30 * (fed == "d")}
        channels = {"setpoint.roll": 0 * t_s, "gyro.roll": swing + quiet, "throttle": 0.4 + 0 * t_s, **terms, **motors}
        seen = sustained(Recording.of(channels, sample_rate_hz=1000.0), "roll")
        found[f"{hz} {size} {db_per_s} {fed}"] = seen and [
            seen.severity, seen.kind, seen.why, seen.frequency_hz, seen.amplitude_dps, seen.growth_db_per_s, seen.motors_rms,
            seen.lags_deg, seen.start_s, seen.end_s,
        ]  # fmt: skip
    return found


def stated() -> Any:
    """What preambles and sentences state, in many wordings."""
    lines = (
        "gyro scale: 16.4 LSB per deg/s|gyro scale: 0.061 deg/s per LSB|gyro sensitivity: 0.00106 rad/s / LSB|acc 1 g: 2048|"
        "acc_1g: 0|acc scale: 1/2048|gyro range: 2000 dps = 32768|gyro full scale: 2000 dps = 30000|gyro full scale: 9 dps = 256|"
        "gyro full scale: 100 = 128|rate command scale: 10|setpoint scale: 0.1|lsb per dps: 16.4|motor min: 1000;motor max: 2000|"
        "motor min: 2000;motor max: 1000|throttle low: 0;throttle high: 1023|gyro scale: -3|gyro scale: 1 LSB|gyro scale: 0.999|"
        "gyro: 16.4"
    )
    preambles = [tuple(tuple(pair.split(": ")) for pair in line.split(";")) for line in lines.split("|")]
    families = ("gyro", "gyro_raw", "accel", "setpoint", "motor", "throttle", "other")
    found: dict[str, Any] = {str(one): [scale_before(one, family) for family in families] for one in preambles}
    fix = "GPGGA,{t},4807.038,N,01131.000,E"
    bodies = {
        "usual": ["GPRMC,{t},A,4807.038,N,01131.000,E,022.4,084.4,230394,003.1,W", f"{fix},1,08,0.9,545.4,M,46.9,M,,"],
        "south": ["GNRMC,{t},A,4807.038,S,01131.000,W,1.0,359.9,310199,,", "GNVTG,054.7,T,034.4,M,005.5,N,010.2,K"],
        "void": ["GPRMC,{t},V,4807.038,N,01131.000,E,022.4,084.4,230394,,", f"{fix},0,03,9.9,545.4,M,,M,,"],
        "bad": ["GPRMC,{t},A,48x7,N,01131.000,E,022.4,084.4,230394,,", "GPGGA,{t},,,,,1,08,0.9,,M,,M,,"],
    }
    for name, body in bodies.items():
        for clocks in (
            ("120000.00", "120000.20", "120000.40"),
            ("235959.80", "000000.00", "000000.20"),
            ("120001", "120000", "120002"),
        ):
            lines = [line.format(t=t) for t in clocks * 1 for line in body]
            text = "".join(f"${line}*{nmea.checksum(line)}\r\n" for line in lines)
            for change in (text, text.replace("*", "*F", 1), text.replace("\r\n", "\n")):
                found[f"{name} {clocks[0]} {len(change)} {change[-1] == change[-2:]}"] = told(lambda c=change: _table_of(c))
    return found


def _table_of(text: str) -> Any:
    raw = read_raw(text.encode())
    return [
        [[column.name, column.unit, np.asarray(column.samples, float)] for column in table.columns] for table in raw.tables
    ], [[note.code, note.detail] for note in raw.notes]


ADVICE: dict[str, Callable[[], Any]] = {
    "benches": benches, "documents": documents, "rows": rows, "gyros": gyros, "swings": swings, "stated": stated,
}  # fmt: skip
