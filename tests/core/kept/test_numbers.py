"""No number moves unnoticed. Whether they are right is for the other tests to say: these say that none changed by mistake."""

import json
import math
from collections.abc import Iterator
from typing import Any

import pytest

from tests.core.kept.cases import CASES, COARSE, KEPT

pytestmark = pytest.mark.kept
_RATIO, _COARSE_RATIO, _ABSOLUTE = 2e-5, 5e-3, 1e-9  # another processor adds up in another order


def differences(kept: Any, found: Any, place: str = "", ratio: float = _RATIO) -> Iterator[str]:
    if isinstance(kept, dict) and isinstance(found, dict):
        for key in sorted(kept.keys() | found.keys()):
            if key not in kept or key not in found:
                yield f"{place}.{key}: {'new' if key not in kept else 'gone'}"
            else:
                yield from differences(kept[key], found[key], f"{place}.{key}", ratio)
    elif isinstance(kept, list) and isinstance(found, list):
        if len(kept) != len(found):
            yield f"{place}: {len(kept)} parts, now {len(found)}"
        for k, (old, new) in enumerate(zip(kept, found, strict=False)):
            yield from differences(old, new, f"{place}[{k}]", ratio)
    elif isinstance(kept, float) and isinstance(found, (int, float)):
        if not math.isclose(kept, found, rel_tol=ratio, abs_tol=_ABSOLUTE):
            yield f"{place}: {kept}, now {found}"
    elif kept != found:
        yield f"{place}: {kept!r}, now {found!r}"


WHOLE_TABLES = (
    "benches", "broken logs", "bumps and spikes", "doubts]", "evidence", "faint faults", "manoeuvres", "more tables",
    "plane flights", "proposals", "simulate", "single signs", "speeds", "step responses", "tables", "wing desk",
    "wing rules", "wing sums",
)  # fmt: skip


@pytest.mark.long("whole tables; planted changes and the full check ask them", only=WHOLE_TABLES)
@pytest.mark.parametrize("name", CASES)
def test_numbers_are_as_they_were(name: str) -> None:
    kept = json.loads(KEPT.read_text(encoding="utf-8"))[name]
    found = json.loads(json.dumps(CASES[name]()))
    moved = list(differences(kept, found, ratio=_COARSE_RATIO if name.startswith(COARSE) else _RATIO))
    assert moved[:20] == [], f"{len(moved)} numbers moved: look at them, and write them anew if the change means to move them"
