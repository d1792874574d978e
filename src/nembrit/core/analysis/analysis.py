"""The form of an analysis: what it is stored as, which version of its numbers, what it answers with, how it is run."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from nembrit.core.analysis.flight import Flight


@dataclass(frozen=True, slots=True, kw_only=True)
class Analysis:
    """One question to a flight, with a typed answer that is kept.

    `key` is stored with the answer: never rename it. `version` rises whenever a number would come out differently;
    only this analysis is computed anew then.
    """

    key: str
    version: int
    result: type[Any]
    run: Callable[[Flight], Any]
    in_words: str  # what is being done, for progress
