"""Templates stay readable, and what goes with them is light."""

import gzip
import re
from pathlib import Path

import pytest
from django.contrib.staticfiles import finders
from django.test import Client

WEB = Path(__file__).parents[3] / "src" / "nembrit" / "web"
LONGEST = 160


def test_no_line_of_a_template_is_too_long() -> None:
    files = list(WEB.rglob("*.html"))
    assert len(files) > 40
    lines = [(path.name, n, line) for path in files for n, line in enumerate(path.read_text(encoding="utf-8").splitlines(), 1)]
    assert [(name, n) for name, n, line in lines if len(line) > LONGEST] == []


def test_every_form_with_files_carries_its_token_in_its_address() -> None:
    """The door turns such a form away before anything of it is read; a field would come too late."""
    form_tag = re.compile(r"<form\b(?:[^>{]|\{\{.*?\}\}|\{%.*?%\})*>")
    forms = [form for path in WEB.rglob("*.html") for form in form_tag.findall(path.read_text(encoding="utf-8"))]
    with_files = [form for form in forms if "multipart/form-data" in form]
    assert len(with_files) >= 8
    assert [form for form in with_files if "?token={{ csrf_token }}" not in form] == []


@pytest.mark.parametrize(("accepts", "is_packed"), [("gzip, br", True), ("", False), ("br", False)])
def test_files_of_words_go_over_the_air_packed(client: Client, accepts: str, is_packed: bool) -> None:
    answer = client.get("/static/common/nembrit.css", headers={"Accept-Encoding": accepts})
    assert (answer.headers.get("Content-Encoding") == "gzip") is is_packed
    assert answer["Vary"] == "Accept-Encoding"
    assert int(answer["Content-Length"]) == len(answer.content)
    content = gzip.decompress(answer.content) if is_packed else answer.content
    assert content == Path(finders.find("common/nembrit.css")).read_bytes()
