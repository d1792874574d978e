"""Predictions against flights flown afterwards, on simulated craft that nothing was tuned to; part of `check --full`.

`python -m benchmarks.prediction_accuracy [N_CRAFT] [FIRST_SEED]` prints its part of `docs/accuracy.md`. Each craft is flown with
its own settings; then gains (0.6 to 1.6 of P, I and D of every axis) or filters (both low-passes' cutoffs moved as far) are
drawn, predicted, and flown with another seed. Truth of the loop is the simulator's own; of noise and metrics the next flight.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime

import numpy as np

from benchmarks.random_craft import random_airframe, sound_controller
from benchmarks.response_accuracy import truth_of
from nembrit.core.analysis.choosing import Choosing
from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import FlightResults, analyse
from nembrit.core.records.log import Recording
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.sureness import is_rough
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.controller import Controller, Filter
from nembrit.core.setup.craft import Craft
from nembrit.core.simulate.airframe import Airframe, World
from nembrit.core.simulate.flight import fly
from nembrit.core.tuning.residual import incoming, residual
from nembrit.core.tuning.whatif import Change
from nembrit.core.types import AXES
from tests.trueloop import of_the_movement

FIRST_SEED = 339107000  # drawn for this run; 513844000, 627391000 and 576524000 for the rounds before
N_CRAFT = 24
# acceptance table of the methods (predicted step: 3 points, 6 % rise; caps 5 and 12 %), and figures of the issue
LIMITS = {
    "phase margin, °": (4.0, 10.0), "Ms, %": (8.0, 20.0), "bandwidth, %": (8.0, 20.0), "rise, %": (6.0, 12.0),
    "overshoot of the loop, points": (3.0, 5.0), "overshoot flown next, points": (3.0, 5.0),
    "step delay flown next, ms": (2.0, 5.0),
    "motor noise flown next, %": (15.0, 40.0),
    "noise left, 20 to 100 Hz, dB": (1.0, 3.0), "noise left, 100 to 300 Hz, dB": (1.0, 3.0),
}  # fmt: skip

_NAMED = {
    "phase margin, °": "phase_margin_deg", "Ms, %": "sensitivity_peak", "bandwidth, %": "bandwidth_hz", "rise, %": "rise_time_s",
    "overshoot of the loop, points": "overshoot_ratio", "overshoot flown next, points": "overshoot_ratio",
}  # fmt: skip


@dataclass(frozen=True, kw_only=True)
class Case:
    """Errors by row of the table, whether the interval held what came, and whether only the interval is told."""

    errors: dict[str, float] = field(default_factory=dict)
    held: dict[str, bool] = field(default_factory=dict)
    rough: set[str] = field(default_factory=set)

    def put(
        self, name: str, told: Estimate | None, truth: float | None, kind: str, factor: float = 1.0, own: float = 0.0
    ) -> None:
        """`own` is half the interval of a truth that was measured itself, in the estimate's unit."""
        if told is None or truth is None:
            return
        off = told.value - truth
        self.errors[name] = abs(off) * factor if kind == "plain" else 100 * abs(off) / abs(truth)
        slack = 0.0 if own == 0 else float(np.hypot((told.high - told.low) / 2, own)) - (told.high - told.low) / 2
        self.held[name] = told.low - slack <= truth <= told.high + slack


def judged(job: tuple[str, int]) -> list[Case | str]:
    key, seed = job
    rng = np.random.default_rng(seed)
    craft, airframe = random_airframe(rng)
    flown = sound_controller(airframe, rng)
    change, new = _drawn(flown, rng)
    first, recording = _flight(key, craft, airframe, flown, seed, float(rng.uniform(0, 6)))
    second, _ = _flight(key, craft, airframe, new, seed + 500_000, float(rng.uniform(0, 6)))
    assert first.response is not None
    bench = Choosing(loop=first.loop, steps=first.response.steps, shaping=first.shaping, flown=flown, mixer=craft.mixer())
    found: list[Case | str] = [_axis(bench, second, change, new, recording, craft, airframe, row) for row in range(3)]
    return [*found, _noise(bench, second, change, flown, new, craft)]


def _drawn(flown: Controller, rng: np.random.Generator) -> tuple[Change, Controller]:
    def ratio() -> float:
        return float(np.exp(rng.uniform(np.log(0.6), np.log(1.6))))

    if rng.random() < 0.5:
        ratios = {axis: {term: ratio() for term in "pid"} for axis in AXES}
        gains = {
            axis: replace(own, **{term: getattr(own, term) * by for term, by in ratios[axis].items()})
            for axis, own in flown.gains.items()
        }
        return Change(gains=ratios), replace(flown, gains=gains)
    new = replace(flown, gyro=_moved(flown.gyro, ratio()), d_term=_moved(flown.d_term, ratio()))
    return Change(chains=new), new


def _moved(filters: tuple[Filter, ...], by: float) -> tuple[Filter, ...]:
    return tuple(replace(one, frequency_hz=one.frequency_hz * by) if one.kind.startswith("lowpass") else one for one in filters)


def _flight(
    key: str, craft: Craft, airframe: Airframe, settings: Controller, seed: int, wind_m_s: float
) -> tuple[FlightResults, Recording]:
    world = World(seed=seed, wind_m_s=wind_m_s)
    flight = fly(craft, settings, next(card for card in CARDS if card.key == key), world, airframe=airframe)
    recording = Recording.of(flight.channels, sample_rate_hz=2000.0).span(2.5, float(flight.t_s[-1]) - 2.0)
    facts = CraftFacts(mixer=craft.mixer(), blades=craft.blades, controller=settings)
    return analyse(Flight(recording, craft=facts), only=("response", "shaping", "loop")), recording


def _axis(
    bench: Choosing, second: FlightResults, change: Change, new: Controller, recording: Recording, craft: Craft,
    airframe: Airframe, row: int,
) -> Case | str:  # fmt: skip
    axis = AXES[row]
    assert bench.loop is not None
    if axis not in bench.loop.axes:
        return bench.loop.reasons[axis]
    told = bench.predicted(axis, change)
    if not told.is_stable:
        return "predicted to swing by itself"
    at = {role: of_the_movement(recording, role, axis, craft.mixer()) for role in ("throttle", "battery_voltage")}
    edge, moves = truth_of(craft, new, airframe, row, at["throttle"], voltage_v=at["battery_voltage"])
    case = Case(rough={line for line, name in _NAMED.items() if told.rough[name]})
    if is_rough("delay_s", told.step_delay_s):
        case.rough.add("step delay flown next, ms")
    case.put("phase margin, °", told.phase_margin_deg, edge.phase_margin_deg, "plain")
    case.put("Ms, %", told.sensitivity_peak, edge.sensitivity_peak, "ratio")
    case.put("bandwidth, %", told.bandwidth_hz, moves.bandwidth_hz, "ratio")
    case.put("rise, %", told.rise_time_s, moves.rise_time_s, "ratio")
    case.put("overshoot of the loop, points", told.overshoot_ratio, moves.overshoot_ratio, "plain", 100)
    step = second.response.steps.get(axis) if second.response else None
    if step is not None:
        low, high = step.overshoot_interval
        case.put("overshoot flown next, points", told.overshoot_ratio, step.overshoot_ratio, "plain", 100, (high - low) / 2)
        if step.delay_interval_s is not None:
            low, high = step.delay_interval_s
            case.put("step delay flown next, ms", told.step_delay_s, step.delay_s, "plain", 1000, (high - low) / 2)
    return case


def _noise(bench: Choosing, second: FlightResults, change: Change, flown: Controller, new: Controller, craft: Craft) -> Case:
    case = Case()
    if second.shaping is None or second.shaping.rows is None:
        return case
    case.put("motor noise flown next, %", bench.motors(change), second.shaping.roughness_ratio, "ratio")
    left = bench.residual(change)
    own = residual(incoming(second.shaping.rows, new), new, new, mixer=craft.mixer(), gains={})
    for band, name in (("motion", "noise left, 20 to 100 Hz, dB"), ("jitter", "noise left, 100 to 300 Hz, dB")):
        errors = [20 * np.log10(left.bands_dps[axis][band] / own.bands_dps[axis][band]) for axis in AXES]
        case.errors[name] = float(np.max(np.abs(errors)))
    return case


def measure(n_craft: int = N_CRAFT, first_seed: int = FIRST_SEED) -> tuple[list[str], bool]:
    lines = ["## Predictions", ""]
    is_honest = True
    for key, card in (("response", "the half-minute card"), ("full", "the full card")):
        with ProcessPoolExecutor() as pool:
            jobs = [(key, seed) for seed in range(first_seed, first_seed + n_craft)]
            found = [one for case in pool.map(judged, jobs) for one in case]
        cases, refused = [one for one in found if isinstance(one, Case)], [one for one in found if isinstance(one, str)]
        lines += [
            f"Measured {datetime.now(UTC):%d %B %Y} on {n_craft} random craft, seeds from {first_seed}: {card} flown, changed by "
            f"0.6 to 1.6 (gains of every axis, or both low-passes), flown again in other wind; {len(refused)} of {3 * n_craft} "
            "axes were refused or predicted to swing.",
            "", "| error | cases | within | told as numbers | median | 90 % | largest | wanted of those | interval covers |",
            "|---|---|---|---|---|---|---|---|---|",
        ]  # fmt: skip
        for name in LIMITS:
            row, held = _row(name, [case for case in cases if name in case.errors])
            lines += [row] if row else []
            is_honest &= not held or float(np.mean(held)) >= 0.9
        lines.append("")
    return lines[:-1], is_honest


def _row(name: str, cases: list[Case]) -> tuple[str, list[bool]]:
    """A row of the table, and whose interval held what came."""
    held = [case.held[name] for case in cases if name in case.held]
    every = np.array([case.errors[name] for case in cases])
    values = np.array([case.errors[name] for case in cases if name not in case.rough])
    if values.size == 0:
        return "", held
    must, cap = LIMITS[name]
    share = float(np.mean(values <= must))
    met = "met" if share >= 0.9 and float(values.max()) <= cap else "not met"
    covers = f"{np.mean(held):.0%}" if held else "–"
    return (
        f"| {name} | {every.size} | {np.mean(every <= must):.0%} | {values.size} | {np.median(values):.2f} "
        f"| {np.quantile(values, 0.9):.2f} | {values.max():.2f} | {share:.0%} within {must:g}, cap {cap:g}: {met} | {covers} |"
    ), held


if __name__ == "__main__":
    told, _ = measure(*(int(word) for word in sys.argv[1:]))
    print("\n".join(told))
