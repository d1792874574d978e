"""Kept numbers at the bounds of what is accepted, and of sums over made-up spectra, filters, loops and manoeuvres."""

import itertools
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
import scipy.signal

from nembrit.core.filters.chain import chain_response, chain_sos, dc_delay_s
from nembrit.core.filters.sections import FilterSection
from nembrit.core.filters.stated import fixed_response, lag_deg, rotor_response, stated_delay_s, whole_response
from nembrit.core.formats.registry import read_raw
from nembrit.core.manoeuvres.detect import hover_throttle, manoeuvres
from nembrit.core.noise.allan import drift_with_temperature, rest_noise
from nembrit.core.noise.bands import band_levels
from nembrit.core.noise.hump import hump_of
from nembrit.core.noise.peaks import largest_peaks
from nembrit.core.noise.resonance import resonance_near
from nembrit.core.noise.rest import is_at_rest
from nembrit.core.noise.roughness import output_roughness, rms_above
from nembrit.core.records.log import Recording
from nembrit.core.records.timebase import clock_notes, clock_of
from nembrit.core.response.authority import level_mask, lost_share, usable_mask
from nembrit.core.response.components import scores_of
from nembrit.core.response.following import following, step_frequencies, step_of
from nembrit.core.response.loop import chain_delay_s, idle_ratio
from nembrit.core.response.margins import margins
from nembrit.core.response.plant import Measured, Plant, fit_plant
from nembrit.core.response.spool import spool_ratio
from nembrit.core.response.tracking import authority, flies_itself_share, tracking
from nembrit.core.setup.card import card_from_json
from nembrit.core.setup.controller import Filter
from nembrit.core.setup.packs import (
    CHEMISTRIES,
    balanced_packs,
    endurance_s,
    imbalance,
    landing_pack_v,
    rest_state,
    rounds_that_fit,
)
from nembrit.core.simulate.airframe import World
from nembrit.core.simulate.plane.airframe import PlaneWorld
from nembrit.core.spectra.density import Spectrum, effective_averages, welch_spectrum
from nembrit.core.spectra.levels import folded, whitened
from nembrit.core.trials.arms import schedule
from nembrit.core.trials.plan import Limit, Plan, Primary
from nembrit.core.wing.gainflight import gain_flight
from nembrit.core.wing.mixing import Servo, joined, split
from nembrit.core.wing.returnrule import ReturnRule
from nembrit.core.wing.sight import heights_needed
from tests.core.kept.sweeps import told
from tests.flying import HEX


def _plan(n: int) -> Plan:
    return Plan(primary=Primary(metric="motor_roughness", direction="lower"), limits=(), flights_a_side=n)


def _card(**step: Any) -> Any:
    return card_from_json(
        {"name": "one", "manoeuvres": [{"kind": "hover", "name": "Hover", "seconds": 5.0, "text": "x", **step}]}
    )


def _fix(latitude: float, longitude: float) -> Any:
    points = "".join(f'<trkpt lat="{latitude}" lon="{longitude}"><time>2026-05-01T10:00:0{k}Z</time></trkpt>' for k in range(5))
    raw = read_raw(f'<gpx version="1.1"><trk><trkseg>{points}</trkseg></trk></gpx>'.encode())
    return [len(raw.tables), [note.code for note in raw.notes]]


def _seen(**radio: float) -> Any:
    return heights_needed(np.arange(4) * 200.0, np.zeros(4), **radio)


BOUNDS: Mapping[str, tuple[Callable[[float], Any], tuple[float, ...]]] = {
    "wind": (lambda x: World(wind_m_s=x).wind_m_s, (-0.01, 0.0, 25.0, 25.01)),
    "charge": (lambda x: World(pack_charge_ratio=x).pack_charge_ratio, (0.099, 0.1, 1.0, 1.001)),
    "wind of a plane": (lambda x: PlaneWorld(seed=1, wind_m_s=x).wind_m_s, (-0.01, 0.0, 12.0, 12.01)),
    "flights per side": (lambda x: _plan(int(x)).flights_a_side, tuple(range(2, 18))),
    "limit": (lambda x: Limit(metric="overshoot.roll", most=x).in_words, (-0.1, 0.0, 0.001, 0.5, 1.0, 5.0, 5.1)),
    "arms": (lambda x: schedule(int(x), 4, "random", seed=1), (1, 2, 3, 4, 5, 6, 7)),
    "flights per variant": (lambda x: schedule(2, int(x), "blocks", seed=1), (0, 1, 2, 3, 4, 20, 40, 41)),
    "cells": (lambda x: rest_state(3.8 * x, cells=int(x), chemistry="lipo").word, (0, 1, 14, 15)),
    "seconds": (lambda x: _card(seconds=x).manoeuvres, (0.49, 0.5, 600.0, 600.1)),
    "size": (lambda x: _card(size_ratio=x).manoeuvres, (-0.01, 0.0, 1.0, 1.01)),
    "skill": (lambda x: _card(skill=int(x)).manoeuvres, (0, 1, 3, 4)),
    "height": (lambda x: _card(height_m=[x, 20.0]).manoeuvres, (-1.0, 0.0, 19.9, 20.0, 21.0)),
    "latitude": (lambda x: _fix(x, 10.0), (-90.1, -90.0, 90.0, 90.1)),
    "longitude": (lambda x: _fix(10.0, x), (-180.1, -180.0, 180.0, 180.1)),
    "centre": (lambda x: Servo(centre_us=x).pulse_us(0.5), (499.0, 500.0, 2500.0, 2501.0)),
    "throw": (lambda x: Servo(throw_us=x).deflection(1600.0), (49.0, 50.0, 1000.0, 1001.0)),
    "antenna": (lambda x: _seen(antenna_m=x, frequency_mhz=900.0), (-1.0, 0.0, 500.0, 501.0)),
    "frequency": (lambda x: _seen(antenna_m=2.0, frequency_mhz=x), (9.0, 10.0, 1e5, 1.1e5)),
    "clock": (lambda x: clock_notes(clock_of(np.arange(300) * x)), (9e-6, 1.1e-5, 0.9, 1.1, 12.0)),
    **{f"return {name}": (lambda x, name=name: ReturnRule(**{name: x}), (-1.0, 0.0, 0.9, 1.0, 4.0, 5.0, 100.0, 400.0, 601.0, 5e3))
       for name in ("turns_within_s", "lowest_m", "clear_by_m", "ends_within_m", "overshoot_most_m")},
}  # fmt: skip


def bounds() -> Any:
    return {f"{name} {x}": told(lambda call=call, x=x: call(x)) for name, (call, tried) in BOUNDS.items() for x in tried}


def packs() -> Any:
    found: dict[str, Any] = {}
    for chemistry in CHEMISTRIES:
        volts = [2.4 + 0.05 * k for k in range(42)]
        found[chemistry] = [told(lambda v=v, c=chemistry: rest_state(4 * v, cells=4, chemistry=c)) for v in volts]
        found[f"{chemistry} land"] = [landing_pack_v(cells, chemistry) for cells in (1, 4, 6)]
    found["endurance"] = [told(lambda a=a: endurance_s(1300.0, a)) for a in (0.0, 0.5, 12.0, 200.0)]
    usual = [300.0, 280.0, 310.0]
    found["rounds"] = [rounds_that_fit(usual[:n], test) for test in (20.0, 64.0, 140.0, 250.0, 400.0) for n in (0, 1, 3)]
    arms = "abbaabba"
    found["packs"] = [balanced_packs(arms, names) for names in (("one",), ("one", "two"), ("one", "two", "three"))]
    found["imbalance"] = [imbalance(arms, own) for own in found["packs"]]
    return found


def _spectrum(f: Any, level_db: Any) -> Spectrum:
    return Spectrum(frequency_hz=f, psd_dps2_per_hz=10 ** (np.asarray(level_db) / 10), n_segments=60, n_effective=30.0)


def spectra() -> Any:
    """Bumps of every place, height and width over a falling floor: peaks, bands, humps, resonances."""
    found: dict[str, Any] = {}
    f = np.arange(0, 501, 2.0)
    for at, height, width in itertools.product((19.0, 34.0, 60.0, 118.0, 135.0, 300.0), (4.0, 5.9, 6.3, 12.0), (4.0, 14.0, 40.0)):
        level = -0.01 * f + height * np.exp(-(((f - at) / width) ** 2))
        one = _spectrum(f, level)
        found[f"{at} {height} {width}"] = [largest_peaks(one), hump_of(one), [level.rms_dps for level in band_levels(one)]]
    rng = np.random.default_rng(4)
    for damping, noise in itertools.product((0.02, 0.08, 0.3), (0.1, 0.8)):
        gain = 1 / ((1 - (f / 90.0) ** 2) ** 2 + (2 * damping * f / 90.0) ** 2)
        power = (1 + gain)[None, :] * rng.gamma(1 / noise**2, noise**2, (200, f.size))
        mask = np.abs(f[None, :] - rng.uniform(60, 200, 200)[:, None]) < 8
        found[f"resonance {damping} {noise}"] = [resonance_near(power, mask, f, near) for near in (70.0, 88.0, 93.0, 140.0)]
        found[f"whitened {damping} {noise}"] = whitened(power[:4], bin_hz=2.0)
    found["folded"] = folded(np.linspace(0, 5000, 41), 1000.0)
    window = scipy.signal.get_window("hann", 200)
    found["averages"] = [effective_averages(n, window, overlap_ratio=overlap) for n in (1, 3, 40) for overlap in (0.0, 0.5, 0.75)]
    signal = rng.normal(0, 2, 6000)
    for name, gaps in (("whole", ()), ("gaps", (2000, 4100))):
        values = signal.copy()
        values[list(gaps)] = np.nan
        found[f"welch {name}"] = [
            told(lambda v=values, s=s: welch_spectrum(v, sample_rate_hz=1000.0, segment_s=s)) for s in (0.25, 1.0, 3.0)
        ]
    for rate_hz, size in itertools.product((100.0, 125.0, 1000.0), (0.003, 0.02, 0.3)):
        t_s = np.arange(int(8 * rate_hz)) / rate_hz
        motors = {f"motor.{k}": 0.5 + size * rng.normal(0, 1, t_s.size) for k in (1, 2, 3)}
        still = {f"gyro.{axis}": 10 * size * rng.normal(0, 1, t_s.size) for axis in ("roll", "pitch", "yaw")}
        recording = Recording.of({**motors, **still, "throttle": 0 * t_s + size}, sample_rate_hz=rate_hz)
        found[f"outputs {rate_hz} {size}"] = [output_roughness(recording), rms_above(recording, "motor.1"), is_at_rest(recording)]
        drift = recording.channels["gyro.roll"] + 0.02 * t_s
        found[f"rest {rate_hz} {size}"] = [
            told(lambda d=drift, r=rate_hz: rest_noise(d, sample_rate_hz=r)),
            told(lambda d=drift, t=t_s, r=rate_hz: drift_with_temperature(d, 20 + t, sample_rate_hz=r)),
        ]
    return found


def filters() -> Any:
    found: dict[str, Any] = {}
    hz = np.geomspace(1, 900, 25)
    late = {"discretisation": "backward_euler"}
    kinds = [("lowpass_1", {}), ("lowpass_1", late), ("lowpass_2", {}), ("notch", {"q": 3.0}), ("magic", {})]
    for (kind, more), centre, rate in itertools.product(kinds, (0.0, 90.0, 400.0, 999.0, 1000.0), (2000.0, 8000.0)):
        section = FilterSection(kind=kind, frequency_hz=centre, **more)
        made = told(lambda s=section, r=rate: chain_sos([s], sample_rate_hz=r))
        found[f"{kind} {more} {centre} {rate}"] = made if isinstance(made, str) else [
            made, chain_response(made, hz, sample_rate_hz=rate), dc_delay_s(made, sample_rate_hz=rate),
        ]  # fmt: skip
    notches = Filter(kind="rotor_notch", frequency_hz=70.0, q=4.0, orders=(1, 2, 3), blend_hz=20.0)
    chain = (Filter(kind="lowpass_2", frequency_hz=180.0), notches, Filter(kind="notch", frequency_hz=133.0, q=2.0))
    speeds: tuple[Any, ...] = ((), (60.0,), (75.0, 95.0), (150.0, 155.0, 160.0, 170.0), (460.0,))
    for own in speeds:
        rotor = np.array(own)
        found[f"turning {own}"] = [
            rotor_response(chain, hz, 2000.0, rotor), whole_response(chain, hz, 2000.0, rotor), fixed_response(chain, hz, 2000.0),
            stated_delay_s(chain, 2000.0, rotor), [lag_deg(chain, at, 2000.0, rotor) for at in (5.0, 30.0, 80.0)],
        ]  # fmt: skip
    return found


def closed_loops() -> Any:
    """Following and margins of second-order loops over speed, damping and delay, and a plant fitted to them."""
    found: dict[str, Any] = {}
    hz = np.geomspace(0.4, 220, 400)
    for natural, damping, delay_s in itertools.product((4.0, 12.0, 40.0), (0.15, 0.4, 0.7, 1.2), (0.0, 0.004, 0.012)):
        s = 2j * np.pi * hz
        w = 2 * np.pi * natural
        loop = w**2 / (s * (s + 2 * damping * w)) * np.exp(-s * delay_s)
        closed = loop / (1 + loop)
        grid = step_frequencies().copy()
        grid[0] = 1e-3
        fine = 2j * np.pi * grid
        own = w**2 / (fine * (fine + 2 * damping * w)) * np.exp(-fine * delay_s)
        t_s, step = step_of(own / (1 + own))
        found[f"{natural} {damping} {delay_s}"] = [margins(hz, loop), following(hz, closed, t_s, step), [t_s[-1], step]]
    at = np.geomspace(2, 60, 30)
    for lag_s, delay_s, decay in itertools.product((0.01, 0.04), (0.002, 0.009), (0.5, 8.0)):
        true = Plant(gain=900.0, lag_s=lag_s, delay_s=delay_s, damping_per_s=decay)
        measured = [Measured(response=true.response(at), error=np.full(at.size, 0.02), model=lambda plant: plant)]
        found[f"fitted {lag_s} {delay_s} {decay}"] = [fit_plant(at, measured, has_lead=lead) for lead in (False, True)]
    return found


def _flight(rate_hz: float, seconds: float, size: float, *, late_s: float = 0.02, noise: float = 2.0) -> dict[str, Any]:
    """Sticks of every kind, and a craft that follows them late."""
    rng = np.random.default_rng(9)
    t_s = np.arange(int(rate_hz * seconds)) / rate_hz
    channels: dict[str, Any] = {
        "throttle": np.clip(0.35 + 0.3 * np.sin(2 * np.pi * t_s / 9) ** 3 + 0.5 * (t_s % 13 > 12.2), 0, 1)
    }
    channels["throttle"] = np.where((t_s % 17 > 15) & (t_s % 17 < 16), 0.0, channels["throttle"])
    for k, axis in enumerate(("roll", "pitch", "yaw")):
        turn = (t_s + 2 * k) % 7
        stick = 0.3 * np.sin(2 * np.pi * (0.4 + 0.5 * k) * t_s) + 0.6 * (turn < 0.5) - 0.6 * ((turn > 1) & (turn < 1.5))
        wanted = size * (0.3 * stick + 0.7 * stick**3)
        given = scipy.signal.lfilter([1 / (late_s * rate_hz + 1)], [1, -late_s * rate_hz / (late_s * rate_hz + 1)], wanted)
        channels |= {f"stick.{axis}": stick, f"setpoint.{axis}": wanted, f"gyro.{axis}": given + rng.normal(0, noise, t_s.size)}
        channels[f"gyro_raw.{axis}"] = channels[f"gyro.{axis}"] + rng.normal(0, 3 * noise, t_s.size)
        channels |= {f"term_p.{axis}": 0.002 * (wanted - given), f"term_i.{axis}": np.cumsum(wanted - given) * 0.004 / rate_hz}
    mixed = HEX.mixer() @ np.stack([channels[f"term_p.{axis}"] + channels[f"term_i.{axis}"] for axis in ("roll", "pitch", "yaw")])
    channels |= {f"motor.{k + 1}": np.clip(channels["throttle"] + row, 0.03, 1.0) for k, row in enumerate(mixed)}
    channels |= {f"motor_rpm.{k + 1}": 24_000 * np.sqrt(channels[f"motor.{k + 1}"]) for k in range(6)}
    channels["battery_voltage"] = 16.4 - 0.01 * t_s - 1.2 * channels["throttle"]
    return channels


def following_sticks() -> Any:
    """Tracking, authority, manoeuvres and their scores in flights from gentle to wild, and without some channels."""
    found: dict[str, Any] = {}
    for size, noise in itertools.product((60.0, 250.0, 900.0), (0.5, 4.0)):
        channels = _flight(500.0, 40.0, size, noise=noise)
        for lacking in ("", "throttle", "motor.", "term_", "stick."):
            kept = {role: values for role, values in channels.items() if not lacking or not role.startswith(lacking)}
            recording = Recording.of(kept, sample_rate_hz=500.0, start_s=3.0)
            spans = manoeuvres(recording)
            usable, notes = usable_mask(recording, "roll", mixer=HEX.mixer())
            tracked = tracking(recording, "roll", usable)
            found[f"{size} {noise} {lacking}"] = [
                [[span.kind, span.axis, span.start_s, span.end_s] for span in spans], [int(usable.sum()), notes],
                tracked and [tracked.error_rms_dps, tracked.error_p95_dps, tracked.coherent_band_hz, tracked.coupling],
                authority(recording, usable, spans), lost_share(recording, usable), int(level_mask(recording, 6).sum()),
                [[score.key, score.axis, score.value, score.n_spans] for score in scores_of(recording, spans)],
                flies_itself_share(recording, "roll"), chain_delay_s(recording, "roll"), spool_ratio(recording, spans),
                idle_ratio(recording, "roll", list(spans)),
            ]  # fmt: skip
        found[f"hover {size}"] = hover_throttle(channels["throttle"])
    return found


def holds() -> Any:
    """A plane's gains finding themselves: how long and how often the stick is held, and how the gain moves."""
    found: dict[str, Any] = {}
    rate_hz = 50.0
    for n, held_s, drift, over in itertools.product(
        (1, 7, 8, 14), (0.25, 0.5, 2.0, 2.1), (-0.02, 0.0, 0.03), (0.98, 1.019, 1.03)
    ):
        gap_s = 1.5
        period = int((held_s + gap_s) * rate_hz)
        k = np.arange(n * period)
        inside = (k % period) < held_s * rate_hz
        stick = np.where(inside, np.where((k // period) % 2 == 0, 0.95, -0.95), 0.0)
        wanted = 120.0 * np.sign(stick)
        channels = {"stick.roll": stick, "setpoint.roll": wanted, "gyro.roll": over * wanted}
        for name, gain in (
            ("logged", {"gain.roll.f": 100 * (1 + drift) ** (k // period) * (1 - 0.1 * (k // period == 3))}),
            ("not", {}),
        ):
            recording = Recording.of({**channels, **gain}, sample_rate_hz=rate_hz)
            found[f"{n} {held_s} {drift} {over} {name}"] = told(lambda r=recording: _judged(gain_flight(r, "roll")))
    for left, right, pair in itertools.product((-1.0, 0.2, 0.9), (-0.5, 0.4), ("elevons", "v_tail", "flaperons", "other")):
        found[f"mixed {left} {right} {pair}"] = [told(lambda a=left, b=right, p=pair, f=f: f(a, b, p)) for f in (split, joined)]
    return found


def _judged(own: Any) -> Any:
    return [own.repetitions, own.hold_median_s, own.long_enough_ratio, own.overshoots, own.verdict]


EDGES: dict[str, Callable[[], Any]] = {
    "bounds": bounds, "packs": packs, "spectra": spectra, "filters": filters, "closed loops": closed_loops,
    "following sticks": following_sticks, "holds": holds,
}  # fmt: skip
