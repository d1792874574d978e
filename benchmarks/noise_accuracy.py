"""The noise bench against the truth of random simulated craft: lines, spikes, planted faults; part of `check --full`."""

from collections.abc import Iterable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np

from benchmarks.random_craft import CAUSES, FaultCase, fault_case
from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import analyse, there
from nembrit.core.causes.findings import ACT
from nembrit.core.manoeuvres.detect import manoeuvres
from nembrit.core.noise.lines import noise_lines
from nembrit.core.noise.spikes import spikes_of
from nembrit.core.records.log import Recording
from nembrit.core.rotors.orders import order_mask
from nembrit.core.rotors.track import RotorTrack, rotor_track
from nembrit.core.spectra.frames import Frames, frames_of
from nembrit.core.types import AXES

FIRST_SEED = 695640000  # drawn after the weights were frozen; not used anywhere else
N_PER_CAUSE = 10
CLEAN = ("calm", "windy", "lively", "offset")
N_PER_FLAVOUR = 15
N_LINES = 40


@dataclass(frozen=True, kw_only=True)
class Judged:
    """What was said of one flight."""

    cause: str
    flavour: str
    first: str
    first_two: tuple[str, ...]
    act: str | None
    confidence: float
    is_motor_right: bool | None
    is_axis_right: bool | None


def judged(job: tuple[int, str, str]) -> Judged:
    seed, cause, flavour = job
    case = fault_case(seed, cause, flavour=flavour)
    craft = CraftFacts(mixer=case.craft.mixer(), blades=case.craft.blades)
    flight = Flight(case.recording, craft=craft, spans=manoeuvres(case.recording))
    findings = there(analyse(flight, only=("judgement",)).judgement).findings
    ranked = [finding for finding in findings if finding.likelihood]
    act = next((finding for finding in findings if finding.severity == "act"), None)
    top = ranked[0] if ranked and ranked[0].severity != "info" else None
    shown = [*dict.fromkeys(code for finding in ranked for code in (finding.code, *finding.causes))]
    causes = tuple(shown[:2] if top else ["clean", *shown[:1]])
    return Judged(
        cause=cause,
        flavour=flavour,
        first=top.code if top else "clean",
        first_two=causes or ("clean",),
        act=act.code if act else None,
        confidence=top.confidence if top else 0.0,
        is_motor_right=_right(top.motor if top else None, case.motor, top is not None and top.code == cause),
        is_axis_right=_right(top.axis if top else None, case.axis, top is not None and top.code == cause),
    )


def _right(said: object, true: object, is_cause_right: bool) -> bool | None:
    return None if true is None or not is_cause_right else said == true


def jobs() -> list[tuple[int, str, str]]:
    faults = [(FIRST_SEED + 1000 * k + n, cause, "") for k, cause in enumerate(CAUSES[1:]) for n in range(N_PER_CAUSE)]
    clean = [
        (FIRST_SEED + 50_000 + 1000 * k + n, "clean", flavour) for k, flavour in enumerate(CLEAN) for n in range(N_PER_FLAVOUR)
    ]
    return faults + clean


def share(values: Iterable[bool]) -> str:
    found = list(values)
    return f"{sum(found)} of {len(found)}"


@dataclass(frozen=True, kw_only=True)
class LineErrors:
    """Of one flight: the estimated motor speed and the fixed lines of three axes."""

    speed: float | None  # relative error; None: refused
    has_speed: bool  # there is a record to compare with
    fixed_hz: tuple[float | None, ...]  # errors of lines that are 1.5 times their surroundings; None: not found
    n_covered: int  # of those found, how many lie in their stated interval
    n_false: int


def line_errors(seed: int) -> LineErrors:
    case: FaultCase = fault_case(seed, "frame_resonance" if seed % 2 else "clean", card="full")
    frames = frames_of(case.recording)
    hidden = {role: values for role, values in case.recording.channels.items() if not role.startswith("motor_rpm")}
    track = rotor_track(frames_of(Recording.of(hidden, sample_rate_hz=2000.0)))
    error = None
    if frames.rotor_hz is not None and track is not None and frames.throttle is not None:
        true, use = frames.rotor_hz.mean(axis=1), (frames.throttle > 0.25) & (frames.throttle < 0.8)
        error = float(np.median(np.abs(track.mean_hz[use] / true[use] - 1)))
    known = rotor_track(frames)
    errors: list[float | None] = []
    n_covered = n_false = 0
    for axis, true_hz in zip(AXES, case.resonance_hz, strict=True):
        found = noise_lines(frames, f"gyro_raw.{axis}", known)
        fixed = [line for line in found if line.kind == "resonance" and line.width_hz < 30]
        near = sorted((away, line.error_hz or 0.0) for line in fixed if (away := abs(line.frequency_hz - true_hz)) < 12)
        n_false += len(fixed) - len(near)
        n_covered += bool(near and near[0][0] <= near[0][1])
        if near or (known is not None and _stands_out(frames, f"gyro_raw.{axis}", known, true_hz)):
            errors.append(near[0][0] if near else None)
    has_speed = frames.rotor_hz is not None
    return LineErrors(speed=error, has_speed=has_speed, fixed_hz=tuple(errors), n_covered=n_covered, n_false=n_false)


def _stands_out(frames: Frames, role: str, track: RotorTrack, true_hz: float) -> bool:
    """Whether the flight's mean density at a known frequency, orders of the motors left out, is 1.5 times its surroundings."""
    mask = order_mask(frames, track, orders=(1, 2, 3, 4, 5, 6))
    density = np.nanmean(np.where(mask, np.nan, frames.power[role]), axis=0)
    away = np.abs(frames.frequency_hz - true_hz)
    return bool(np.nanmean(density[away < 1.5 * frames.bin_hz]) > 1.5 * np.nanmedian(density[(away > 20) & (away < 60)]))


def spike_scores(seed: int) -> tuple[int, int, int]:
    """Planted spikes, those found, and found ones that nobody planted."""
    case = fault_case(seed, "clean")
    rng = np.random.default_rng(seed)
    role = "gyro_raw.pitch"
    values = case.recording.channels[role].copy()
    places = np.sort(rng.choice(np.arange(2000, values.size - 2000, 60), 25, replace=False))
    values[places] += rng.choice([-1, 1], 25) * rng.uniform(80, 300, 25)
    found = spikes_of(Recording.of({**case.recording.channels, role: values}, sample_rate_hz=2000.0), "pitch")
    times = np.array(found.times_s) if found else np.empty(0)
    hit = sum(bool(times.size) and np.abs(times - place / 2000).min() < 0.002 for place in places)
    stray = sum(np.abs(places / 2000 - time).min() >= 0.002 for time in times)
    return 25, int(hit), int(stray)


def measure() -> tuple[list[str], bool]:
    """Lines for `docs/accuracy.md`, and whether the acceptance that pages rely on is met."""
    with ProcessPoolExecutor() as pool:
        rows = list(pool.map(judged, jobs(), chunksize=2))
        lines = list(pool.map(line_errors, range(FIRST_SEED + 90_000, FIRST_SEED + 90_000 + N_LINES)))
        spikes = list(pool.map(spike_scores, range(FIRST_SEED + 95_000, FIRST_SEED + 95_008)))
    faulty, clean = [row for row in rows if row.cause != "clean"], [row for row in rows if row.cause == "clean"]
    acts = [row for row in rows if row.act]
    n_false = sum(row.act is not None for row in clean)
    speed = np.array([line.speed for line in lines if line.speed is not None])
    standing = [error for line in lines for error in line.fixed_hz]
    fixed = np.array([error for error in standing if error is not None])
    planted, hit, stray = (sum(score[k] for score in spikes) for k in range(3))
    named = [row for row in faulty if row.is_motor_right is not None]
    sided = [row for row in faulty if row.is_axis_right is not None]
    false = [f"{name} {share(row.act is not None for row in clean if row.flavour == name)}" for name in CLEAN]
    elsewhere = sum(line.n_false for line in lines)
    text = ["", "## Planted faults", ""]
    text += [
        "Random craft (3 to 8 in, four to eight motors), random tunes, wind 0 to 7 m/s; four of five logs have motor speeds,",
        "those with a low idle all, and three floats: without speeds and a float it is said not to be tested.",
    ]
    text += ["", "| cause | first | among the first two |", "|---|---|---|"]
    for cause in CAUSES[1:]:
        own = [row for row in faulty if row.cause == cause]
        name = cause.replace("_", " ")
        text.append(f"| {name} | {share(row.first == cause for row in own)} | {share(cause in row.first_two for row in own)} |")
    first, two = share(row.first == row.cause for row in faulty), share(row.cause in row.first_two for row in faulty)
    text += [f"| all | {first} | {two} |", ""]
    text += [
        f"An `act` was right in {share(row.act == row.cause for row in acts)}. Sound craft with an `act`: {', '.join(false)}."
    ]
    text += [f"The motor was right in {share(bool(row.is_motor_right) for row in named)} of those whose cause was right,"]
    text += [f"the axis in {share(bool(row.is_axis_right) for row in sided)}.", ""]
    text += ["| likelihood stated | mean stated | cause right |", "|---|---|---|", *_calibration(rows)]
    text += ["", "## Lines and spikes", ""]
    text += [
        f"Motor speed estimated without records, throttle 0.25 to 0.8: median error {100 * np.median(speed):.2f} %, 90 % within"
    ]
    text += [f"{100 * np.quantile(speed, 0.9):.2f} %, largest {100 * speed.max():.1f} %; given in {speed.size} of the"]
    text += [f"{sum(line.has_speed for line in lines)} flights with a record to compare; the others were refused as not sure."]
    text += [f"Fixed lines above 1.5 times their surroundings, three axes: {fixed.size} of {len(standing)} found, median error"]
    text += [
        f"{np.median(fixed):.2f} Hz, 90 % within {np.quantile(fixed, 0.9):.2f} Hz, largest {fixed.max():.2f} Hz; {elsewhere}"
    ]
    covered = 100 * sum(line.n_covered for line in lines) / fixed.size
    text += [
        f"narrow fixed lines where none is, in {len(lines)} flights. Their 95 % intervals cover the truth in {covered:.0f} %."
    ]
    text += [f"Spikes planted in sound logs: {hit} of {planted} found, {stray} found that were not planted."]
    return text, n_false / len(clean) <= 0.05


def _calibration(rows: list[Judged]) -> list[str]:
    named = [row for row in rows if row.first != "clean"]
    found = []
    for low, high in ((0.25, 0.6), (0.6, ACT), (ACT, 0.95), (0.95, 1.01)):
        own = [row for row in named if low <= row.confidence < high]
        if own:
            stated = float(np.mean([row.confidence for row in own]))
            found.append(f"| {low:.2f} to {min(high, 1):.2f} | {stated:.2f} | {share(row.first == row.cause for row in own)} |")
    return found
