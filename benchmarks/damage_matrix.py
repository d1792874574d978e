"""Damage and variation on random craft: margins, false alarms, refusals; part of `check --full`, into `docs/accuracy.md`.

`python -m benchmarks.damage_matrix [N_CRAFT] [FIRST_SEED]` prints its part alone. Every craft flies the half-minute card with an
8 kHz loop; its log is then written at another rate, and damaged. Truth is the simulator's own loop, as in `response_accuracy`.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from datetime import UTC, datetime

import numpy as np

from benchmarks.random_craft import random_airframe, sound_controller
from benchmarks.response_accuracy import truth_of
from nembrit.core.analysis.flight import CraftFacts
from nembrit.core.analysis.run import analyse
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.controller import Filter
from nembrit.core.simulate.airframe import Traits, World
from nembrit.core.simulate.flight import fly
from nembrit.core.types import AXES
from tests.damage import HARMLESS, WORSE, Damage, Table, at_rate, flight_of
from tests.trueloop import of_the_movement

FIRST_SEED = 517300000  # drawn for the last run
N_CRAFT = 6
RATES_HZ = (250, 333, 500, 800, 960, 1000, 1600, 2000, 3200, 4000)
VARIANTS: dict[str, Traits | None] = {
    "assumed controller": Traits(), "filter on feed-forward": None, "P on a filtered error": Traits(p_filter_hz=80.0),
    "D on the error": Traits(is_d_on_error=True), "I relaxed in quick moves": Traits(relax_dps=40.0),
    "D grows in quick moves": Traits(d_boost_ratio=0.6), "gains follow throttle": Traits(throttle_cut_ratio=0.5),
    "gains follow voltage": Traits(volts_power=2.0),
}  # fmt: skip
_FORWARD = (Filter(kind="lowpass_1", frequency_hz=40.0),)


@dataclass(frozen=True, kw_only=True)
class Told:
    """One axis of one log."""

    row: str
    is_told: bool
    error_deg: float = 0.0
    error_db: float | None = None
    is_covered: bool = True


@dataclass(frozen=True, kw_only=True)
class Outcome:
    axes: list[Told]
    alarms: list[tuple[str, str]]  # row, code of an `act` or `stop` on a sound craft
    n_logs: int


def judged(seed: int) -> Outcome:
    """One craft: every rate, every damage, every variant of the controller."""
    axes: list[Told] = []
    alarms: list[tuple[str, str]] = []
    n_logs = 0
    for name, traits in VARIANTS.items():
        rng = np.random.default_rng(seed)
        craft, airframe = random_airframe(rng)
        controller = replace(sound_controller(airframe, rng), loop_rate_hz=8000.0)
        controller = controller if traits is not None else replace(controller, feed_forward=_FORWARD)
        own = traits or Traits()
        world = World(seed=seed, wind_m_s=float(rng.uniform(0, 5)), log_rate_hz=8000.0, traits=own)
        flight = fly(craft, controller, next(card for card in CARDS if card.key == "response"), world, airframe=airframe)
        table = Table(t_s=flight.t_s, channels={role: one for role, one in flight.channels.items() if "rpm" not in role})
        facts = CraftFacts(mixer=craft.mixer(), blades=craft.blades, controller=controller)
        damages: dict[str, Damage] = {name: at_rate(2000)}
        if name == "assumed controller":
            damages |= {f"at {hz} Hz": at_rate(hz) for hz in RATES_HZ}
            damages |= {
                key: _after(at_rate(2000), one) for key, one in {**HARMLESS, **WORSE}.items() if not key.startswith("at ")
            }
        truths = {}
        for row, damage in damages.items():
            n_logs += 1
            seen = flight_of(damage(table), facts)
            found = analyse(seen, only=("loop", "judgement"))
            alarms += [(row, one.code) for one in found.judgement.findings if one.severity in ("act", "stop")]
            for k, axis in enumerate(AXES):
                if not truths.get(axis):
                    whole = flight_of(at_rate(2000)(table), facts).recording
                    at = {role: of_the_movement(whole, role, axis, craft.mixer()) for role in ("throttle", "battery_voltage")}
                    truths[axis], _ = truth_of(
                        craft, controller, airframe, k, at["throttle"], voltage_v=at["battery_voltage"], traits=own
                    )
                axes.append(_told(row, found.loop.axes.get(axis), truths[axis]))
    return Outcome(axes=axes, alarms=alarms, n_logs=n_logs)


def _after(first: Damage, then: Damage) -> Damage:
    return lambda table: then(first(table))


def _told(row: str, loop, truth) -> Told:  # type: ignore[no-untyped-def]
    margin = None if loop is None else loop.phase_margin_deg
    if margin is None or truth.phase_margin_deg is None:
        return Told(row=row, is_told=False)
    gain = loop.gain_margin_db
    known = truth.gain_margin_db is not None and truth.gain_margin_db < 20 and gain is not None
    return Told(
        row=row,
        is_told=True,
        error_deg=abs(margin.value - truth.phase_margin_deg),
        error_db=abs(gain.value - truth.gain_margin_db) if known else None,
        is_covered=margin.low <= truth.phase_margin_deg <= margin.high,
    )


def measure(n_craft: int = N_CRAFT, first_seed: int = FIRST_SEED) -> tuple[list[str], bool]:
    with ProcessPoolExecutor() as pool:
        found = list(pool.map(judged, range(first_seed, first_seed + n_craft)))
    axes, alarms = [one for own in found for one in own.axes], [one for own in found for one in own.alarms]
    n_logs = sum(own.n_logs for own in found)
    lines = [
        "## Damage and variation",
        "",
        f"Measured {datetime.now(UTC):%d %B %Y} on {n_craft} random sound craft, seeds from {first_seed}, half-minute card, a "
        f"loop of 8 kHz; {n_logs} logs. An `act` or `stop` on a sound craft: {len(alarms)} of {n_logs} logs"
        + (f" ({', '.join(sorted({f'{code}: {row}' for row, code in alarms}))})." if alarms else "."),
        "",
        "| log | margins told, of axes | phase margin within 2.5° | largest error | gain margin within 2 dB | interval covers |",
        "|---|---|---|---|---|---|",
    ]
    lines += [_row(row, [one for one in axes if one.row == row]) for row in dict.fromkeys(one.row for one in axes)]
    return lines, len(alarms) <= 0.01 * n_logs


def _row(row: str, axes: list[Told]) -> str:
    told = [one for one in axes if one.is_told]
    if not told:
        return f"| {row} | 0 of {len(axes)} | – | – | – | – |"
    gains = [one.error_db for one in told if one.error_db is not None]
    within = np.mean([one.error_deg <= 2.5 for one in told])
    gain = f"{np.mean(np.array(gains) <= 2.0):.0%} of {len(gains)}" if gains else "–"
    return (
        f"| {row} | {len(told)} of {len(axes)} | {within:.0%} | {max(one.error_deg for one in told):.1f}° | {gain} "
        f"| {np.mean([one.is_covered for one in told]):.0%} |"
    )


if __name__ == "__main__":
    print("\n".join(measure(*(int(word) for word in sys.argv[1:]))[0]))
