"""Bringing logs in: received, read as a job, and made a flight or laid in the inbox, whole or not at all."""

import io
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, BinaryIO

from django.db import transaction
from django.dispatch import receiver
from django.utils import timezone

from nembrit.core.errors import CoreError, InputError, LogReadError
from nembrit.core.formats.archive import MOST_BYTES, is_archive, members_of, plain_name
from nembrit.core.formats.registry import check_head, check_small, read_raw, with_quality
from nembrit.core.manoeuvres.phases import usable_window_s, window_notes
from nembrit.core.manoeuvres.sampling import slow_recording
from nembrit.core.progress import Progress
from nembrit.core.records.interpret import interpret
from nembrit.core.records.log import FlightLog, QualityNote
from nembrit.core.records.raw import RawLog
from nembrit.web.common.fields import moment
from nembrit.web.common.jobs import job_handler, start_job, worker_started
from nembrit.web.common.models import Job
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import AS_FLOWN, create_flight
from nembrit.web.hangar.models import Craft
from nembrit.web.intake import inbox, meanings
from nembrit.web.intake.arrivals import arrive, open_kept, pack_soon
from nembrit.web.logs.models import Log, Segment, Upload
from nembrit.web.logs.signals import segment_ready
from nembrit.web.logs.storage import discard_drafts, settle_draft, store_draft
from nembrit.web.logs.windows import card_of_log, find_manoeuvres

_HEAD_BYTES = 65_536
_FLIGHT_ROLES = ("gyro", "setpoint.", "motor.")  # a log with none of these is a companion of another


@dataclass(frozen=True, slots=True, kw_only=True)
class Received:
    """What became of one file: a job under way, a flight or log that holds it already, or a refusal."""

    file_name: str
    job: Job | None = None
    known_flight: Flight | None = None
    known_log: Log | None = None
    refusal: str = ""


def receive_file(
    craft: Craft | None,
    file_name: str,
    content: bytes | BinaryIO,
    *,
    flight_fields: dict[str, Any],
    modified_at: datetime | None = None,
) -> list[Received]:
    """Take one uploaded file, or all files of an archive, and start their import.

    Without a craft they go to the inbox. Nothing is kept of a file that is refused here. A stream is
    packed piece by piece and never lies in memory whole.
    """
    file_name = plain_name(file_name)
    stream = io.BytesIO(content) if isinstance(content, bytes) else content
    head = stream.read(_HEAD_BYTES)
    if not is_archive(head[:4]):
        return [_receive(craft, file_name, head, stream, flight_fields, modified_at)]
    try:
        packed = head + stream.read(MOST_BYTES + 1)
        if len(packed) > MOST_BYTES:
            raise LogReadError(f"at most {MOST_BYTES / 1e6:.0f} MB are accepted at once")
        members = members_of(file_name, packed)
    except LogReadError as error:
        return [Received(file_name=file_name, refusal=str(error))]
    return [
        _receive(
            craft, member.name, member.content[:_HEAD_BYTES], io.BytesIO(member.content[_HEAD_BYTES:]), flight_fields, modified_at
        )
        for member in members
    ]


def _receive(
    craft: Craft | None, name: str, head: bytes, rest: BinaryIO, flight_fields: dict[str, Any], modified_at: datetime | None
) -> Received:
    try:
        if len(head) < _HEAD_BYTES:
            check_small(head)  # small files are known whole at once
        check_head(head)
        arrived = arrive(head, rest)
    except LogReadError as error:
        return Received(file_name=name, refusal=str(error))
    with transaction.atomic():
        known = Log.objects.filter(digest=arrived.digest).exclude(state=Log.State.REFUSED)
        known_log = known.filter(craft=craft).first() if craft else known.first()
        if known_log is None:
            request = {"flight": flight_fields} if craft else {}
            log = Log.objects.create(
                craft=craft, file_name=name[:200], digest=arrived.digest, size_bytes=arrived.size_bytes,
                recorded_at=modified_at, request=request,
            )  # fmt: skip
            arrived.keep(log)
            job = start_job("import_log", log.pk, label=f"Reading {name}")  # with its log, or neither
    if known_log is not None:
        arrived.forget()
        return _known(name, known_log)
    return Received(file_name=name, job=job)


def _known(name: str, log: Log) -> Received:
    """A file whose content is here already."""
    segment = log.segments.select_related("flight").first()
    if segment is not None:
        return Received(file_name=name, known_flight=segment.flight)
    if log.state != Log.State.WAITING:
        return Received(file_name=name, known_log=log)
    return Received(file_name=name, job=start_job("import_log", log.pk, label=f"Reading {name}"))


@receiver(worker_started)
def _nothing_waits_alone(**named: Any) -> None:
    """Every log that waits has a job that reads it, or one that failed and can be tried again."""
    for log in Log.objects.filter(state=Log.State.WAITING).select_related("craft"):
        kind = "simulate" if log.is_simulated and not Upload.objects.filter(log=log).exists() else "import_log"
        if not Job.objects.about(kind, log.pk).exists():
            start_job(kind, log.pk, label=f"Reading {log.file_name}")
    for log in Log.objects.exclude(drafts=None).exclude(state=Log.State.WAITING):
        discard_drafts(log)


def remove_refused(log: Log) -> None:
    """Throw away a file that could not be read; logs that were read are never deleted here."""
    if log.state == Log.State.REFUSED:
        log.delete()


@job_handler("import_log")
def import_log(log_id: int, progress: Progress) -> None:
    """Read one kept file; a refusal is written to the log's row."""
    log = Log.objects.select_related("craft").filter(pk=log_id).first()
    if log is None:  # put away meanwhile
        return
    if log.state == Log.State.READY:
        suggest_place(log)
        return
    try:
        with closing(open_kept(log.upload)) as file:
            take_in(log, file, progress)
    except CoreError as error:
        state = Log.State.ASKING if log.streams.exists() else Log.State.REFUSED
        Log.objects.filter(pk=log.pk).update(state=state, error=str(error))
        raise
    pack_soon(log)


def take_in(log: Log, content: bytes | BinaryIO, progress: Progress) -> None:
    """Read, recognise, store, and make the log a flight where it is one; else it waits in the inbox."""
    raw = read_raw(content, progress=lambda stage, share: progress(stage, 0.5 * share), n_bytes=log.size_bytes)
    progress("recognising the columns", 0.5)
    mapping, log.profile = meanings.mapping_for(log, raw)
    log.questions = meanings.questions_of(mapping)
    applied = meanings.provisional(mapping)
    parsed = with_quality(interpret(raw, applied))
    if not raw.tables or not parsed.streams:
        raise LogReadError("this file has no samples")
    store_draft(log, parsed, progress=lambda stage, share: progress(stage, 0.6 + 0.35 * share))
    log.applied_mapping, log.fingerprint = mapping.as_json(), meanings.fingerprint(raw)
    _describe(log, raw, parsed)
    progress("finding take-off, landing and manoeuvres", 0.96)
    if log.questions:
        log.state = Log.State.ASKING
        with transaction.atomic():
            settle_draft(log)
            log.save()
        discard_drafts(log)
        return
    recording = slow_recording(parsed)
    find_manoeuvres(log, recording)
    log.quality += [_kept(note) for note in window_notes(recording)]
    window_s = usable_window_s(recording)
    with transaction.atomic():
        settle_draft(log)
        log.state, log.error = Log.State.READY, ""
        if log.segments.exists():
            _renew_segments(log, window_s)
        elif log.craft is not None and (log.is_simulated or log.request.get("flight", {}).get("flight_id") or _is_flight(parsed)):
            segment = Segment.objects.create(log=log, flight=_flight_for(log), start_s=window_s[0], end_s=window_s[1])
            # sent before the commit, so that a log never stands there without its analysis queued
            segment_ready.send(sender=Segment, segment=segment)
        log.request = {key: value for key, value in log.request.items() if key != "suggestion"}
        log.save()
    discard_drafts(log)
    suggest_place(log)


def suggest_place(log: Log) -> None:
    """Say where a log of the inbox seems to belong; it takes seconds, so nobody may wait for it."""
    if log.segments.exists() or "suggestion" in log.request:
        return
    request = {**log.request, "suggestion": inbox.suggest(log)}
    Log.objects.filter(pk=log.pk).update(request=request)


def _is_flight(parsed: FlightLog) -> bool:
    return any(
        channel.role and channel.role.startswith(_FLIGHT_ROLES) for stream in parsed.streams for channel in stream.channels
    )


def _describe(log: Log, raw: RawLog, parsed: FlightLog) -> None:
    log.rows_read, log.rows_dropped, log.format_key = parsed.rows_read, parsed.rows_dropped, parsed.format_key
    log.preamble, log.understood = [list(pair) for pair in raw.preamble], list(raw.understood)
    if raw.started_at is not None:  # a clock without a zone shows the time of the place where it flew
        log.recorded_at = _plausible(raw.started_at)
        log.request = {**log.request, "clock": "recorder"}
    log.quality = [_kept(note) for note in parsed.quality]


def _kept(note: QualityNote) -> dict[str, Any]:
    return {
        "code": note.code,
        "severity": note.severity,
        "detail": note.detail,
        "column": note.column,
        "start_s": note.start_s,
        "end_s": note.end_s,
    }


def _plausible(started_at: datetime) -> datetime | None:
    """A recorder's date, unless no craft can have flown then: a clock that was never set says the year 1."""
    try:
        return moment(started_at if started_at.tzinfo else timezone.make_aware(started_at))
    except (InputError, OverflowError, ValueError):
        return None


def _renew_segments(log: Log, window_s: tuple[float, float]) -> None:
    """After a log was read anew: windows that nobody chose follow, and what rests on it is computed again."""
    for segment in log.segments.select_related("flight"):
        if not segment.is_window_chosen:
            segment.start_s, segment.end_s = window_s
            segment.save(update_fields=("start_s", "end_s"))
        segment_ready.send(sender=Segment, segment=segment)


def _flight_for(log: Log) -> Flight:
    fields = dict(log.request.get("flight", {}))
    if flight_id := fields.pop("flight_id", None):
        return Flight.objects.get(pk=flight_id, craft=log.craft)
    if log.craft is None:
        raise InputError(f"{log.file_name} belongs to no craft")
    if fields.get("card_key") == AS_FLOWN:
        fields["card_key"] = card_of_log(log)
    configuration_id = fields.pop("configuration_id", None)
    configuration = log.craft.configurations.filter(pk=configuration_id).first() if configuration_id else None
    if flown_at := fields.pop("flown_at", None):
        fields["flown_at"] = datetime.fromisoformat(flown_at)
    elif log.recorded_at and datetime(2000, 1, 1, tzinfo=UTC) < log.recorded_at:
        fields["flown_at"] = log.recorded_at
    simulation = log.request.get("simulation", {})
    return create_flight(log.craft, configuration=configuration, simulation=simulation, **fields)
