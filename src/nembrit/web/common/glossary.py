"""The glossary: one file for the About page and for the explanations that pages show beside their first use of a term."""

import json
from functools import lru_cache
from pathlib import Path

_FILE = Path(__file__).parent / "static" / "common" / "glossary.json"


@lru_cache(maxsize=1)
def glossary() -> dict[str, str]:
    """Each term with one plain sentence."""
    return dict(json.loads(_FILE.read_text(encoding="utf-8")))
