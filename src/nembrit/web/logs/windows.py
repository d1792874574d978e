"""What a flight's log is used for: its main span, the usable window, and its manoeuvres as the tuner left them."""

from collections.abc import Sequence

from django.db import transaction

from nembrit.core.errors import InputError
from nembrit.core.manoeuvres.detect import manoeuvres
from nembrit.core.manoeuvres.phases import usable_window_s
from nembrit.core.manoeuvres.sampling import PHASE_ROLES, SLOW_HZ
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.records.questions import Answer, answers
from nembrit.core.setup.card import KINDS
from nembrit.core.setup.cards import likely_card
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.flights.models import Flight
from nembrit.web.logs.models import Channel, Log, Manoeuvre, Segment
from nembrit.web.logs.signals import segment_ready
from nembrit.web.logs.storage import load_recording, main_stream

MANOEUVRE_KINDS = ("ground", *KINDS)
SURE = 0.8  # a meaning that is at least this likely is not shown as doubtful
_LEAST_WINDOW_S = 0.5


@while_unchanged
def roles_of(log: Log) -> dict[str, float]:
    """Roles that a log holds, with their sample rates [Hz]."""
    rows = log.streams.values_list("channels__role", "sample_rate_hz")
    return {role: rate_hz for role, rate_hz in rows if role and role != "time"}


def recording_of(log: Log, families: tuple[str, ...]) -> Recording:
    """The main stream's channels of some families, on a uniform clock of about 500 Hz: enough for what a pilot does."""
    roles = [role for role in roles_of(log) if role.startswith(families)]
    return load_recording(log, roles, most_hz=SLOW_HZ)


@while_unchanged
def main_segment(flight: Flight) -> Segment | None:
    """The span that a flight is analysed by: the one whose log holds a gyro, else the first."""
    segments = list(flight.segments.select_related("log__craft", "flight"))
    if len(segments) < 2:
        return segments[0] if segments else None
    with_gyro = (segment for segment in segments if any(role.startswith("gyro") for role in roles_of(segment.log)))
    return next(with_gyro, segments[0])


@while_unchanged
def main_segments(flights: Sequence[Flight]) -> dict[int, int]:
    """The same for many flights, in two queries: numbers of the spans by flight id; flights without a log are absent."""
    rows = list(Segment.objects.filter(flight__in=flights).order_by("pk").values_list("flight_id", "pk", "log_id"))
    own: dict[int, list[tuple[int, int]]] = {}
    for flight_id, segment_id, log_id in rows:
        own.setdefault(flight_id, []).append((segment_id, log_id))
    several = [log_id for spans in own.values() if len(spans) > 1 for _, log_id in spans]
    with_gyro = set()
    if several:
        gyros = Channel.objects.filter(stream__log__in=several, role__startswith="gyro")
        with_gyro = set(gyros.values_list("stream__log_id", flat=True))
    return {
        flight_id: next((segment_id for segment_id, log_id in spans if log_id in with_gyro), spans[0][0])
        for flight_id, spans in own.items()
    }


def questions(log: Log, flight_s: float) -> tuple[Answer, ...]:
    """Which questions the log can answer."""
    return answers(roles_of(log), flight_s=flight_s, kind=log.craft.kind if log.craft else "multirotor")


def spans_of(log: Log) -> list[Span]:
    """Manoeuvres as they stand, the tuner's changes included."""
    rows = log.manoeuvres.filter(is_removed=False)
    return [Span(kind=row.kind, axis=row.axis or None, start_s=row.start_s, end_s=row.end_s) for row in rows]


def current_spans(log: Log) -> list[Span]:
    """The same; a log that was taken in before manoeuvres were kept is searched now."""
    if not log.manoeuvres.exists():
        find_manoeuvres(log)
    return spans_of(log)


def card_of_log(log: Log) -> str:
    """The card that a log's manoeuvres show, or nothing."""
    card = likely_card((span.kind, span.axis) for span in spans_of(log))
    return card.key if card else ""


def card_flown(flight: Flight) -> str:
    """The same for a flight."""
    segment = main_segment(flight)
    return card_of_log(segment.log) if segment else ""


def find_manoeuvres(log: Log, recording: Recording | None = None) -> None:
    """Detect the manoeuvres of a log anew; what the tuner set or removed stays."""
    recording = recording or recording_of(log, PHASE_ROLES)
    found = manoeuvres(recording)
    with transaction.atomic():
        log.manoeuvres.filter(is_edited=False).delete()
        kept = [Span(kind=row.kind, axis=row.axis or None, start_s=row.start_s, end_s=row.end_s) for row in log.manoeuvres.all()]
        Manoeuvre.objects.bulk_create(
            Manoeuvre(log=log, kind=span.kind, axis=span.axis or "", start_s=span.start_s, end_s=span.end_s)
            for span in found
            if not any(span.kind == own.kind and span.axis == own.axis and span.overlap_s(own) > 0 for own in kept)
        )


def set_manoeuvre(log: Log, *, row: Manoeuvre | None, kind: str, axis: str, start_s: float, end_s: float) -> Manoeuvre:
    """Change a manoeuvre or add one. Raises InputError for times outside the log or an unknown kind."""
    stream = main_stream(log)
    if kind not in MANOEUVRE_KINDS:
        raise InputError(f"“{kind}” is no kind of manoeuvre")
    if axis not in ("", "roll", "pitch", "yaw"):
        raise InputError(f"“{axis}” is no axis")
    if kind in ("snap_stop", "doublet") and not axis:
        raise InputError(f"a {kind.replace('_', ' ')} needs its axis: roll, pitch or yaw")
    if not stream.start_s <= start_s < end_s <= stream.end_s + 1e-6:
        raise InputError(f"a manoeuvre lies within {stream.start_s:.2f} to {stream.end_s:.2f} s, its start before its end")
    row = row or Manoeuvre(log=log)
    row.kind, row.axis, row.start_s, row.end_s, row.is_edited, row.is_removed = kind, axis, start_s, end_s, True, False
    with transaction.atomic():
        row.save()
        _renew(log)
    return row


def _renew(log: Log) -> None:
    """Evidence that rests on the manoeuvres is computed again."""
    for segment in log.segments.select_related("flight"):
        segment_ready.send(sender=Segment, segment=segment)


def remove_manoeuvre(row: Manoeuvre) -> None:
    """Take a manoeuvre out of the analyses; detection does not bring it back."""
    row.is_removed = row.is_edited = True
    with transaction.atomic():
        row.save(update_fields=("is_removed", "is_edited"))
        _renew(row.log)


def search_manoeuvres(log: Log) -> None:
    """Search again at the tuner's wish."""
    find_manoeuvres(log)
    with transaction.atomic():
        _renew(log)


def set_window(segment: Segment, *, start_s: float, end_s: float) -> None:
    """The part of the log that analyses use. Raises InputError for one outside the log or too short."""
    stream = main_stream(segment.log)
    start_s, end_s = max(start_s, stream.start_s), min(end_s, stream.end_s)
    if end_s - start_s < _LEAST_WINDOW_S:
        raise InputError(
            f"the window must be at least {_LEAST_WINDOW_S:g} s long and lie within {stream.start_s:.2f} to {stream.end_s:.2f} s"
        )
    segment.start_s, segment.end_s, segment.is_window_chosen = start_s, end_s, True
    _keep_window(segment)


def _keep_window(segment: Segment) -> None:
    with transaction.atomic():
        segment.save(update_fields=("start_s", "end_s", "is_window_chosen"))
        segment_ready.send(sender=Segment, segment=segment)


def find_window(segment: Segment) -> None:
    """Back to the window that detection finds."""
    recording = recording_of(segment.log, PHASE_ROLES)
    segment.start_s, segment.end_s = usable_window_s(recording)
    segment.is_window_chosen = False
    _keep_window(segment)
