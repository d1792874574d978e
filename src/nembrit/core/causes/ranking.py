"""The joint ranking: how likely each cause is, and that nothing is wrong, from one flight's symptoms."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from nembrit.core.causes.table import CAUSES
from nembrit.core.causes.weights import fitted_weights
from nembrit.core.types import FloatArray

CLEAN = "clean"


@dataclass(frozen=True, slots=True, kw_only=True)
class Ranking:
    """Probabilities of every cause and of `clean`; they sum to 1. Causes that could not be judged are in `unjudged`."""

    likelihood: dict[str, float]
    unjudged: tuple[str, ...]

    def first(self) -> str:
        return max(self.likelihood, key=self.likelihood.__getitem__)


def rank(values: Mapping[str, float]) -> Ranking:
    """Weigh all causes against one another.

    Soft-max over causes and *clean*, each cause with its own evidence only and weights of at least zero, fitted on
    simulated flights by penalised log loss (Hastie, Tibshirani & Friedman, The Elements of Statistical Learning,
    4.4). A cause without its channels keeps only its prior: neither blamed nor cleared.
    """
    fit, unjudged = fitted_weights(), []
    scores = {CLEAN: 0.0}
    for cause in CAUSES:
        evidence = cause.evidence(values)
        if evidence is None:
            unjudged.append(cause.code)
            evidence = ()
        weighed = float(np.dot(fit.weights[cause.code][: len(evidence)], evidence)) if evidence else 0.0
        scores[cause.code] = fit.biases[cause.code] + weighed
    top = max(scores.values())
    raised = {code: float(np.exp(score - top)) for code, score in scores.items()}
    total = sum(raised.values())
    return Ranking(likelihood={code: value / total for code, value in raised.items()}, unjudged=tuple(unjudged))


def design(rows: list[Mapping[str, float]]) -> tuple[FloatArray, list[tuple[int, int]]]:
    """Evidence of many flights side by side, shape (n_flights, n_features), and each cause's columns."""
    widths = [cause.n_evidence for cause in CAUSES]
    edges = np.concatenate(([0], np.cumsum(widths)))
    table = np.zeros((len(rows), int(edges[-1])))
    for k, values in enumerate(rows):
        for n, cause in enumerate(CAUSES):
            if (evidence := cause.evidence(values)) is not None:
                table[k, edges[n] : edges[n + 1]] = evidence
    return table, [(int(edges[n]), int(edges[n + 1])) for n in range(len(CAUSES))]
