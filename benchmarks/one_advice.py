"""Tuners that do what the one decision says, on simulated craft that nothing was tuned to; part of `check --full`.

`python -m benchmarks.one_advice [N_CRAFT] [FIRST_SEED]` prints its part of `docs/accuracy.md`. Each craft is sound or mistuned in
one way; it flies the half-minute card, the decision is taken, done and flown again, at most eight flights. Truth of the loops is
the simulator's own.
"""

import sys
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime

import numpy as np

from benchmarks.random_craft import random_airframe, sound_controller
from benchmarks.response_accuracy import truth_of
from nembrit.core.analysis.choosing import Choosing
from nembrit.core.analysis.decision import CHANGE, FLY, MEASURING_CARD, REPAIR, VERIFY, Decision, decide
from nembrit.core.analysis.flight import CraftFacts, Flight
from nembrit.core.analysis.run import FlightResults, analyse
from nembrit.core.errors import CoreError
from nembrit.core.records.log import Recording
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.controller import Controller, Filter
from nembrit.core.setup.craft import Craft
from nembrit.core.simulate.airframe import Airframe, World
from nembrit.core.simulate.flight import fly
from nembrit.core.tuning.design import target_for
from nembrit.core.tuning.gate import MOST_PEAK
from nembrit.core.types import AXES
from tests.trueloop import of_the_movement

FIRST_SEED = 745200000  # drawn for this run; 731600000 for the one before
N_CRAFT, MOST_FLIGHTS = 60, 8
KINDS = ("sound", "P high", "soft", "D noisy", "filters late", "I low")
_ASKED = ("noise", "response", "metrics", "judgement", "shaping", "loop")


@dataclass(kw_only=True)
class Story:
    """One craft from its first flight to its last."""

    kind: str
    n_flights: int = 0
    decisions: list[Decision] = field(default_factory=list)
    true_peaks: list[float] = field(default_factory=list)  # of roll and pitch after each change; infinite: unstable
    end: str = ""
    motor_noise_ratio: float | None = None  # of the last flight, over its target


def story_of(seed: int) -> Story:
    rng = np.random.default_rng(seed)
    craft, airframe = random_airframe(rng)
    kind = KINDS[seed % len(KINDS)]
    settings = mistuned(kind, sound_controller(airframe, rng), rng)
    story = Story(kind=kind)
    card = MEASURING_CARD
    for number in range(MOST_FLIGHTS):
        try:
            results, recording = flown(craft, airframe, settings, card, seed + 1000 * number, float(rng.uniform(0, 4)))
        except CoreError:
            story.end = "lost control"
            return story
        story.n_flights += 1
        bench = bench_of(results, settings, craft)
        rough = bench.shaping.roughness_ratio if bench.shaping else None
        story.motor_noise_ratio = rough / target_for("usual", craft.diameter_in) if rough else None
        findings = results.judgement.findings if results.judgement else ()
        found = decide(findings, bench, diameter_in=craft.diameter_in, card=card)
        story.decisions.append(found)
        card = found.card or MEASURING_CARD
        if found.kind in (VERIFY, REPAIR) or found.is_comfort:
            story.end = "comfort only" if found.is_comfort else found.kind
            story.true_peaks.append(true_peak(craft, airframe, settings, recording))
            return story
        if found.kind == CHANGE:
            settings = changed(settings, found)
            story.true_peaks.append(true_peak(craft, airframe, settings, recording))
        elif found.kind != FLY:
            story.end = found.kind
            return story
    story.end = "eight flights"
    return story


def mistuned(kind: str, sound: Controller, rng: np.random.Generator) -> Controller:
    """The sound controller, wrong in one way."""
    by = float(rng.uniform(1.5, 2.2))
    if kind == "P high":
        return _scaled(sound, p=by)
    if kind == "soft":
        return _scaled(sound, p=1 / by, d=1 / by)
    if kind == "I low":
        return _scaled(sound, i=0.25 / by)
    if kind == "D noisy":
        return replace(_scaled(sound, d=1.2), d_term=(Filter(kind="lowpass_2", frequency_hz=float(rng.uniform(250, 400))),))
    if kind == "filters late":
        return replace(sound, gyro=(Filter(kind="lowpass_2", frequency_hz=float(rng.uniform(45, 70))),))
    return sound


def _scaled(one: Controller, **factors: float) -> Controller:
    gains = {
        axis: replace(own, **{term: getattr(own, term) * by for term, by in factors.items()}) for axis, own in one.gains.items()
    }
    return replace(one, gains=gains)


def changed(settings: Controller, decision: Decision) -> Controller:
    """The settings after a change was written and put on."""
    if decision.chains is not None:
        settings = replace(settings, chip=decision.chains.chip, gyro=decision.chains.gyro, d_term=decision.chains.d_term)
    if decision.idle_ratio:
        settings = replace(settings, idle=settings.idle * decision.idle_ratio)
    gains = {
        axis: replace(own, **{term: getattr(own, term) * by for term, by in decision.ratios.get(axis, {}).items()})
        for axis, own in settings.gains.items()
    }
    return replace(settings, gains=gains)


def flown(
    craft: Craft, airframe: Airframe, settings: Controller, key: str, seed: int, wind_m_s: float
) -> tuple[FlightResults, Recording]:
    card = next(one for one in CARDS if one.key == key)
    flight = fly(craft, settings, card, World(seed=seed, wind_m_s=wind_m_s), airframe=airframe)
    recording = Recording.of(flight.channels, sample_rate_hz=2000.0).span(2.5, float(flight.t_s[-1]) - 2.0)
    facts = CraftFacts(mixer=craft.mixer(), blades=craft.blades, controller=settings)
    return analyse(Flight(recording, craft=facts), only=_ASKED), recording


def bench_of(results: FlightResults, settings: Controller, craft: Craft) -> Choosing:
    steps = results.response.steps if results.response else {}
    return Choosing(loop=results.loop, steps=steps, shaping=results.shaping, flown=settings, mixer=craft.mixer())


def true_peak(craft: Craft, airframe: Airframe, settings: Controller, recording: Recording) -> float:
    """The larger true sensitivity peak of roll and pitch where the card moves them; infinite for a loop without margin."""
    peaks = []
    for row, axis in enumerate(AXES[:2]):
        at = {role: of_the_movement(recording, role, axis, craft.mixer()) for role in ("throttle", "battery_voltage")}
        edge, _ = truth_of(craft, settings, airframe, row, at["throttle"], voltage_v=at["battery_voltage"])
        is_lost = edge.phase_margin_deg is not None and edge.phase_margin_deg <= 0
        peaks.append(np.inf if is_lost else float(edge.sensitivity_peak))
    return max(peaks)


def measure(n_craft: int = N_CRAFT, first_seed: int = FIRST_SEED) -> tuple[list[str], bool]:
    with ProcessPoolExecutor() as pool:
        stories = list(pool.map(story_of, range(first_seed, first_seed + n_craft)))
    changes = [one for story in stories for one in story.decisions if one.kind == CHANGE and not one.is_comfort]
    after = [peak for story in stories for peak in story.true_peaks]
    sound = [story for story in stories if story.kind == "sound"]
    soft = [story for story in stories if story.kind == "soft"]
    moved = [
        story for story in sound if story.decisions and story.decisions[0].kind == CHANGE and not story.decisions[0].is_comfort
    ]
    softer = [story for story in soft if story.decisions and _makes_softer(story.decisions[0])]
    beyond = sum(story.true_peaks[-1] > MOST_PEAK for story in stories if story.true_peaks)
    ended = [story for story in stories if _is_within(story)]
    flights = float(np.median([story.n_flights for story in ended])) if ended else np.nan
    lines = [
        "## One advice, followed", "",
        f"Measured {datetime.now(UTC):%d %B %Y} on {n_craft} random craft, seeds from {first_seed}: sound, or mistuned in one "
        f"way; the half-minute card in up to 4 m/s of wind, the decision done, flown again, {MOST_FLIGHTS} flights at most.",
        "", "| what | came out | wanted |", "|---|---|---|",
        f"| changes beyond comfort that were unstable in truth | {sum(np.isinf(after))} of {len(changes)} | 0 |",
        f"| true sensitivity peak above {MOST_PEAK:g} at the end | {beyond} of {len(stories)} | |",
        f"| sound craft told to change beyond comfort | {len(moved)} of {len(sound)} | 0 |",
        f"| soft craft made softer | {len(softer)} of {len(soft)} | 0 |",
        f"| ended within limits after at most {MOST_FLIGHTS} flights | {len(ended)} of {len(stories)} | 90 % |",
        f"| flights to that end, median | {flights:.0f} | |",
        "", "| craft | number | ended within limits | flights | ended by |", "|---|---|---|---|---|",
        *(_row(kind, [story for story in stories if story.kind == kind]) for kind in KINDS),
    ]  # fmt: skip
    return lines, not any(np.isinf(after)) and not moved and not softer


def _makes_softer(decision: Decision) -> bool:
    return any(terms.get("p", 1.0) < 1 for terms in decision.ratios.values())


def _is_within(story: Story) -> bool:
    """Nothing left to do beyond comfort, and the true margins agree."""
    return story.end in (VERIFY, "comfort only") and bool(story.true_peaks) and story.true_peaks[-1] <= MOST_PEAK


def _row(kind: str, stories: Sequence[Story]) -> str:
    ends: dict[str, int] = {}
    for story in stories:
        ends[story.end] = ends.get(story.end, 0) + 1
    told = ", ".join(f"{end} {n}" for end, n in sorted(ends.items(), key=lambda pair: -pair[1]))
    within = sum(map(_is_within, stories))
    return (
        f"| {kind} | {len(stories)} | {within} | {np.median([story.n_flights for story in stories] or [np.nan]):.0f} | {told} |"
    )


def main(n_craft: str = str(N_CRAFT), first_seed: str = str(FIRST_SEED)) -> int:
    lines, is_honest = measure(int(n_craft), int(first_seed))
    print("\n".join(lines))
    return 0 if is_honest else 1


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
