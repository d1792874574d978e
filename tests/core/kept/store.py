"""Kept numbers on disk: a file a case, at most 100 kB each, one number or table a line; and how far they may drift."""

import json
import math
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

FOLDER = Path(__file__).parent / "numbers"
MOST_BYTES = 100_000
COARSE = "loops of "  # a case whose name begins so
# another processor adds up in another order; a fit that ends by its own rule stops elsewhere, in the third digit
RATIO, COARSE_RATIO, ABSOLUTE = 2e-5, 5e-3, 1e-9


@dataclass(frozen=True, slots=True, kw_only=True)
class Drift:
    """One number that moved; `relative` is None for what is no number or came or went."""

    place: str
    before: str
    after: str
    relative: float | None


def load(name: str) -> Any:
    pieces = [json.loads(path.read_text(encoding="utf-8")) for path in _paths(name)]
    if not pieces:
        raise AssertionError(f"nothing is kept of “{name}”: write it with python -m tests.core.kept.cases")
    return pieces[0] if len(pieces) == 1 else {key: value for piece in pieces for key, value in piece.items()}


def save(name: str, value: Any) -> None:
    for path in _paths(name):
        path.unlink()
    FOLDER.mkdir(exist_ok=True)
    for number, text in enumerate(_pieces(value), start=1):
        ending = "" if number == 1 else f"-{number}"
        (FOLDER / f"{_slug(name)}{ending}.json").write_text(text, encoding="utf-8")


def _slug(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")


def _paths(name: str) -> list[Path]:
    first, more = FOLDER / f"{_slug(name)}.json", FOLDER.glob(f"{_slug(name)}-[0-9].json")
    return [path for path in (first, *sorted(more)) if path.exists()]


def _pieces(value: Any) -> Iterator[str]:
    if not isinstance(value, dict):
        yield _text(value) + "\n"
        return
    lines: list[str] = []
    for key in sorted(value):
        line = f"{json.dumps(key)}:{_text(value[key])}"
        if lines and sum(map(len, lines)) + len(lines) * 2 + len(line) > MOST_BYTES - 1000:
            yield "{" + ",\n".join(lines) + "}\n"
            lines = []
        lines.append(line)
    yield "{" + ",\n".join(lines) + "}\n"


def _text(value: Any) -> str:
    return json.dumps(value, sort_keys=True, separators=(",", ":"))


def drifts(name: str, kept: Any, found: Any) -> list[Drift]:
    """What moved by more than it may."""
    return list(_drifts(kept, found, "", COARSE_RATIO if name.startswith(COARSE) else RATIO))


def _drifts(kept: Any, found: Any, place: str, ratio: float) -> Iterator[Drift]:
    if isinstance(kept, dict) and isinstance(found, dict):
        for key in sorted(kept.keys() | found.keys()):
            if key in kept and key in found:
                yield from _drifts(kept[key], found[key], f"{place}.{key}", ratio)
            else:
                yield Drift(place=f"{place}.{key}", before=_short(kept.get(key)), after=_short(found.get(key)), relative=None)
    elif isinstance(kept, list) and isinstance(found, list):
        if len(kept) != len(found):
            yield Drift(place=place, before=f"{len(kept)} parts", after=f"{len(found)} parts", relative=None)
        for k, (old, new) in enumerate(zip(kept, found, strict=False)):
            yield from _drifts(old, new, f"{place}[{k}]", ratio)
    elif isinstance(kept, float) and isinstance(found, (int, float)):
        if not math.isclose(kept, found, rel_tol=ratio, abs_tol=ABSOLUTE):
            relative = (found - kept) / abs(kept) if kept else None
            yield Drift(place=place, before=f"{kept:.7g}", after=f"{found:.7g}", relative=relative)
    elif kept != found:
        yield Drift(place=place, before=_short(kept), after=_short(found), relative=None)


def _short(value: Any) -> str:
    return "–" if value is None else str(value)[:40]


def table(name: str, moved: list[Drift], *, most: int = 40) -> str:
    """The largest drifts first, for who has to say whether the change means them."""
    rows = sorted(moved, key=lambda one: -abs(one.relative) if one.relative is not None else -math.inf)[:most]
    lines = [f"{len(moved)} numbers of “{name}” moved; write them anew only if the change means to move them", "",
             "| number | before | after | relative |", "|---|---|---|---|"]  # fmt: skip
    for one in rows:
        relative = "" if one.relative is None else f"{100 * one.relative:+.3g} %"
        lines.append(f"| {one.place} | {one.before} | {one.after} | {relative} |")
    return "\n".join(lines)
