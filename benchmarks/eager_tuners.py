"""Tuners alone, eager to see progress: how often a change that does nothing is called better, and a real one found.

`python -m benchmarks.eager_tuners [TUNERS] [SEED]`: each tuner flies one change and tries everything that a person tries without
noticing; whatever page they see first that says “better” is what they remember. Writes `docs/eager-tuners.md`.
"""

import math
import sys
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from nembrit.core.trials.counting import FlownFlight, standings
from nembrit.core.trials.plan import Limit, Plan, Primary
from nembrit.core.trials.trial import TrialVerdict, judge

REPORT = Path(__file__).parents[1] / "docs" / "eager-tuners.md"
N_TUNERS, SEED = 1600, 20261128
SCATTER = 0.08  # coefficient of variation of a flight's numbers, as in methods, section 7
PLAN = Plan(
    primary=Primary(metric="motion_noise.roll", direction="lower"),
    limits=(Limit(metric="overshoot.roll", most=0.03), Limit(metric="bounce_back.roll", most=0.15)),
)


@dataclass
class Tuner:
    """One person with one craft, one change and a log of flights."""

    rng: np.random.Generator
    effect: float  # ratio of the judged metric after the change
    plan: Plan = PLAN
    flights: list[FlownFlight] = field(default_factory=list)
    saw_better: bool = False

    def fly(self, is_after: bool, **changes: object) -> None:
        noise = self.rng.normal(0, 1, 4)
        level = math.log(self.effect) if is_after else 0.0
        metrics = {
            "motion_noise.roll": 2.0 * math.exp(level + SCATTER * noise[0]),
            "tracking_error.roll": 8.0 * math.exp(SCATTER * noise[1]),
            "overshoot.roll": 0.06 + 0.01 * noise[2],
            "bounce_back.roll": 20.0 * math.exp(SCATTER * noise[3]),
        }
        fault = "a bent propeller" if noise[0] > 1.2 else ""  # a finding is likelier where the noise is high
        flight = FlownFlight(number=len(self.flights) + 1, is_after=is_after, metrics=metrics, fault=fault)
        self.flights.append(replace(flight, **changes))  # type: ignore[arg-type]  # fields by name

    def look(self) -> TrialVerdict:
        found = judge(standings(self.flights, self.plan), self.plan)
        self.saw_better |= found.word == "better"
        return found

    def change(self, number: int, **changes: object) -> None:
        self.flights[number - 1] = replace(self.flights[number - 1], **changes)  # type: ignore[arg-type]  # fields by name

    def answer_selectively(self) -> None:
        """Suggestions: leave out after the change, keep before it."""
        for one in standings(self.flights, self.plan):
            if one.is_open:
                self.change(one.flight.number, chosen="out" if one.flight.is_after else "in")


def honest(tuner: Tuner) -> None:
    """As planned: four before, four after, suggestions followed."""
    for is_after in (False, True):
        for _ in range(12):
            if _n(tuner, is_after) < 4:
                tuner.fly(is_after)
    tuner.look()


def _n(tuner: Tuner, is_after: bool) -> int:
    return sum(one.counts and one.flight.is_after == is_after for one in standings(tuner.flights, tuner.plan))


def looks_after_every_flight(tuner: Tuner) -> None:
    for _ in range(5):
        tuner.fly(False)
    for _ in range(12):
        tuner.fly(True)
        tuner.look()


def goes_on_until_it_pleases(tuner: Tuner) -> None:
    honest(tuner)
    for total in (6, 8, 10):
        tuner.plan = replace(tuner.plan, extensions=(*tuner.plan.extensions, total))
        for is_after in (False, True) * 12:
            if _n(tuner, is_after) < total:
                tuner.fly(is_after)
        tuner.look()


def counts_the_best_flight_twice(tuner: Tuner) -> None:
    for _ in range(5):
        tuner.fly(False)
    for _ in range(3):
        tuner.fly(True)
    best = min((one for one in tuner.flights if one.is_after), key=lambda one: one.metrics["motion_noise.roll"])
    for _ in range(3):
        tuner.flights.append(replace(best, number=len(tuner.flights) + 1))
        tuner.look()


def leaves_out_what_does_not_please(tuner: Tuner) -> None:
    for _ in range(6):
        tuner.fly(False)
    for _ in range(8):
        tuner.fly(True)
    after = sorted((one for one in tuner.flights if one.is_after), key=lambda one: -one.metrics["motion_noise.roll"])
    for one in after[:4]:
        tuner.look()
        tuner.change(one.number, chosen="out", chosen_why="gusty")
    tuner.look()


def answers_suggestions_as_it_pleases(tuner: Tuner) -> None:
    for is_after in (False, True):
        for _ in range(8):
            tuner.fly(is_after)
    tuner.look()
    tuner.answer_selectively()
    tuner.look()


def undoes_and_tries_again(tuner: Tuner) -> None:
    for _ in range(4):
        honest(tuner)
        for _ in range(4):  # with the settings of before again, then with the change again
            tuner.fly(False)
        for _ in range(4):
            tuner.fly(True)
            tuner.look()


def mixes_what_is_at_hand(tuner: Tuner) -> None:
    """Before in gusts outside at half the rate, after in the simulator; then the other way round."""
    for _ in range(5):
        tuner.fly(False, sample_rate_hz=500.0)
        tuner.fly(False, is_simulated=True)
    for _ in range(5):
        tuner.fly(True)
        tuner.fly(True, is_simulated=True, window_s=6.0)
        tuner.look()


HABITS: tuple[Callable[[Tuner], None], ...] = (
    honest, looks_after_every_flight, goes_on_until_it_pleases, counts_the_best_flight_twice,
    leaves_out_what_does_not_please, answers_suggestions_as_it_pleases, undoes_and_tries_again, mixes_what_is_at_hand,
)  # fmt: skip


def shares(n_tuners: int, seed: int, effect: float, habits: tuple[Callable[[Tuner], None], ...]) -> dict[str, list[bool]]:
    """By habit, whether each of its tuners saw “better”."""
    found: dict[str, list[bool]] = {habit.__name__: [] for habit in habits}
    for k in range(n_tuners):
        tuner = Tuner(rng=np.random.default_rng([seed, k]), effect=effect)
        habit = habits[k % len(habits)]
        habit(tuner)
        found[habit.__name__].append(tuner.saw_better)
    return found


def main(n_tuners: str = str(N_TUNERS), seed: str = str(SEED)) -> None:
    nothing = shares(int(n_tuners), int(seed), 1.0, HABITS)
    first = sum(sum(seen[:5]) for seen in nothing.values())
    real = shares(int(n_tuners) // 4, int(seed) + 1, 0.8, (honest,))["honest"]
    every = [one for seen in nothing.values() for one in seen]
    rows = [f"| {name.replace('_', ' ')} | {len(seen)} | {100 * np.mean(seen):.1f} % |" for name, seen in nothing.items()]
    text = [
        "# Eager tuners", "",
        f"`python -m benchmarks.eager_tuners`, {datetime.now(UTC):%d %B %Y}, seed {seed}, drawn once. Numbers of",
        f"a flight scatter by {100 * SCATTER:.0f} %; four a side, two harm limits. Counted is whoever ever saw “better”.", "",
        f"The first forty with a change that does nothing: {first} saw “better” (two at most are wanted). All of them:",
        f"{100 * np.mean(every):.1f} % of {len(every)}. With a real improvement of 20 %, at the planned number:",
        f"{100 * np.mean(real):.0f} % of {len(real)} (80 wanted).", "",
        "| a change that does nothing, and a tuner who … | tuners | saw “better” |", "|---|---|---|", *rows, "",
    ]  # fmt: skip
    REPORT.write_text("\n".join(text), encoding="utf-8")
    print("\n".join(text))


if __name__ == "__main__":
    main(*sys.argv[1:])
