"""The joint ranking: how likely each cause is, and that nothing is wrong, from one flight's symptoms."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from nembrit.core.causes.table import CAUSES
from nembrit.core.causes.weights import fitted_weights

CLEAN = "clean"
# pairs that one flight cannot tell from one of the two: what one does, the other shows as well
_ONE_OF_TWO = {
    frozenset(pair)
    for pair in (
        ("p_high", "filters_low"), ("loose_mount", "loose_arm"), ("loose_mount", "frame_resonance"),
        ("loose_arm", "frame_resonance"),
    )
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Ranking:
    """Probability of `clean`, and of every cause alone or beside another one: two faults can both be likely.

    Causes that could not be judged are in `unjudged`; they keep their base rate.
    """

    likelihood: dict[str, float]
    unjudged: tuple[str, ...]

    def first(self) -> str:
        return max(self.likelihood, key=self.likelihood.__getitem__)


def rank(values: Mapping[str, float]) -> Ranking:
    """Weigh sets of causes against one another: none, one, or a pair.

    A set's score is the sum of its members' less what a pair costs; a cause's likelihood is the sum over the sets that hold it.
    Each cause has its own evidence only and weights of at least zero, fitted on simulated flights by penalised log loss
    (Hastie, Tibshirani & Friedman, The Elements of Statistical Learning, 4.4). A cause without its channels keeps its base
    rate: neither blamed nor cleared.
    """
    fit = fitted_weights()
    scores: dict[str, float] = {}
    unjudged = []
    for cause in CAUSES:
        evidence = cause.evidence(values)
        if evidence is None:
            unjudged.append(cause.code)
            scores[cause.code] = base_score()
        else:
            scores[cause.code] = fit.biases[cause.code] + float(np.dot(fit.weights[cause.code], evidence))
    return Ranking(likelihood=likelihoods(scores, fit.pair_cost, untold=unjudged), unjudged=tuple(unjudged))


def base_score() -> float:
    """Score against *clean* of a cause that nothing was measured of: half of all flights sound, faults as frequent as each other
    (an assumption; nobody has counted)."""
    return math.log(1 / len(CAUSES))


def is_pair(one: str, other: str) -> bool:
    """Whether two causes may be told at once from one flight."""
    return frozenset((one, other)) not in _ONE_OF_TWO


def likelihoods(scores: Mapping[str, float], pair_cost: float, *, untold: Sequence[str] = ()) -> dict[str, float]:
    """Likelihoods from scores against *clean*, by the sets that hold each cause; `untold` ones enter no pair.

    >>> {code: round(value, 2) for code, value in likelihoods({"a": 4.0, "b": 4.0}, 2.0).items()}
    {'clean': 0.0, 'a': 0.89, 'b': 0.89}
    """
    sets: dict[tuple[str, ...], float] = {(): 0.0} | {(code,): score for code, score in scores.items()}
    told = [code for code in scores if code not in untold]
    sets |= {(a, b): scores[a] + scores[b] - pair_cost for a, b in combinations(told, 2) if is_pair(a, b)}
    top = max(sets.values())
    raised = {one: math.exp(score - top) for one, score in sets.items()}
    total = sum(raised.values())
    found = {CLEAN: raised[()] / total}
    return found | {code: sum(value for one, value in raised.items() if code in one) / total for code in scores}
