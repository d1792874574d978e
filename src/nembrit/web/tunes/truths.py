"""The tuner's own truth: what repairs proved to be wrong, and how often Nembrit had said so."""

from collections.abc import Mapping
from dataclasses import dataclass, field
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
_LATEST = 4  # flights before a repair, that may have said what was wrong
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
    slip = Slip.objects.select_related("tune__craft", "cause_flight").get(pk=slip.pk)
    if not is_repair(slip):
        raise InputError("only a repair shows the fault; this slip changes settings")
    if slip.state == Slip.State.OPEN:
        raise InputError("decide the repair first, then record what was wrong")
    if cause not in _names():
        raise InputError("choose what was wrong from the list")
    if cause == OTHER and not words.strip():
        raise InputError("describe it in a few words")
    claim = _claim(slip)
    truth, _ = Truth.objects.update_or_create(
        slip=slip,
        defaults={
            "cause": cause, "words": words.strip()[:200], "claimed": claim.code, "confidence": claim.confidence,
            "measured": claim.measured,
        },
    )  # fmt: skip
    return truth


@dataclass(frozen=True, slots=True, kw_only=True)
class _Claim:
    """What Nembrit had said before a repair: a cause, how sure it was, and what the flight measured."""

    code: str = ""
    confidence: float | None = None
    measured: dict[str, float] = field(default_factory=dict)


def _claim(slip: Slip) -> _Claim:
    """By the flight whose finding led to the repair, else by the newest flights before it."""
    craft = slip.tune.craft
    before = craft.flights.active().filter(flown_at__lt=slip.created_at).select_related("craft")[:_LATEST]
    flights = [slip.cause_flight] if slip.cause_flight else list(before)
    told = [own.judgement for _, own in by_flight(flights, "judgement") if own is not None and own.judgement is not None]
    for judgement in told:
        code = slip.cause_code or next((one.code for one in judgement.findings if one.holds_gains_back), "")
        if code:
            sure = next((one.confidence for one in judgement.findings if one.code == code), None)
            return _Claim(code=code, confidence=sure, measured=dict(judgement.measured))
    return _Claim(code=slip.cause_code, measured=dict(told[0].measured) if told else {})


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
