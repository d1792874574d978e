"""Accuracy on simulated craft and seeds that nothing was tuned to; writes `docs/accuracy.md`.

Run by `python3 run.py check --full`. Truth is the simulator's own answer to a small step without noise.
"""

from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from benchmarks import (
    damage_matrix,
    fit_causes,
    noise_accuracy,
    one_advice,
    prediction_accuracy,
    response_accuracy,
    wing_accuracy,
)
from benchmarks.random_craft import random_airframe, sound_controller
from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import FlightResults, analyse, there
from nembrit.core.records.log import Recording
from nembrit.core.response.authority import usable_mask
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.controller import Controller
from nembrit.core.setup.craft import Craft
from nembrit.core.simulate.airframe import Airframe, Faults, World
from nembrit.core.simulate.flight import fly, fly_sticks
from nembrit.core.simulate.pilot import Sticks
from nembrit.core.trials.plan import Primary
from nembrit.core.trials.verdict import FlightValues, compare_flights
from nembrit.core.types import AXES

FIRST_SEED = 859108000  # drawn for this run; not used anywhere else
N_CRAFT = 40
LIMITS = {"overshoot": (2.0, 4.0), "delay": (0.7, 2.5)}  # acceptance table: 90 % of cases within, none beyond
REPORT = Path(__file__).parents[1] / "docs" / "accuracy.md"


@dataclass(frozen=True, kw_only=True)
class Case:
    """One random craft with its controller and one flight."""

    craft: Craft
    airframe: Airframe
    controller: Controller
    world: World
    recording: Recording
    results: FlightResults


def random_case(number: int, *, loose: bool) -> Case:
    rng = np.random.default_rng(FIRST_SEED + number)
    craft, airframe = random_airframe(rng)
    controller = sound_controller(airframe, rng)
    faults = Faults(loose_mount=float(rng.uniform(0.7, 1.2)), loose_mount_hz=float(rng.uniform(50, 80))) if loose else Faults()
    world = World(seed=FIRST_SEED + number, wind_m_s=float(rng.uniform(0, 6)), faults=faults)
    flight = fly(craft, controller, next(card for card in CARDS if card.key == "response"), world, airframe=airframe)
    part = Recording.of(flight.channels, sample_rate_hz=2000.0).span(2.5, 28.0)
    results = analyse(Flight(part, craft=CraftFacts(mixer=craft.mixer())), only=("response", "judgement"))
    return Case(craft=craft, airframe=airframe, controller=controller, world=world, recording=part, results=results)


def throttle_of_the_movement(case: Case, axis: int) -> float:
    """Mean throttle, weighted by how much the set-point moved: the plant's gain rises with throttle, so the
    true response of a flight is that at the throttle where the sticks were moved."""
    usable, _ = usable_mask(case.recording, AXES[axis], mixer=case.craft.mixer())
    moved = np.abs(np.gradient(case.recording.channels[f"setpoint.{AXES[axis]}"])) * usable
    return float((case.recording.channels["throttle"] * moved).sum() / moved.sum())


def true_step(case: Case, axis: int, size_dps: float = 4.0) -> tuple[float, float]:
    """Overshoot [ratio] and delay to half [s] of the simulated loop itself, without noise or wind."""
    silent = {"gyro_density_dps_rthz": 0.0, "line_dps": 0.0, "blade_line_dps": 0.0, "broadband_dps": 0.0}
    still = replace(case.airframe, gyro_step_dps=1e-6, balance_offset=(0.0, 0.0), **silent)
    rate_hz = case.controller.loop_rate_hz
    n, at = int(1.2 * rate_hz), int(0.8 * rate_hz)
    setpoint = np.zeros((3, n))
    setpoint[axis, at:] = size_dps
    sticks = Sticks(
        stick=np.zeros((3, n)), throttle=np.full(n, throttle_of_the_movement(case, axis)), is_on_ground=np.zeros(n, bool)
    )
    world = World(seed=1, wind_m_s=0.0, wash_ratio=0.0, log_rate_hz=rate_hz)
    rng = np.random.default_rng(1)
    flight = fly_sticks(case.craft, case.controller, world, airframe=still, sticks=sticks, setpoint_dps=setpoint, rng=rng)
    step = flight.channels[f"gyro.{AXES[axis]}"][at:] / size_dps
    return max(0.0, float(step.max()) - 1), float(np.argmax(step >= 0.5)) / rate_hz


@dataclass(frozen=True, kw_only=True)
class StepErrors:
    """One axis's step response against the truth."""

    overshoot_error_pp: float
    delay_error_ms: float
    is_overshoot_covered: bool
    is_delay_covered: bool


@dataclass(frozen=True, kw_only=True)
class Judged:
    """One flight against the truth: its steps, and how loudly a loose mount was told."""

    steps: tuple[StepErrors, ...]
    n_refused: int
    severities: tuple[str, ...]


def judged(number: int, loose: bool) -> Judged:
    case = random_case(number, loose=loose)
    told = [
        one.severity for one in there(case.results.judgement).findings if one.code == "loose_mount" and one.severity != "info"
    ]
    steps = [] if loose else [_errors(case, row) for row in range(len(AXES))]
    return Judged(
        steps=tuple(step for step in steps if step), n_refused=sum(step is None for step in steps), severities=tuple(told)
    )


def _errors(case: Case, row: int) -> StepErrors | None:
    step = there(case.results.response).steps.get(AXES[row])
    if step is None or step.delay_s is None or step.delay_interval_s is None:
        return None
    overshoot, delay_s = true_step(case, row)
    return StepErrors(
        overshoot_error_pp=100 * abs(step.overshoot_ratio - overshoot),
        delay_error_ms=1000 * abs(step.delay_s - delay_s),
        is_overshoot_covered=step.overshoot_interval[0] <= overshoot <= step.overshoot_interval[1],
        is_delay_covered=step.delay_interval_s[0] <= delay_s <= step.delay_interval_s[1],
    )


def measure() -> tuple[list[str], bool]:
    with ProcessPoolExecutor() as pool:
        clean = list(pool.map(judged, range(N_CRAFT), [False] * N_CRAFT))
        loose = list(pool.map(judged, range(1000, 1000 + N_CRAFT), [True] * N_CRAFT))
    errors: dict[str, list[float]] = {"overshoot": [], "delay": []}
    covered: dict[str, list[bool]] = {"overshoot": [], "delay": []}
    n_refused = 0
    for case in clean:
        n_refused += case.n_refused
        for step in case.steps:
            errors["overshoot"].append(step.overshoot_error_pp)
            errors["delay"].append(step.delay_error_ms)
            covered["overshoot"].append(step.is_overshoot_covered)
            covered["delay"].append(step.is_delay_covered)
    lines, is_good = [], True
    for name, unit in (("overshoot", "percentage points"), ("delay", "ms")):
        values = np.array(errors[name])
        must, cap = LIMITS[name]
        share, coverage = float(np.mean(values <= must)), float(np.mean(covered[name]))
        is_good &= coverage >= 0.9  # what pages claim: the interval; the acceptance table is still ahead of us
        met = "met" if share >= 0.9 and float(values.max()) <= cap else "not met"
        lines.append(
            f"| {name}, {unit} | {values.size} | {np.median(values):.2f} | {np.quantile(values, 0.9):.2f} "
            f"| {values.max():.2f} | {share:.0%} within {must:g}, cap {cap:g}: {met} | {coverage:.0%} |"
        )
    found, false = [case.severities for case in loose], [case.severities for case in clean]
    n_act, n_any = sum("act" in each for each in found), sum(bool(each) for each in found)
    n_false_act, n_false = sum("act" in each for each in false), sum(bool(each) for each in false)
    is_good &= n_false_act / N_CRAFT <= 0.05 and n_any / N_CRAFT >= 0.9
    lines += [
        "",
        f"{n_refused} of {3 * N_CRAFT} axis cases were refused as not answerable.",
        "",
        "## The loose mount's hump",
        "",
        "| | flights | `act` | `act` or `watch` |",
        "|---|---|---|---|",
        f"| mount loose (size 0.7 to 1.2, 50 to 80 Hz) | {N_CRAFT} | {n_act} | {n_any} |",
        f"| sound, wind 0 to 6 m/s | {N_CRAFT} | {n_false_act} | {n_false} |",
        "",
        "## False alarms of the verdict",
        "",
        f"{false_alarms():.1%} of 2,000 synthetic null splits (4 + 4 flights, metrics only) were called better; "
        "at most 6 % are allowed.",
    ]
    return lines, is_good


def false_alarms() -> float:
    rng = np.random.default_rng(FIRST_SEED)
    name = "wash_rms.roll"
    alarms = 0
    for values in np.exp(rng.normal(0, 0.1, (2000, 8))):
        flights = [FlightValues(is_after=number >= 4, metrics={name: float(value)}) for number, value in enumerate(values)]
        found = compare_flights(flights, primary=Primary(metric=name, direction="lower")).primary
        alarms += found is not None and found.verdict == "better"
    return alarms / 2000


def main() -> int:
    lines, is_good = measure()
    more, is_honest = noise_accuracy.measure()
    loops, holds = response_accuracy.measure()
    predictions, keep = prediction_accuracy.measure()
    planes, fly = wing_accuracy.measure()
    worse, stays = damage_matrix.measure()
    followed, leads = one_advice.measure()
    lines = [*lines, "", *loops, "", *worse, "", *predictions, *followed, "", *more, *fit_causes.measure(), "", *planes]
    is_good = is_good and is_honest and holds and keep and fly and stays and leads
    head = [
        "# Accuracy",
        "",
        f"Measured {datetime.now(UTC):%d %B %Y} by `python3 run.py check --full` on {N_CRAFT} random simulated craft (quads, "
        f"hexes, octos, 3 to 8 in), seeds from {FIRST_SEED}, wind 0 to 6 m/s, the half-minute card at 2 kHz. Simulated worlds "
        "are kinder than real ones: this is the software's error budget, not the field's.",
        "",
        "## Step response",
        "",
        "| error | axis cases | median | 90 % | largest | acceptance | interval covers truth |",
        "|---|---|---|---|---|---|---|",
    ]
    REPORT.write_text("\n".join([*head, *lines]) + "\n")
    print("\n".join(lines))
    print("the stated intervals and confidences hold" if is_good else "stated intervals or confidences do NOT hold")
    return 0 if is_good else 1


if __name__ == "__main__":
    raise SystemExit(main())
