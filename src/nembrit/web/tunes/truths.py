"""The tuner's own truth: what repairs proved to be wrong, and how often Nembrit had said so."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from django.db import transaction

from nembrit.core.causes.ranking import CLEAN
from nembrit.core.causes.table import BY_CODE
from nembrit.core.causes.weights import FEATURES
from nembrit.core.errors import InputError
from nembrit.web.bench.results import by_flight
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes.models import Slip, Truth
from nembrit.web.tunes.provoking import is_repair

OTHER = "other"
SCHEMA = "nembrit.findings/1"


def choices() -> list[tuple[str, str]]:
    """Everything that a repair can prove to have been wrong."""
    known = [(code, cause.name) for code, cause in sorted(BY_CODE.items(), key=lambda pair: pair[1].name)]
    return [*known, (OTHER, "something else"), (CLEAN, "nothing: the craft was sound")]


def _names() -> Mapping[str, str]:
    return dict(choices())


@transaction.atomic
def tell(slip: Slip, cause: str, *, words: str = "") -> Truth:
    """Keep what was wrong. Raises InputError for a slip that is no repair, is not decided yet, or a cause that is none."""
    if not is_repair(slip):
        raise InputError("only a repair proves what was wrong; this slip changes settings")
    if Slip.objects.get(pk=slip.pk).state == Slip.State.OPEN:
        raise InputError("decide the repair first, then say what was wrong")
    if cause not in _names():
        raise InputError("choose what was wrong from the list")
    if cause == OTHER and not words.strip():
        raise InputError("say in a few words what it was")
    finding, measured = _claim(slip)
    truth, _ = Truth.objects.update_or_create(
        slip=slip,
        defaults={
            "cause": cause, "words": words.strip()[:200], "claimed": slip.cause_code, "confidence": finding, "measured": measured,
        },
    )  # fmt: skip
    return truth


def _claim(slip: Slip) -> tuple[float | None, dict[str, float]]:
    """How sure the finding was that led to the repair, and what its flight measured."""
    if slip.cause_flight is None:
        return None, {}
    (_, results), *_ = by_flight([slip.cause_flight], "judgement")
    judgement = getattr(results, "judgement", None)
    if judgement is None:
        return None, {}
    sure = next((one.confidence for one in judgement.findings if one.code == slip.cause_code), None)
    return sure, dict(judgement.measured)


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """One repair of a craft's history."""

    slip: Slip
    said: str
    was: str
    is_right: bool | None  # None: Nembrit had said nothing


@dataclass(frozen=True, slots=True, kw_only=True)
class Record:
    """How often Nembrit was right on one craft."""

    lines: tuple[Line, ...]

    @property
    def n_right(self) -> int:
        return sum(line.is_right is True for line in self.lines)

    @property
    def n_said(self) -> int:
        return sum(line.is_right is not None for line in self.lines)


def record_of(craft: Craft) -> Record:
    """All repairs of a craft whose truth is known, newest first."""
    names = _names()
    truths = Truth.objects.filter(slip__tune__craft=craft).select_related("slip").order_by("-slip__created_at")
    return Record(
        lines=tuple(
            Line(
                slip=one.slip,
                said=names.get(one.claimed, one.claimed.replace("_", " ")) if one.claimed else "nothing",
                was=one.words or names.get(one.cause, one.cause),
                is_right=one.cause == one.claimed if one.claimed else None,
            )
            for one in truths
        )
    )


def document_of(craft: Craft) -> dict[str, Any]:
    """Findings with their measurements and truths as an open file: no samples, no positions, no names.

    `benchmarks/fit_causes.py --rows` reads it, so that weights can be fitted to many workshops.
    """
    truths = Truth.objects.filter(slip__tune__craft=craft).order_by("told_at")
    return {
        "schema": SCHEMA,
        "features": FEATURES,
        "findings": [
            {"claimed": one.claimed or None, "confidence": one.confidence, "truth": one.cause, "values": one.measured}
            for one in truths
        ],
    }
