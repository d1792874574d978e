"""Fits the weights of the joint ranking of causes on simulated flights; run by hand, result goes into `core/tuning/weights.py`.

`python benchmarks/fit_causes.py FIRST_SEED N_PER_CAUSE` with PYTHONPATH=src:. ; symptoms are cached in /tmp.
"""

import json
import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from benchmarks.random_craft import CAUSES, fault_case
from nembrit.core.manoeuvres.detect import manoeuvres
from nembrit.core.tuning.symptoms import symptoms_of


def measured(job: tuple[int, str]) -> dict[str, object]:
    """The symptoms of one random flight with one cause, and whose fault it was."""
    seed, cause = job
    case = fault_case(seed, cause)
    found = symptoms_of(
        case.recording, n_motors=len(case.craft.motors), blades=case.craft.blades, spans=manoeuvres(case.recording)
    )
    return {
        "seed": seed, "cause": cause, "axis": case.axis, "motor": case.motor, "values": found.values,
        "turning": found.turning and found.turning.motor, "rough": found.rough and found.rough.motor, "noisy": found.noisy_axis,
        "spikes": {axis: len(spike.times_s) for axis, spike in found.spikes.items()},
    }  # fmt: skip


def cases(first_seed: int, n_per_cause: int) -> list[tuple[int, str]]:
    """Clean flights three times as often as any fault."""
    jobs = [
        (first_seed + 1000 * k + n, cause) for k, cause in enumerate(CAUSES) for n in range(n_per_cause * (3 if k == 0 else 1))
    ]
    return [jobs[k] for k in np.random.default_rng(first_seed).permutation(len(jobs))]


def measured_all(first_seed: int, n_per_cause: int) -> list[dict[str, object]]:
    """All cases, on every processor; kept in a file so that fitting can be repeated."""
    kept = Path(f"/tmp/symptoms-{first_seed}-{n_per_cause}.json")
    if not kept.exists():
        with ProcessPoolExecutor() as pool:
            kept.write_text(json.dumps(list(pool.map(measured, cases(first_seed, n_per_cause), chunksize=4))))
    return list(json.loads(kept.read_text()))


if __name__ == "__main__":
    rows = measured_all(int(sys.argv[1]), int(sys.argv[2]))
    for cause in CAUSES:
        own = [row["values"] for row in rows if row["cause"] == cause]
        print(cause, len(own))
        for name in sorted({key for values in own for key in values}):  # type: ignore[attr-defined]
            numbers = [values[name] for values in own if name in values]  # type: ignore[index, operator]
            print("   ", name, np.round(np.quantile(numbers, (0.05, 0.25, 0.5, 0.75, 0.95)), 2))
