"""A question answered by flights of several arms: each arm against the first one, and what else differed between them."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.trials.arms import TEST_OF
from nembrit.core.trials.chances import flights_to_find
from nembrit.core.trials.counting import FlownFlight, standings
from nembrit.core.trials.guesses import GuessResult, judge_guesses
from nembrit.core.trials.looks import LEVEL
from nembrit.core.trials.metrics import metric_kind
from nembrit.core.trials.permutation import PermutationResult, permutation_test
from nembrit.core.trials.plan import Plan, Primary
from nembrit.core.trials.trial import WORDS, judge
from nembrit.core.trials.verdict import scaled
from nembrit.core.trials.welch import holm_adjusted

RATING = "rating"  # judged by the pilot's own marks from 1 to 5 instead of a metric
_MATTERS_MARK = 0.5  # of a mark (common practice, no source)
_WIND_M_S, _START_V = 2.0, 0.1  # differences between arms that may explain a result (common practice, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class ArmFlight:
    """One flight of an experiment, in the order flown."""

    arm: int
    flight: FlownFlight
    rating: int | None = None
    guess: int | None = None
    pack: str = ""
    wind_m_s: float | None = None
    start_cell_v: float | None = None
    build: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class ArmPlan:
    """What was fixed before flying. `metric` is a metric's name or RATING; `direction` the way that is better."""

    metric: str
    direction: str
    design: str
    repetitions: int
    n_arms: int


@dataclass(frozen=True, slots=True, kw_only=True)
class ArmVerdict:
    """One arm against the first one."""

    arm: int
    word: str  # better, better_but, worse, no_difference, not_yet, cannot
    why: str
    p_value: float | None
    p_adjusted: float | None
    needed: int | None  # flights per variant that would show a difference that matters, where it is known

    @property
    def sentence(self) -> str:
        if self.word == "better_but":
            return f"{WORDS[self.word]} {self.why}"
        return f"{'not enough to tell' if self.word == 'cannot' and self.needed else WORDS[self.word]}: {self.why}"


@dataclass(frozen=True, slots=True, kw_only=True)
class ExperimentVerdict:
    """What the flights say: each arm against the first, whether the pilot could tell, and what else differed."""

    arms: tuple[ArmVerdict, ...]
    guesses: GuessResult | None
    confounders: tuple[str, ...]


def judge_experiment(flights: Sequence[ArmFlight], plan: ArmPlan) -> ExperimentVerdict:
    """Judge every arm against the first one, by the exact test that the order flown allows.

    Flights with a fault, a crash or an abort are left out by rule. With more than two arms the p-values are Holm-adjusted:
    what does not stand after that is no longer *better* or *worse*. Source: `permutation`, `welch`.
    """
    verdicts = [_against_first(flights, arm, plan) for arm in range(1, plan.n_arms)]
    have = [one for one in verdicts if one.p_value is not None]
    adjusted = dict(zip((one.arm for one in have), holm_adjusted([one.p_value or 0.0 for one in have]), strict=True))
    sizes = _group_sizes(len(flights), plan)
    return ExperimentVerdict(
        arms=tuple(_stands(one, adjusted.get(one.arm)) for one in verdicts),
        guesses=judge_guesses([one.guess for one in flights], [one.arm for one in flights], group_sizes=sizes),
        confounders=confounders(flights, plan.n_arms),
    )


def _stands(verdict: ArmVerdict, adjusted: float | None) -> ArmVerdict:
    found = replace(verdict, p_adjusted=adjusted)
    if adjusted is None or adjusted <= LEVEL or verdict.word not in ("better", "better_but", "worse"):
        return found
    return replace(
        found, word="cannot", why=f"{verdict.why}, but not after the correction for several variants (p = {adjusted:.2g})"
    )


def _group_sizes(n_flights: int, plan: ArmPlan) -> list[int]:
    """Flights in a row within which arms could have changed places; the last group may be unfinished."""
    size = {"blocks": 2 * plan.n_arms, "latin": plan.n_arms, "random": max(n_flights, 1)}[plan.design]
    return [min(size, n_flights - start) for start in range(0, n_flights, size)]


def _against_first(flights: Sequence[ArmFlight], arm: int, plan: ArmPlan) -> ArmVerdict:
    own = [replace(one, flight=replace(one.flight, is_after=one.arm == arm)) for one in flights if one.arm in (0, arm)]
    if plan.metric == RATING:
        return _rated(own, arm, plan)
    ruled = [_by_rule(one.flight) for one in own]
    trial = Plan(
        primary=Primary(metric=plan.metric, direction=plan.direction), flights_a_side=plan.repetitions, order=TEST_OF[plan.design]
    )
    standing = standings(ruled, trial)
    verdict = judge(standing, trial)
    primary = verdict.primary
    p_value = primary.p_value if primary else None
    if verdict.word == "worse":
        p_value = _feared([one.flight for one in standing if one.counts], plan)
    needed = primary.flights_needed if primary else None
    return ArmVerdict(arm=arm, word=verdict.word, why=verdict.why, p_value=p_value, p_adjusted=None, needed=needed)


def _feared(flights: Sequence[FlownFlight], plan: ArmPlan) -> float | None:
    """The p of the other direction: that this arm is worse."""
    kind = metric_kind(plan.metric)
    have = [flight for flight in flights if plan.metric in flight.metrics]
    if kind is None or not have:
        return None
    sign = -1.0 if plan.direction == "lower" else 1.0
    values = [sign * scaled(flight.metrics[plan.metric], kind) for flight in have]
    return _tested(values, [flight.is_after for flight in have], plan).p_value


def _by_rule(flight: FlownFlight) -> FlownFlight:
    """A flight that went wrong is left out here without being asked about: the order was fixed before."""
    wrong = flight.fault or flight.ended
    return replace(flight, chosen="out", chosen_why=wrong) if wrong and not flight.chosen else flight


def _rated(own: Sequence[ArmFlight], arm: int, plan: ArmPlan) -> ArmVerdict:
    """Marks compared as they are, by the same exact test."""
    rated = [one for one in own if one.rating is not None and not one.flight.ended]
    n_after = sum(one.flight.is_after for one in rated)
    n_before = len(rated) - n_after
    if min(n_before, n_after) < plan.repetitions:
        why = f"{n_before} of {plan.repetitions} rated of the first variant, {n_after} of this one"
        return ArmVerdict(arm=arm, word="not_yet", why=why, p_value=None, p_adjusted=None, needed=None)
    marks = [float(one.rating or 0) for one in rated]
    is_after = [one.flight.is_after for one in rated]
    sign = -1.0 if plan.direction == "higher" else 1.0
    hoped = _tested([sign * mark for mark in marks], is_after, plan)
    feared = _tested([-sign * mark for mark in marks], is_after, plan)
    means = [
        float(np.mean([mark for mark, after in zip(marks, is_after, strict=True) if after == side])) for side in (False, True)
    ]
    told = f"rated {means[1]:.2g} against {means[0]:.2g}"
    if hoped.p_value <= LEVEL:
        return ArmVerdict(arm=arm, word="better", why=told, p_value=hoped.p_value, p_adjusted=None, needed=None)
    if feared.p_value <= LEVEL:
        return ArmVerdict(arm=arm, word="worse", why=told, p_value=feared.p_value, p_adjusted=None, needed=None)
    if max(hoped.bound, feared.bound) < _MATTERS_MARK and min(hoped.bound, feared.bound) > -math.inf:
        why = f"{told}; half a mark either way is ruled out"
        return ArmVerdict(arm=arm, word="no_difference", why=why, p_value=hoped.p_value, p_adjusted=None, needed=None)
    sd = float(np.std([mark - means[after] for mark, after in zip(marks, is_after, strict=True)], ddof=2))
    needed = flights_to_find(_MATTERS_MARK, sd=sd, design=TEST_OF[plan.design])
    why = f"{told}; half a mark is not ruled out" + (f"; about {needed} flights per variant would show it" if needed else "")
    return ArmVerdict(arm=arm, word="cannot", why=why, p_value=hoped.p_value, p_adjusted=None, needed=needed)


def _tested(values: list[float], is_after: list[bool], plan: ArmPlan) -> PermutationResult:
    try:
        return permutation_test(values, is_after, design=TEST_OF[plan.design])
    except InputError:  # a flight of a group is missing: the order that is left allows any split
        return permutation_test(values, is_after, design="free")


def confounders(flights: Sequence[ArmFlight], n_arms: int) -> tuple[str, ...]:
    """What else differed between the arms, in sentences; empty where nothing is known to."""
    arms = [[one for one in flights if one.arm == arm] for arm in range(n_arms)]
    found = []
    if told := _spread(arms, "wind_m_s", _WIND_M_S):
        found.append(f"wind differed: {told} m/s on average")
    if told := _spread(arms, "start_cell_v", _START_V):
        found.append(f"packs were not equally full at the start: {told} V per cell on average")
    packs = sorted({one.pack for one in flights if one.pack})
    uses = [[sum(one.pack == pack for one in own) for own in arms] for pack in packs]
    if any(max(own) - min(own) > 1 for own in uses):
        found.append("one variant flew a pack more often than another")
    if len({one.build for one in flights}) > 1 and any(len({one.build for one in own}) > 1 for own in arms):
        found.append("the hardware changed in between")
    places: Mapping[int, list[int]] = {arm: [k for k, one in enumerate(flights) if one.arm == arm] for arm in range(n_arms)}
    means = [float(np.mean(own)) for own in places.values() if own]
    if len(means) > 1 and max(means) - min(means) > 0.25 * len(flights):
        found.append("one variant flew earlier than another: a drift over time is not ruled out")
    return tuple(found)


def _spread(arms: Sequence[Sequence[ArmFlight]], name: str, most: float) -> str:
    """Means of the arms where they lie too far apart, “3.1 and 5.4”; empty where they do not, or are not known."""
    known = [[value for one in own if (value := getattr(one, name)) is not None] for own in arms]
    if any(not own for own in known):
        return ""
    means = [float(np.mean(own)) for own in known]
    return " and ".join(f"{mean:.3g}" for mean in means) if max(means) - min(means) > most else ""
