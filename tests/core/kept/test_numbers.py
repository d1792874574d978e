"""No number moves unnoticed. Whether they are right is for the other tests to say: these say that none changed by mistake."""

import json

import pytest

from tests.core.kept.cases import CASES
from tests.core.kept.store import FOLDER, MOST_BYTES, drifts, load, table

pytestmark = pytest.mark.kept


WHOLE_TABLES = (
    "benches", "broken logs", "bumps and spikes", "doubts]", "evidence", "faint faults", "manoeuvres", "more tables",
    "plane flights", "proposals", "simulate", "single signs", "speeds", "step responses", "tables", "wing desk",
    "wing rules", "wing sums",
)  # fmt: skip


@pytest.mark.long("whole tables; planted changes and the full check ask them", only=WHOLE_TABLES)
@pytest.mark.parametrize("name", CASES)
def test_numbers_are_as_they_were(name: str) -> None:
    moved = drifts(name, load(name), json.loads(json.dumps(CASES[name]())))
    assert not moved, table(name, moved)


def test_files_stay_small_and_drift_is_told_as_a_table() -> None:
    assert max(path.stat().st_size for path in FOLDER.iterdir()) <= MOST_BYTES
    moved = drifts("sums", {"a": [1.0, 2.0], "b": "x", "c": 3.0}, {"a": [1.0, 2.2], "b": "y"})
    told = table("sums", moved)
    for line in ("| .a[1] | 2 | 2.2 | +10 % |", "| .b | x | y |  |", "| .c | 3.0 | – |  |", "3 numbers of “sums” moved"):
        assert line in told
    assert drifts("loops of x", 1.0, 1.004) == []
    assert drifts("x", 1.0, 1.004) != []
