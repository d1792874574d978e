"""Where a log belongs: moved to a flight, split into several, archived."""

from datetime import timedelta
from functools import lru_cache
from itertools import pairwise
from typing import Any

from django.db import transaction
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.core.manoeuvres.phases import phases_of, usable_window_s
from nembrit.core.manoeuvres.sampling import PHASE_ROLES
from nembrit.web.common.database import generation
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import create_flight
from nembrit.web.hangar.models import Craft
from nembrit.web.logs.alignment import line_up
from nembrit.web.logs.models import Log, Segment
from nembrit.web.logs.signals import segment_ready
from nembrit.web.logs.storage import main_stream
from nembrit.web.logs.windows import card_of_log, recording_of


def move_to(log: Log, flight: Flight) -> Segment:
    """Put a log with a flight, whole; from the inbox or from another flight. A flight left empty is archived."""
    if log.state != Log.State.READY:
        raise InputError(f"{log.file_name} is not read yet: answer its questions first")
    left = [segment.flight for segment in log.segments.select_related("flight") if segment.flight_id != flight.pk]
    recording = recording_of(log, PHASE_ROLES)
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
    if log.state != Log.State.READY:  # before a flight is made that nothing would be moved to
        raise InputError(f"{log.file_name} is not read yet: answer its questions first")
    fields: dict[str, Any] = {"flown_at": log.recorded_at} if log.recorded_at else {}
    fields["card_key"] = card_of_log(log)
    with transaction.atomic():
        flight = create_flight(craft, **fields)
    return move_to(log, flight)


def stretches(log: Log) -> list[tuple[float, float]]:
    """Usable windows of the flights that a log holds, one after another."""
    return list(_stretches(log.pk, main_stream(log).pk, generation()))


@lru_cache(maxsize=256)  # a stream that is read anew has another number
def _stretches(log_id: int, stream_id: int, of_generation: int) -> tuple[tuple[float, float], ...]:
    phases = phases_of(recording_of(Log.objects.get(pk=log_id), PHASE_ROLES))
    return tuple(window_s for window_s in phases.windows_s if window_s[1] - window_s[0] >= 2)


def split(log: Log, windows_s: list[tuple[float, float]]) -> list[Flight]:
    """Make a flight of every stretch; the first keeps the log's present flight. Raises InputError for fewer than two."""
    stream = main_stream(log)
    windows_s = sorted(windows_s)
    if len(windows_s) < 2:
        raise InputError("only one flight in this log: nothing to split")
    if any(not stream.start_s - 1e-6 <= a < b <= stream.end_s + 1e-6 for a, b in windows_s):
        raise InputError(f"stretches lie within {stream.start_s:.2f} to {stream.end_s:.2f} s, each start before its end")
    if any(later[0] < earlier[1] for earlier, later in pairwise(windows_s)):
        raise InputError("two parts overlap; each part of a log belongs to one flight")
    segment = log.segments.select_related("flight").first()
    if segment is None:
        raise InputError("attach the log to a flight first")
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
