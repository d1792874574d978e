"""The ranking's fitted weights, read from the file that the fit wrote."""

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from functools import cache
from pathlib import Path

from nembrit.core.errors import InputError

PLACE = Path(__file__).with_name("weights.json")
FEATURES = 11  # rises whenever a cause measures or weighs its evidence in another way: weights must be fitted anew then


@dataclass(frozen=True, slots=True, kw_only=True)
class Weights:
    """Bias and weights of at least zero by cause."""

    biases: Mapping[str, float]
    weights: Mapping[str, Sequence[float]]
    pair_cost: float = 4.0  # of two faults at once, in scores
    usual: Mapping[str, Sequence[float]] = field(
        default_factory=dict
    )  # measured value → from and to on nine in ten sound flights


@cache
def fitted_weights() -> Weights:
    """The weights in force. Raises InputError for a file that was changed by hand, or fitted to other features."""
    return read_weights(PLACE)


def read_weights(place: Path) -> Weights:
    """Weights of a file, checked."""
    document = json.loads(place.read_text(encoding="utf-8"))
    found = Weights(
        biases=document["biases"], weights=document["weights"], pair_cost=document["pair_cost"], usual=document["usual"]
    )
    if document["checksum"] != _checksum(found):
        raise InputError(f"{place.name} was changed after it was fitted: run benchmarks/fit_causes.py --fit")
    if document["features"] != FEATURES:
        raise InputError(f"{place.name} was fitted to features {document['features']}, these are {FEATURES}: fit anew")
    return found


def write_weights(place: Path, weights: Weights, *, seeds: Sequence[int], fitted_on: date) -> None:
    """Keep a fit, with the seeds of the flights that it was fitted to."""
    document = {
        "about": "Weights of the joint ranking, written by benchmarks/fit_causes.py; docs/accuracy.md tells how they did since.",
        "fitted_on": fitted_on.isoformat(),
        "features": FEATURES,
        "seeds": list(seeds),
        "checksum": _checksum(weights),
        "biases": dict(weights.biases),
        "weights": {code: list(own) for code, own in weights.weights.items()},
        "pair_cost": weights.pair_cost,
        "usual": {name: list(ends) for name, ends in weights.usual.items()},
    }
    place.write_text(json.dumps(document, indent=1) + "\n", encoding="utf-8")


def _checksum(weights: Weights) -> str:
    own = {code: list(one) for code, one in weights.weights.items()}
    content = {"biases": dict(weights.biases), "weights": own, "pair_cost": weights.pair_cost}
    content["usual"] = {name: list(ends) for name, ends in weights.usual.items()}
    return hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()[:16]
