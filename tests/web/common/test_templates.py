"""Templates stay readable."""

from pathlib import Path

WEB = Path(__file__).parents[3] / "src" / "nembrit" / "web"
LONGEST = 160


def test_no_line_of_a_template_is_too_long() -> None:
    files = list(WEB.rglob("*.html"))
    assert len(files) > 40
    lines = [(path.name, n, line) for path in files for n, line in enumerate(path.read_text(encoding="utf-8").splitlines(), 1)]
    assert [(name, n) for name, n, line in lines if len(line) > LONGEST] == []
