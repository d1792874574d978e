"""Benchmarks end, at their smallest size; what they measure is not asked here."""

import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]


def ran(code: str) -> str:
    done = subprocess.run([sys.executable, "-c", code], cwd=ROOT, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr[-900:]
    return done.stdout


def test_all_can_be_imported() -> None:
    names = sorted(path.stem for path in (ROOT / "benchmarks").glob("[a-z]*.py"))
    assert len(names) > 20
    ran("; ".join(f"import benchmarks.{name}" for name in names))


@pytest.mark.long("half a minute of compiling for sums that the tests of intake and traces ask, too", only=("log_desk", "fuzz"))
@pytest.mark.parametrize(
    "code",
    [
        "from benchmarks import log_desk as b; import pathlib; b.import_figures(pathlib.Path(FOLDER), 2, 1)",
        "from benchmarks import log_desk as b; import pathlib; b.zoom_figures(pathlib.Path(FOLDER), (0.1,))",
        "from benchmarks import live as b; print(b.flood(1.0, 200.0)); print(b.kills(1))",
        "from benchmarks import fuzz_readers as b; import sys; sys.argv = ['x', '40']; b.main()",
    ],
    ids=["log_desk, import", "log_desk, zoom", "live", "fuzz_readers"],
)
def test_it_runs_at_its_smallest_size(code: str, tmp_path: Path) -> None:
    assert ran(code.replace("FOLDER", repr(str(tmp_path)))).strip()
