"""Fits the weights of the joint ranking of causes on simulated flights of several worlds, and judges them on worlds left out.

`python -m benchmarks.fit_causes FIRST_SEED N_PER_CAUSE [N_SOUND] --fit` writes `core/causes/weights.json`; without `--fit` the
weights in force are judged on those flights, with a table for `docs/accuracy.md`. `--left-out` judges every world by weights that
were fitted to the others. `--rows FILE` adds rows that workshops exported (findings with their measurements and what the repair
proved). Run it with PYTHONPATH=src:. and OMP_NUM_THREADS=1; symptoms are kept in the temporary folder.
"""

import json
import sys
import tempfile
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from datetime import UTC, datetime
from itertools import combinations, pairwise
from pathlib import Path
from typing import Any

import numpy as np
import scipy.optimize
import scipy.special

from benchmarks.worlds import FAULTS, MILD, WORLDS, jobs_of, world_case
from nembrit.core.causes.findings import ACT, WATCH
from nembrit.core.causes.ranking import CLEAN, base_score, is_pair, likelihoods
from nembrit.core.causes.symptoms import symptoms_of
from nembrit.core.causes.table import BY_CODE, CAUSES
from nembrit.core.causes.weights import FEATURES, PLACE, Weights, fitted_weights, write_weights
from nembrit.core.errors import InputError

JUDGED_SEED = 934000000  # drawn after the fit
_LEAST_USUAL = 12
_PENALTY = 0.004  # on the weights' mean square
_LEAST_STATED = 0.02  # below it nothing is said
_BINS = (0.0, 0.2, 0.4, 0.6, 0.8, 1.01)


def measured(job: tuple[int, str, tuple[str, ...], str]) -> dict[str, Any] | None:
    """The symptoms of one flight of a world, and what is wrong with it; None for a craft that cannot be kept in the air."""
    seed, world, causes, flavour = job
    try:
        case = world_case(seed, world, causes, flavour=flavour)
    except InputError:
        return None
    values = {name: float(value) for name, value in symptoms_of(case.flight).values.items()}
    return {"seed": seed, "world": world, "causes": causes, "flavour": flavour, "severity": case.severity, "values": values}


def measured_all(first_seed: int, n_per_cause: int, n_sound: int) -> list[dict[str, Any]]:
    """All flights, on every processor; kept in a file so that fitting can be repeated."""
    kept = Path(tempfile.gettempdir()) / f"worlds-{first_seed}-{n_per_cause}-{n_sound}-{FEATURES}.json"
    if not kept.exists():
        with ProcessPoolExecutor() as pool:
            rows = list(pool.map(measured, jobs_of(first_seed, n_per_cause, n_sound=n_sound), chunksize=4))
        kept.write_text(json.dumps([row for row in rows if row is not None]))
    return list(json.loads(kept.read_text()))


def exported(place: Path) -> list[dict[str, Any]]:
    """Rows of an open file of findings: only flights whose repair was verified say what was wrong."""
    document = json.loads(place.read_text(encoding="utf-8"))
    return [
        {"seed": 0, "world": "workshops", "causes": [] if row["truth"] == CLEAN else [row["truth"]], "flavour": "",
         "severity": 1.0, "values": row["values"]}
        for row in document["findings"]
        if row["truth"] == CLEAN or row["truth"] in BY_CODE
    ]  # fmt: skip


def fitted(rows: Sequence[dict[str, Any]]) -> Weights:
    """Biases, weights of at least zero and the cost of a pair by penalised log loss, as if half of all flights were sound.

    A flight with two faults counts for the pair of both; one without a cause's evidence holds its score at the base rate.
    """
    codes = [cause.code for cause in CAUSES]
    pairs = [(codes.index(a), codes.index(b)) for a, b in combinations(codes, 2) if is_pair(a, b)]
    widths = [cause.n_evidence for cause in CAUSES]
    edges = np.concatenate(([0], np.cumsum(widths)))
    table, is_told = np.zeros((len(rows), int(edges[-1]))), np.zeros((len(rows), len(codes)), bool)
    for k, row in enumerate(rows):
        for n, cause in enumerate(CAUSES):
            if (evidence := cause.evidence(row["values"])) is not None:
                table[k, edges[n] : edges[n + 1]], is_told[k, n] = evidence, True
    truth = np.array([_place(row, codes, pairs) for row in rows])
    known = np.flatnonzero(truth >= 0)
    share = np.where(truth == 0, 0.5 / max(1, np.sum(truth == 0)), 0.5 / max(1, np.sum(truth > 0)))
    n_features, n_causes = table.shape[1], len(codes)
    both = np.array(pairs)
    untold_pair = ~(is_told[:, both[:, 0]] & is_told[:, both[:, 1]])

    def loss(point: np.ndarray) -> float:
        weights, biases, cost = point[:n_features], point[n_features:-1], point[-1]
        own = np.column_stack([table[:, a:b] @ weights[a:b] for a, b in pairwise(edges)]) + biases
        own = np.where(is_told, own, base_score())
        paired = np.where(untold_pair, -50.0, own[:, both[:, 0]] + own[:, both[:, 1]] - cost)
        z = np.column_stack([np.zeros(len(rows)), own, paired])
        likely = z[known, truth[known]] - scipy.special.logsumexp(z[known], axis=1)
        return float(-likely @ share[known] + _PENALTY * (weights**2).mean())

    start = np.concatenate((np.full(n_features, 0.5), np.full(n_causes, -3.0), [3.0]))
    bounds = [(0, 6)] * n_features + [(-8, 0)] * n_causes + [(1, 8)]
    found = scipy.optimize.minimize(loss, start, method="L-BFGS-B", bounds=bounds, options={"maxfun": 60_000}).x
    return Weights(
        biases={code: round(float(found[n_features + n]), 3) for n, code in enumerate(codes)},
        weights={code: tuple(round(float(w), 3) for w in found[edges[n] : edges[n + 1]]) for n, code in enumerate(codes)},
        pair_cost=round(float(found[-1]), 3),
        usual=_usual(rows),
    )


def _usual(rows: Sequence[dict[str, Any]]) -> dict[str, tuple[float, float]]:
    """Between what nine in ten sound flights lie, of every number that a panel shows."""
    found = {}
    for name in sorted({shown.name for cause in CAUSES for shown in cause.shows}):
        values = [row["values"][name] for row in rows if not row["causes"] and name in row["values"]]
        if len(values) >= _LEAST_USUAL:
            low, high = np.quantile(values, (0.05, 0.95))
            found[name] = (float(f"{low:.3g}"), float(f"{high:.3g}"))
    return found


def _place(row: dict[str, Any], codes: list[str], pairs: list[tuple[int, int]]) -> int:
    """Which set is true; −1 for a pair that no set stands for."""
    places = tuple(sorted(codes.index(cause) for cause in row["causes"]))
    if len(places) < 2:
        return 0 if not places else 1 + places[0]
    return 1 + len(codes) + pairs.index((places[0], places[1])) if (places[0], places[1]) in pairs else -1


Answer = tuple[dict[str, float], str, bool]  # likelihoods, the first judged cause or clean, whether it calls for action


def answered(row: dict[str, Any], weights: Weights) -> Answer:
    """What weights make of a row, as findings would have it."""
    scores, untold = {}, []
    for cause in CAUSES:
        evidence = cause.evidence(row["values"])
        if evidence is None:
            untold.append(cause.code)
        scores[cause.code] = (
            base_score()
            if evidence is None
            else weights.biases[cause.code] + float(np.dot(weights.weights[cause.code], evidence))
        )
    found = likelihoods(scores, weights.pair_cost, untold=untold)
    judged = {code: value for code, value in found.items() if code not in untold}
    first = max(judged, key=lambda code: judged[code])
    acts = first != CLEAN and judged[first] >= ACT and not BY_CODE[first].is_only_a_sign(row["values"])
    return judged, first, acts


def table_of(rows: Sequence[dict[str, Any]], weights_of: Callable[[dict[str, Any]], Weights]) -> list[str]:
    """Lines of a report: first cause right, by cause and severity; what calls for action; calibration."""
    judged = [(row, *answered(row, weights_of(row))) for row in rows]
    faulty, sound = [one for one in judged if one[0]["causes"]], [one for one in judged if not one[0]["causes"]]
    lines = [
        "| planted | right first | of those that matter | and that the log could show | right within two | named instead |",
        "|---|---|---|---|---|---|",
    ]
    for cause in FAULTS:
        own = [one for one in faulty if cause in one[0]["causes"]]
        single = [one for one in own if len(one[0]["causes"]) == 1]
        heavy = [one for one in single if one[0]["severity"] >= MILD]
        named: dict[str, int] = {}
        for _, _, first, _ in (one for one in single if one[2] != cause):
            named[first] = named.get(first, 0) + 1
        told = ", ".join(f"{code.replace('_', ' ')} {n}" for code, n in sorted(named.items(), key=lambda pair: -pair[1]))
        lines.append(
            f"| {cause.replace('_', ' ')} | {_share([cause == first for _, _, first, _ in single])} "
            f"| {_share([cause == first for _, _, first, _ in heavy])} "
            f"| {_share([cause == first for _, found, first, _ in heavy if cause in found])} "
            f"| {_share([cause in _first_two(found) for _, found, _, _ in single])} | {told} |"
        )
    single = [one for one in faulty if len(one[0]["causes"]) == 1]
    heavy = [one for one in single if one[0]["severity"] >= MILD]
    pairs = [one for one in faulty if len(one[0]["causes"]) == 2]
    acted = [one for one in judged if one[3]]
    lines += [
        "",
        f"First cause right: {_share([first in row['causes'] for row, _, first, _ in single])} of single faults, "
        f"{_share([first in row['causes'] for row, _, first, _ in heavy])} of those that matter (upper two thirds of severity). "
        f"Where the log could show the cause: "
        f"{_share([first in row['causes'] for row, found, first, _ in heavy if row['causes'][0] in found])}. "
        f"Of flights with two faults, the first named is one of them in "
        f"{_share([first in row['causes'] for row, _, first, _ in pairs])}, both are at `watch` or above in "
        f"{_share([all(found.get(one, 0.0) >= WATCH for one in row['causes']) for row, found, _, _ in pairs])}. "
        f"`act` right: {_share([first in row['causes'] for row, _, first, _ in acted])}. Sound craft with `act`: "
        f"{_share([acts for _, _, _, acts in sound])}; with any `watch`: "
        f"{_share([any(v >= WATCH for code, v in found.items() if code != CLEAN) for _, found, _, _ in sound])}.",
        "",
        "| stated | mean | true | of |",
        "|---|---|---|---|",
    ]
    every = [(value, code in row["causes"]) for row, found, _, _ in judged for code, value in found.items() if code != CLEAN]
    stated = [(value, right) for value, right in every if value > _LEAST_STATED]
    for low, high in pairwise(_BINS):
        inside = [(value, right) for value, right in stated if low <= value < high]
        if inside:
            mean, right = np.mean([value for value, _ in inside]), np.mean([right for _, right in inside])
            lines.append(f"| {low:.1f} to {min(high, 1.0):.1f} | {mean:.2f} | {right:.2f} | {len(inside)} |")
    return lines


def _first_two(found: dict[str, float]) -> list[str]:
    return sorted((code for code in found if code != CLEAN), key=lambda code: -found[code])[:2]


def _share(hits: Sequence[bool]) -> str:
    return f"{sum(hits)} of {len(hits)}"


def measure() -> list[str]:
    """Lines for `docs/accuracy.md`: the weights in force on worlds and seeds that they were not fitted to."""
    rows = measured_all(JUDGED_SEED, 2, 4)
    return ["", "## Causes on several worlds", "", *table_of(rows, lambda row: fitted_weights())]


def main(words: list[str]) -> None:
    numbers = [int(word) for word in words if word.isdigit()]
    rows = measured_all(numbers[0], numbers[1], numbers[2] if len(numbers) > 2 else numbers[1])
    if "--rows" in words:
        rows += exported(Path(words[words.index("--rows") + 1]))
    if "--left-out" in words:
        of_world = {world: fitted([row for row in rows if row["world"] != world]) for world in WORLDS}
        print("\n".join(table_of(rows, lambda row: of_world[row["world"]])))
    elif "--fit" in words:
        write_weights(PLACE, fitted(rows), seeds=numbers[:1], fitted_on=datetime.now(UTC).date())
    else:
        print("\n".join(table_of(rows, lambda row: fitted_weights())))


if __name__ == "__main__":
    main(sys.argv[1:])
