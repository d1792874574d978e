"""Videos beside a flight: how they line up, and marks that were set while watching. The file itself never comes here."""

from collections.abc import Mapping
from typing import Any

from nembrit.core.errors import InputError
from nembrit.core.records.clockline import ClockLine, line_up
from nembrit.web.flights.models import Flight
from nembrit.web.logs.models import FlightMark, VideoSync

_MOST_MARKS, _MOST_SYNCS = 200, 50
_FAR_S = 1e6


def syncs_of(flight: Flight) -> list[dict[str, Any]]:
    """Every video that was lined up with this flight."""
    return [_told(row) for row in flight.video_syncs.all()]


def marks_of(flight: Flight) -> list[dict[str, Any]]:
    """The tuner's own marks, by time."""
    return [{"id": row.pk, "at": row.at_s, "label": row.text} for row in flight.marks.all()]


def save_sync(flight: Flight, document: Mapping[str, Any]) -> dict[str, Any]:
    """Keep how a video lines up. Raises InputError for moments that do not fit one another."""
    pairs = _pairs(document.get("pairs"))
    line_up(pairs)
    name = str(document.get("name", ""))[:255]
    size, modified = _whole(document.get("size")), _whole(document.get("modified"))
    known: dict[str, Any] = {"file_name": name, "size_bytes": size, "modified_ms": modified}
    if not flight.video_syncs.filter(**known).exists() and flight.video_syncs.count() >= _MOST_SYNCS:
        raise InputError(f"{_MOST_SYNCS} videos of one flight are enough")
    row, _ = VideoSync.objects.update_or_create(flight=flight, **known, defaults={"pairs": [list(pair) for pair in pairs]})
    return _told(row)


def add_mark(flight: Flight, document: Mapping[str, Any]) -> dict[str, Any]:
    """Mark a moment. Raises InputError without words, for no time, or for too many."""
    text = " ".join(str(document.get("text", "")).split())[:120]
    if not text:
        raise InputError("write what you saw")
    if flight.marks.count() >= _MOST_MARKS:
        raise InputError(f"{_MOST_MARKS} marks of one flight are enough")
    row = FlightMark.objects.create(flight=flight, at_s=_seconds(document.get("at")), text=text)
    return {"id": row.pk, "at": row.at_s, "label": row.text}


def remove_mark(flight: Flight, mark_id: int) -> None:
    """Forget a mark; one that is gone already is no matter."""
    flight.marks.filter(pk=mark_id).delete()


def line_of(row: VideoSync) -> ClockLine:
    """Raises InputError for a row that does not fit, as from an archive."""
    return line_up(_pairs(row.pairs))


def _told(row: VideoSync) -> dict[str, Any]:
    try:
        line = line_of(row)
    except InputError:
        return {}
    return {
        "name": row.file_name, "size": row.size_bytes, "modified": row.modified_ms, "pairs": row.pairs,
        "offset": line.offset_s, "rate": line.rate, "error": line.error_s,
    }  # fmt: skip


def _pairs(given: Any) -> list[tuple[float, float]]:
    if not isinstance(given, list) or not all(isinstance(pair, list) and len(pair) == 2 for pair in given):
        raise InputError("pick one or two moments")
    return [(_seconds(video), _seconds(log)) for video, log in given]


def _seconds(given: Any) -> float:
    if isinstance(given, bool) or not isinstance(given, int | float) or not -_FAR_S < given < _FAR_S:
        raise InputError("a moment is a number of seconds")
    return float(given)


def _whole(given: Any) -> int:
    if isinstance(given, bool) or not isinstance(given, int | float) or not 0 <= given < 2**53:
        raise InputError("the file’s size and date are missing")
    return int(given)
