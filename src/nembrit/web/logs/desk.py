"""The log desk: what a log can answer, its usable window, its manoeuvres, where it belongs."""

from dataclasses import asdict, dataclass, replace
from datetime import timedelta
from itertools import pairwise
from typing import Any

from django.db import connection, transaction
from django.utils import timezone

from nembrit.core.errors import CoreError, InputError
from nembrit.core.manoeuvres.alignment import Alignment, align, align_manoeuvres
from nembrit.core.manoeuvres.detect import manoeuvres
from nembrit.core.manoeuvres.phases import phases_of, usable_window_s
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import FlightLog, Recording
from nembrit.core.records.questions import Answer, answers
from nembrit.core.records.timebase import thinned, uniform
from nembrit.core.setup.card import KINDS
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import create_flight
from nembrit.web.hangar.models import Craft
from nembrit.web.logs.arrivals import kept_bytes
from nembrit.web.logs.models import Log, Manoeuvre, Segment, Upload
from nembrit.web.logs.signals import segment_ready
from nembrit.web.logs.storage import load_recording, main_stream

MANOEUVRE_KINDS = ("ground", *KINDS)
_LEAST_WINDOW_S = 0.5
_SLOW_HZ = 500.0
_PILOT_ROLES = ("throttle", "setpoint.", "stick.")
_PHASE_ROLES = (*_PILOT_ROLES, "motor.", "gyro.", "gyro_raw.", "accel.")
_ALIGN_ROLES = (*_PHASE_ROLES, "altitude", "ground_speed", "battery_voltage")


def roles_of(log: Log) -> dict[str, float]:
    """Roles that a log holds, with their sample rates [Hz]."""
    rows = log.streams.values_list("channels__role", "sample_rate_hz")
    return {role: rate_hz for role, rate_hz in rows if role and role != "time"}


def recording_of(log: Log, families: tuple[str, ...]) -> Recording:
    """The main stream's channels of some families, on a uniform clock of about 500 Hz: enough for what a pilot does."""
    roles = [role for role in roles_of(log) if role.startswith(families)]
    return load_recording(log, roles, most_hz=_SLOW_HZ)


def slow_recording(content: FlightLog) -> Recording:
    """What manoeuvres are found from, of a log that was just read."""
    main = content.main
    channels = tuple(channel for channel in main.channels if channel.role and channel.role.startswith(_PHASE_ROLES))
    return uniform(thinned(replace(main, channels=channels), most_hz=_SLOW_HZ))


def main_segment(flight: Flight) -> Segment | None:
    """The span that a flight is analysed by: the one whose log holds a gyro, else the first."""
    segments = list(flight.segments.select_related("log__craft", "flight"))
    with_gyro = (segment for segment in segments if any(role.startswith("gyro") for role in roles_of(segment.log)))
    return next(with_gyro, segments[0] if segments else None) if len(segments) > 1 else (segments[0] if segments else None)


def questions(log: Log, flight_s: float) -> tuple[Answer, ...]:
    """Which questions the log can answer."""
    return answers(roles_of(log), flight_s=flight_s)


# --- manoeuvres


def spans_of(log: Log) -> list[Span]:
    """Manoeuvres as they stand, the tuner's changes included."""
    rows = log.manoeuvres.filter(is_removed=False)
    return [Span(kind=row.kind, axis=row.axis or None, start_s=row.start_s, end_s=row.end_s) for row in rows]


def current_spans(log: Log) -> list[Span]:
    """The same; a log that was taken in before manoeuvres were kept is searched now."""
    if not log.manoeuvres.exists():
        find_manoeuvres(log)
    return spans_of(log)


def find_manoeuvres(log: Log, recording: Recording | None = None) -> None:
    """Detect the manoeuvres of a log anew; what the tuner set or removed stays."""
    recording = recording or recording_of(log, _PHASE_ROLES)
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
    """Search anew at the tuner's wish."""
    find_manoeuvres(log)
    with transaction.atomic():
        _renew(log)


# --- the usable window


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
    recording = recording_of(segment.log, _PHASE_ROLES)
    segment.start_s, segment.end_s = usable_window_s(recording)
    segment.is_window_chosen = False
    _keep_window(segment)


# --- where a log belongs


def move_to(log: Log, flight: Flight) -> Segment:
    """Put a log with a flight, whole; from the inbox or from another flight. A flight left empty is archived."""
    if log.state != Log.State.READY:
        raise InputError(f"{log.file_name} is not read yet: answer its questions first")
    left = [segment.flight for segment in log.segments.select_related("flight") if segment.flight_id != flight.pk]
    recording = recording_of(log, _PHASE_ROLES)
    start_s, end_s = usable_window_s(recording)
    with transaction.atomic():
        log.segments.all().delete()
        if log.craft_id != flight.craft_id:
            log.craft = flight.craft
            log.save(update_fields=("craft",))
        segment = Segment.objects.create(log=log, flight=flight, start_s=start_s, end_s=end_s)
        for empty in left:
            if not empty.segments.exists() and empty.archived_at is None:
                empty.archived_at = timezone.now()
                empty.save(update_fields=("archived_at",))
        segment_ready.send(sender=Segment, segment=segment)
    line_up(segment)
    return segment


def new_flight_of(log: Log, craft: Craft) -> Segment:
    """Make a flight of a log that has none yet."""
    fields: dict[str, Any] = {"flown_at": log.recorded_at} if log.recorded_at else {}
    with transaction.atomic():
        flight = create_flight(craft, **fields)
    return move_to(log, flight)


def stretches(log: Log) -> list[tuple[float, float]]:
    """Usable windows of the flights that a log holds, one after another."""
    return [window_s for window_s in phases_of(recording_of(log, _PHASE_ROLES)).windows_s if window_s[1] - window_s[0] >= 2]


def split(log: Log, windows_s: list[tuple[float, float]]) -> list[Flight]:
    """Make a flight of every stretch; the first keeps the log's present flight. Raises InputError for fewer than two."""
    stream = main_stream(log)
    windows_s = sorted(windows_s)
    if len(windows_s) < 2:
        raise InputError("there is only one stretch: nothing to split")
    if any(not stream.start_s - 1e-6 <= a < b <= stream.end_s + 1e-6 for a, b in windows_s):
        raise InputError(f"stretches lie within {stream.start_s:.2f} to {stream.end_s:.2f} s, each start before its end")
    if any(later[0] < earlier[1] for earlier, later in pairwise(windows_s)):
        raise InputError("two stretches overlap; each part of a log belongs to one flight")
    segment = log.segments.select_related("flight").first()
    if segment is None:
        raise InputError("put the log with a flight first")
    first = segment.flight
    flights = [first]
    with transaction.atomic():
        segment.start_s, segment.end_s, segment.is_window_chosen = (*windows_s[0], True)
        segment.save(update_fields=("start_s", "end_s", "is_window_chosen"))
        segment_ready.send(sender=Segment, segment=segment)
        for start_s, end_s in windows_s[1:]:
            flown_at = first.flown_at + timedelta(seconds=start_s - windows_s[0][0])
            flight = create_flight(
                first.craft, configuration=first.configuration, flown_at=flown_at, card_key=first.card_key, pack=first.pack,
                wind_m_s=first.wind_m_s, conditions=first.conditions,
            )  # fmt: skip
            made = Segment.objects.create(log=log, flight=flight, start_s=start_s, end_s=end_s, is_window_chosen=True)
            segment_ready.send(sender=Segment, segment=made)
            flights.append(flight)
    return flights


def set_log_archived(log: Log, *, archived: bool) -> None:
    """Take a log out of the lists, or bring it back; nothing is deleted."""
    log.archived_at = timezone.now() if archived else None
    log.save(update_fields=("archived_at",))


def remove_upload(log: Log) -> int:
    """Throw away the kept copy of the file, at the tuner's wish; samples stay. Returns the bytes given back."""
    upload = Upload.objects.filter(log=log).first()
    if upload is None:
        return 0
    size = kept_bytes(upload)
    upload.delete()
    if not connection.in_atomic_block:  # a script commits what is open
        with connection.cursor() as cursor:
            cursor.connection.executescript("PRAGMA incremental_vacuum;")
    return size


# --- lining up


def line_up(segment: Segment) -> str:
    """Find a log's offset and skew against the flight's main log; the reason where that cannot be done, else ""."""
    main = main_segment(segment.flight)
    if main is None or main.pk == segment.pk:
        return "this is the flight's own log; others are lined up with it"
    try:
        found = align(recording_of(main.log, _ALIGN_ROLES), recording_of(segment.log, _ALIGN_ROLES))
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
        reason = f"{reason}. Laid by the recorders' own clocks, which may be seconds apart"
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
        recording_of(first.log, _PILOT_ROLES), _within(first), recording_of(other.log, _PILOT_ROLES), _within(other)
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
