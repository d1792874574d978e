"""Small wrong changes planted in core, one at a time, and whether the fast tests of that room notice; part of `check --full`.

`python -m benchmarks.planted_changes [N] [SEED]` writes `docs/planted-changes.md`. A change is drawn from all numbers,
comparisons, sums and choices of `core` (tables of words and texts apart); the tests are those of the changed room,
its doctests, the kept numbers of all rooms and the outside checks that name the room.
"""

import ast
import os
import queue
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from tests.core.kept.cases import CASES
from tests.core.kept.edges import EDGES
from tests.core.kept.planes import PLANES

ROOT = Path(__file__).parents[1]
CORE = ROOT / "src" / "nembrit" / "core"
REPORT = ROOT / "docs" / "planted-changes.md"
# drawn once for these tests; 20261127 to 20261130 and 45014227 were drawn before numbers, single functions', sweeps', planes',
# rules', edges' and readings' were kept
N_CHANGES, SEED = 60, 88231950
WANTED = 0.8
_LONGEST_S = 600
_NOT_CODE = ("recognise/words.py", "setup/card.py", "records/unit_words.py", "records/questions.py")
# rooms whose answers are checked beside other rooms' tests
_ALSO = {
    "spectra": ["tests/core/noise", "tests/references/test_spectra.py"],
    "rotors": ["tests/core/noise"],
    "filters": ["tests/references/test_filters.py", "tests/core/simulate"],
    "tuning": ["tests/core/tuning"],
    "trials": ["tests/references/test_statistics.py"],
    "simulate": ["tests/references/test_simulator.py"],
    "noise": ["tests/references/test_inertial.py", "tests/references/test_spectra.py"],
    "records": ["tests/references/test_readers.py", "tests/core/recognise", "tests/references/test_resampling.py"],
    "formats": ["tests/references/test_readers.py"],
    "manoeuvres": [],
    "analysis": ["tests/core/causes"],
    "causes": ["tests/core/analysis"],
}
_WITH_PLANES = ("simulate", "analysis", "records", "setup", "spectra")
_SWAPS: dict[type[ast.AST], tuple[str, str]] = {
    ast.Lt: ("<", "<="), ast.LtE: ("<=", "<"), ast.Gt: (">", ">="), ast.GtE: (">=", ">"), ast.Eq: ("==", "!="),
    ast.Add: ("+", "-"), ast.Sub: ("-", "+"), ast.Mult: ("*", "/"), ast.Div: ("/", "*"),
    ast.And: ("and", "or"), ast.Or: ("or", "and"),
}  # fmt: skip


_EXPLAINED = (
    "A number is made 1.4 times as large (whole ones one larger), a comparison takes or loses its edge, signs and choices are",
    "swapped. Some changes that go unnoticed change nothing that matters: an edge that no number ever hits, a constant of a",
    "search that leads to the same place.",
)


@dataclass(frozen=True, kw_only=True)
class Change:
    """One planted change."""

    path: Path
    line: int
    start: int  # place in the file
    end: int
    before: str
    after: str

    @property
    def room(self) -> str:
        return self.path.relative_to(CORE).parts[0]

    def __str__(self) -> str:
        return f"`{self.path.relative_to(CORE)}` {self.line}: `{self.before}` → `{self.after}`"


def changes_of(path: Path) -> Iterator[Change]:
    """Everything that could be changed in one file."""
    text = path.read_text(encoding="utf-8")
    starts = [0]
    for line in text.splitlines(keepends=True):
        starts.append(starts[-1] + len(line.encode()))
    raw = text.encode()

    def place(line: int, column: int) -> int:
        return starts[line - 1] + column

    def change(start: int, end: int, after: str, line: int) -> Change:
        return Change(path=path, line=line, start=start, end=end, before=raw[start:end].decode(), after=after)

    tree = ast.parse(text)
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, (int, float)) and not isinstance(node.value, bool):
            if node.value == 0:
                continue
            after = repr(node.value + 1) if isinstance(node.value, int) else repr(float(f"{node.value * 1.4:.12g}"))
            yield change(
                place(node.lineno, node.col_offset), place(node.end_lineno or 0, node.end_col_offset or 0), after, node.lineno
            )
        elif isinstance(node, ast.Compare) and len(node.ops) == 1 and type(node.ops[0]) in _SWAPS:
            yield from _between(node.left, node.comparators[0], _SWAPS[type(node.ops[0])], raw, place, change)
        elif isinstance(node, ast.BinOp) and type(node.op) in _SWAPS:
            yield from _between(node.left, node.right, _SWAPS[type(node.op)], raw, place, change)
        elif isinstance(node, ast.BoolOp):
            yield from _between(node.values[0], node.values[1], _SWAPS[type(node.op)], raw, place, change)
        elif isinstance(node, ast.Name) and node.id in ("min", "max") and isinstance(node.ctx, ast.Load):
            start = place(node.lineno, node.col_offset)
            yield change(start, start + 3, "max" if node.id == "min" else "min", node.lineno)


def _between(left, right, swap, raw, place, change):  # type: ignore[no-untyped-def]  # nodes of many types
    """The sign between two operands, if it stands alone there."""
    start, end = place(left.end_lineno, left.end_col_offset), place(right.lineno, right.col_offset)
    if end <= start:
        return
    gap = raw[start:end].decode(errors="replace")
    if gap.count(swap[0]) == 1 and "#" not in gap:
        at = start + len(gap[: gap.index(swap[0])].encode())
        yield change(at, at + len(swap[0]), swap[1], left.end_lineno)


def drawn(n: int, seed: int) -> list[Change]:
    """A sample over all of core."""
    every = [one for path in sorted(CORE.rglob("*.py")) if not str(path).endswith(_NOT_CODE) for one in changes_of(path)]
    return random.Random(seed).sample(every, n)


class Bench:
    """A copy of the project in which changes are planted, one at a time; compiled code that did not change is kept."""

    def __init__(self, place: Path) -> None:
        for name in ("src", "tests", "docs"):
            shutil.copytree(ROOT / name, place / name, ignore=shutil.ignore_patterns("__pycache__", "screenshots", "vendor"))
        shutil.copy(ROOT / "pyproject.toml", place)
        self.place = place

    def is_noticed(self, change: Change) -> bool:
        """Whether any fast test of the changed room fails."""
        target = self.place / change.path.relative_to(ROOT)
        raw = target.read_bytes()
        target.write_bytes(raw[: change.start] + change.after.encode() + raw[change.end :])
        try:
            return not self.passes(change.room, target)
        except subprocess.TimeoutExpired:
            return True  # a change that makes a test run for ever is noticed
        finally:
            target.write_bytes(raw)

    def passes(self, room: str, changed: Path) -> bool:
        """Whether doctests, tests of a room and what is kept of it pass, the quickest first."""
        named = [f"tests/core/{room}", *_ALSO.get(room, [])]
        return self._passes([str(changed), *(name for name in named if (self.place / name).exists()), *kept_of(room)])

    def is_sound(self, tests: list[str]) -> bool:
        """Whether tests pass as it is, else nothing would be told."""
        return self._passes(tests, longest_s=3 * _LONGEST_S, is_shown=True)

    def halves(self) -> list[list[str]]:
        """All tests of core in two lists that take about as long."""
        rooms = sorted(one for one in (self.place / "tests" / "core").iterdir() if one.is_dir() and one.name != "kept")
        return [["src/nembrit/core", "tests/core/kept", "tests/references"], [f"tests/core/{one.name}" for one in rooms]]

    def _passes(self, tests: list[str], *, longest_s: float = _LONGEST_S, is_shown: bool = False) -> bool:
        environment = os.environ | {"PYTHONPATH": f"{self.place / 'src'}{os.pathsep}{self.place}", "OMP_NUM_THREADS": "1"}
        words = [
            sys.executable,
            "-m",
            "pytest",
            "--doctest-modules",
            "-x",
            "-q",
            "-p",
            "no:cacheprovider",
            "-m",
            "not long or kept",
            *tests,
        ]
        found = subprocess.run(words, cwd=self.place, env=environment, capture_output=True, timeout=longest_s, check=False)
        if is_shown and found.returncode:
            sys.stderr.write(found.stdout.decode(errors="replace")[-3000:])
        return found.returncode in (0, 5)  # five: a file without tests of its own


def kept_of(room: str) -> list[str]:
    """The kept numbers that a room can move: planes know nothing of motors, and most rooms nothing of planes."""
    names = [*PLANES, *EDGES] if room == "wing" else [name for name in CASES if room in _WITH_PLANES or name not in PLANES]
    return [f"tests/core/kept/test_numbers.py::test_numbers_are_as_they_were[{name}]" for name in names]


def noticed_of(planted: list[Change]) -> list[bool]:
    """Each change on the next free bench, once everything has passed as it is."""
    benches: queue.SimpleQueue[Bench] = queue.SimpleQueue()

    def noticed(change: Change) -> bool:
        bench = benches.get()
        try:
            return bench.is_noticed(change)
        finally:
            benches.put(bench)

    n_benches = os.cpu_count() or 1
    with tempfile.TemporaryDirectory() as place, ThreadPoolExecutor(max_workers=n_benches) as pool:
        made = [Bench(Path(place) / str(n)) for n in range(n_benches)]
        if not all(pool.map(made[0].is_sound, made[0].halves())):
            sys.exit("The tests of core fail as they are: mend them first.")
        for bench in made:
            benches.put(bench)
        return list(pool.map(noticed, planted))


def measure(n: int = N_CHANGES, seed: int = SEED) -> tuple[list[str], bool]:
    """The report's lines, and whether enough were noticed."""
    planted = drawn(n, seed)
    noticed = noticed_of(planted)
    share = sum(noticed) / len(noticed)
    missed = [change for change, seen in zip(planted, noticed, strict=True) if not seen]
    told = (
        f"Measured {datetime.now(UTC):%d %B %Y} by `python3 run.py check --full`: {len(planted)} small wrong changes drawn over "
        f"`core` (seed {seed}), each against the kept numbers and the fast tests of its room. "
        f"**{sum(noticed)} of {len(planted)} were noticed "
        f"({share:.0%}; at least {WANTED:.0%} is wanted).**"
    )
    text = ["# Planted changes", "", told, "", *_EXPLAINED, "", "Not noticed:", "", *(f"- {change}" for change in missed), ""]
    return text, share >= WANTED


if __name__ == "__main__":
    numbers = [int(word) for word in sys.argv[1:]]
    lines, is_enough = measure(*numbers)
    if not numbers:
        REPORT.write_text("\n".join(lines), encoding="utf-8")
    sys.stdout.write("\n".join(lines))
    sys.exit(0 if is_enough else 1)
