"""Fits the weights of the joint ranking of causes on simulated flights; run by hand; it writes `core/causes/weights.json`.

`python -m benchmarks.fit_causes FIRST_SEED N_PER_CAUSE [FIRST_SEED N_PER_CAUSE …] [--fit]` with PYTHONPATH=src:. and
OMP_NUM_THREADS=1; symptoms are cached in the temporary folder.
"""

import json
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import scipy.optimize
import scipy.special

from benchmarks.random_craft import CAUSES, fault_case
from nembrit.core.causes.ranking import CLEAN, design, rank
from nembrit.core.causes.sight import Sight
from nembrit.core.causes.symptoms import symptoms_of
from nembrit.core.causes.table import CAUSES as KNOWN
from nembrit.core.causes.weights import FEATURES, PLACE, Weights, write_weights
from nembrit.core.manoeuvres.detect import manoeuvres


def measured(job: tuple[int, str, str]) -> dict[str, Any]:
    """The symptoms of one random flight with one cause, and whose fault it was."""
    seed, cause, flavour = job
    case = fault_case(seed, cause, flavour=flavour)
    spans = manoeuvres(case.recording)
    sight = Sight(case.recording, mixer=case.craft.mixer(), blades=case.craft.blades, spans=spans)
    return {"seed": seed, "cause": cause, "values": dict(symptoms_of(sight).values)}


def cases(first_seed: int, n_per_cause: int) -> list[tuple[int, str, str]]:
    """As many flights of every fault as of every flavour of sound ones."""
    faults = [(first_seed + 1000 * k + n, cause, "") for k, cause in enumerate(CAUSES[1:]) for n in range(n_per_cause)]
    sound = [
        (first_seed + 50_000 + 1000 * k + n, "clean", flavour)
        for k, flavour in enumerate(("", "calm", "windy", "lively", "offset"))
        for n in range(n_per_cause)
    ]
    jobs = faults + sound
    return [jobs[k] for k in np.random.default_rng(first_seed).permutation(len(jobs))]


def measured_all(first_seed: int, n_per_cause: int) -> list[dict[str, Any]]:
    """All cases, on every processor; kept in a file so that fitting can be repeated."""
    kept = Path(tempfile.gettempdir()) / f"symptoms-{first_seed}-{n_per_cause}-{FEATURES}.json"
    if not kept.exists():
        with ProcessPoolExecutor() as pool:
            kept.write_text(json.dumps(list(pool.map(measured, cases(first_seed, n_per_cause), chunksize=4))))
    return list(json.loads(kept.read_text()))


def fitted(rows: list[dict[str, Any]], penalty: float = 0.004) -> tuple[dict[str, float], dict[str, tuple[float, ...]]]:
    """Biases and weights of at least zero by penalised log loss, as if half of all flights were sound."""
    table, columns = design([row["values"] for row in rows])
    codes = [CLEAN, *(cause.code for cause in KNOWN)]
    truth = np.array([codes.index(row["cause"]) for row in rows])
    share = np.where(truth == 0, 0.5 / np.sum(truth == 0), 0.5 / np.sum(truth != 0))
    n_features, n_causes = table.shape[1], len(KNOWN)

    def scores(parameters: np.ndarray) -> np.ndarray:
        weights, biases = parameters[:n_features], parameters[n_features:]
        own = [table[:, a:b] @ weights[a:b] + biases[n] for n, (a, b) in enumerate(columns)]
        return np.column_stack([np.zeros(len(rows)), *own])

    def loss(parameters: np.ndarray) -> float:
        z = scores(parameters)
        likely = z[np.arange(len(rows)), truth] - scipy.special.logsumexp(z, axis=1)
        return float(-likely @ share + penalty * (parameters[:n_features] ** 2).mean())

    start = np.concatenate((np.ones(n_features), -3 * np.ones(n_causes)))
    found = scipy.optimize.minimize(
        loss, start, method="L-BFGS-B", bounds=[(0, 8)] * n_features + [(-14, 1)] * n_causes, options={"maxfun": 200_000}
    ).x
    biases = {cause.code: round(float(found[n_features + n]), 3) for n, cause in enumerate(KNOWN)}
    weights = {cause.code: tuple(round(float(w), 3) for w in found[a:b]) for cause, (a, b) in zip(KNOWN, columns, strict=True)}
    return biases, weights


def judged(rows: list[dict[str, Any]]) -> None:
    """How the ranking with the weights in force does on these rows."""
    tops, confident, wrong = [], [], []
    for row in rows:
        likelihood = rank(row["values"]).likelihood
        order = sorted(likelihood, key=lambda code: -likelihood[code])
        tops.append((row["cause"], order[0], order[1], likelihood[order[0]]))
        if order[0] != row["cause"]:
            wrong.append(f"{row['seed']} {row['cause']} taken for {order[0]} ({likelihood[order[0]]:.2f})")
        if order[0] != CLEAN and likelihood[order[0]] >= 0.8:
            confident.append(order[0] == row["cause"])
    faulty = [top for top in tops if top[0] != CLEAN]
    clean = [top for top in tops if top[0] == CLEAN]
    first, two = np.mean([t == a for t, a, _, _ in faulty]), np.mean([t in (a, b) for t, a, b, _ in faulty])
    n_false = sum(a != CLEAN and p >= 0.8 for _, a, _, p in clean)
    print(f"first cause right {first:.3f}, in the first two {two:.3f} of {len(faulty)}")
    print(f"act right {np.mean(confident):.3f} of {len(confident)}; clean with act {n_false} of {len(clean)}")
    for low, high in ((0.25, 0.6), (0.6, 0.85), (0.85, 0.97), (0.97, 1.01)):
        own = [(p, t == a) for t, a, _, p in tops if low <= p < high]
        if own:
            print(f"   stated {np.mean([p for p, _ in own]):.2f} true {np.mean([right for _, right in own]):.2f} of {len(own)}")
    print("\n".join(wrong))


if __name__ == "__main__":
    numbers = [int(word) for word in sys.argv[1:] if word != "--fit"]
    known = [row for first_seed, n in zip(numbers[::2], numbers[1::2], strict=True) for row in measured_all(first_seed, n)]
    if "--fit" in sys.argv:
        biases, weights = fitted(known)
        write_weights(PLACE, Weights(biases=biases, weights=weights), seeds=numbers[::2], fitted_on=datetime.now(UTC).date())
    else:
        judged(known)
