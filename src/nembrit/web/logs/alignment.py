"""Logs lined up: a recorder's clock against its flight's main log, and two flights manoeuvre by manoeuvre."""

from dataclasses import asdict, dataclass
from typing import Any

from nembrit.core.errors import CoreError, InputError
from nembrit.core.manoeuvres.alignment import Alignment, align, align_manoeuvres
from nembrit.core.manoeuvres.sampling import ALIGN_ROLES, PILOT_ROLES
from nembrit.core.manoeuvres.spans import Span
from nembrit.web.logs.models import Segment
from nembrit.web.logs.windows import main_segment, recording_of, spans_of


def line_up(segment: Segment) -> str:
    """Find a log's offset and skew against the flight's main log; the reason where that cannot be done, else ""."""
    main = main_segment(segment.flight)
    if main is None or main.pk == segment.pk:
        return "this is the flight's main log; others are aligned with it"
    try:
        found = align(recording_of(main.log, ALIGN_ROLES), recording_of(segment.log, ALIGN_ROLES))
    except CoreError as error:
        _guess_by_start(segment, main, str(error))
        return str(error)
    segment.offset_s, segment.skew_ppm = found.offset_s, found.skew_ppm
    segment.alignment = {**_as_json(found), "with": main.log_id}
    segment.save(update_fields=("offset_s", "skew_ppm", "alignment"))
    return ""


def _as_json(found: Alignment) -> dict[str, Any]:
    return {key: list(value) if isinstance(value, tuple) else value for key, value in asdict(found).items()}


def _guess_by_start(segment: Segment, main: Segment, reason: str) -> None:
    """Without a shared channel only the recorders' own dates can say; that is good to a second at best."""
    if segment.log.recorded_at and main.log.recorded_at:
        segment.offset_s = (segment.log.recorded_at - main.log.recorded_at).total_seconds()
        reason = f"{reason}. Aligned by the recorders' clocks, which may be seconds apart"
    segment.alignment = {"reason": reason}
    segment.save(update_fields=("offset_s", "alignment"))


def set_alignment(segment: Segment, *, offset_s: float, skew_ppm: float) -> None:
    """The tuner's own offset and skew. Raises InputError for values beyond reason."""
    if not abs(offset_s) < 1e6 or not abs(skew_ppm) <= 5000:
        raise InputError("an offset is less than a million seconds, a skew at most 5000 ppm")
    segment.offset_s, segment.skew_ppm = offset_s, skew_ppm
    segment.alignment = {"reason": "set by hand"}
    segment.save(update_fields=("offset_s", "skew_ppm", "alignment"))


@dataclass(frozen=True, slots=True, kw_only=True)
class Pair:
    """One manoeuvre of two flights, with what lays one over the other."""

    kind: str
    axis: str | None
    first_s: float
    other_s: float
    lag_s: float
    correlation: float


def manoeuvre_pairs(first: Segment, other: Segment) -> list[Pair]:
    """Manoeuvres of two flights of a card, paired in order and lined up one by one."""
    found = align_manoeuvres(
        recording_of(first.log, PILOT_ROLES), _within(first), recording_of(other.log, PILOT_ROLES), _within(other)
    )
    return [
        Pair(
            kind=pair.first.kind,
            axis=pair.first.axis,
            first_s=pair.first.start_s,
            other_s=pair.other.start_s,
            lag_s=pair.lag_s,
            correlation=pair.correlation,
        )
        for pair in found
    ]


def _within(segment: Segment) -> list[Span]:
    return [span for span in spans_of(segment.log) if span.start_s < segment.end_s and span.end_s > segment.start_s]
