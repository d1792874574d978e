"""Recordings: begun, watched, marked, ended, and made logs. What lies in their folders is the recorder's."""

import json
import tempfile
import time
from collections.abc import AsyncIterator, Iterator
from pathlib import Path
from typing import Any, BinaryIO

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from nembrit.core.errors import InputError
from nembrit.core.formats.registry import read_raw
from nembrit.core.recognise.propose import propose
from nembrit.core.records.meanings import with_meanings
from nembrit.core.telemetry.alarms import DEFAULTS, KINDS, rule
from nembrit.core.telemetry.meaning import LiveColumn, document_of, values_of
from nembrit.recorder import folder as files
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.intake.meanings import fingerprint
from nembrit.web.intake.services import receive_file
from nembrit.web.logs.models import ImportProfile, Log
from nembrit.web.logs.places import move_to
from nembrit.web.telemetry.models import Alarm, Recording, Source

_END_WAIT_S = 4.0
_MOST_MARK, _NEWEST_BYTES, _LEAST_ROWS = 80, 20_000, 3
_JOINS_S = 900.0  # a flight that was flown so near to a recording may be the same


def root() -> Path:
    return Path(settings.DATA_FOLDER) / "telemetry"


def folder_of(recording: Recording) -> Path:
    return root() / recording.folder


def source_of(craft: Craft) -> Source:
    return Source.objects.filter(craft=craft).first() or Source(craft=craft)


def alarms_of(craft: Craft) -> list[Alarm]:
    """The craft's alarms; the usual ones where none were set yet."""
    rows = list(Alarm.objects.filter(craft=craft))
    if rows:
        return rows
    found = []
    for key in DEFAULTS:
        usual = rule(key)
        found.append(Alarm(craft=craft, key=key, limit=usual.limit, delay_s=usual.delay_s, hysteresis=usual.hysteresis))
    return found


def save_alarms(craft: Craft, rows: list[tuple[str, bool, float | None, float | None]]) -> None:
    """Raises InputError for a limit that no alarm can have."""
    made = []
    for key, is_on, limit, delay_s in rows:
        if limit is None and not is_on:
            continue
        one = rule(key, limit, delay_s)
        made.append(Alarm(craft=craft, key=key, limit=one.limit, delay_s=one.delay_s, hysteresis=one.hysteresis, is_on=is_on))
    with transaction.atomic():
        Alarm.objects.filter(craft=craft).delete()
        Alarm.objects.bulk_create(made)


def present(craft: Craft) -> Recording | None:
    """The recording under way."""
    return Recording.objects.filter(craft=craft, ended_at=None).first()


def begin(craft: Craft) -> Recording:
    """Ask the recorder to record; it is at work beside the server. Raises InputError where no source is set up."""
    source = Source.objects.filter(craft=craft).first()
    if source is None:
        raise InputError("set up a telemetry source first")
    if (going := present(craft)) is not None:
        return going
    taken = Recording.objects.filter(ended_at=None, address=address_of(source)).first()
    if taken is not None:
        raise InputError(f"{taken.craft} is being recorded from {taken.address} already: stop that first")
    recording = Recording.objects.create(craft=craft, folder="", address=address_of(source))
    recording.folder = f"{recording.pk}-{int(time.time())}"
    recording.save(update_fields=("folder",))
    path = folder_of(recording)
    path.mkdir(parents=True, mode=0o700)
    wanted: dict[str, Any] = {
        "source": {"kind": source.kind, "host": source.host, "port": source.port, "device": source.device, "baud": source.baud},
        "cells": craft.cells, "chemistry": craft.chemistry, "capacity_mah": source.capacity_mah,
        "rules": [
            {"key": one.key, "limit": one.limit, "delay_s": one.delay_s, "hysteresis": one.hysteresis}
            for one in alarms_of(craft) if one.is_on
        ],
        "columns": source.meanings,
    }  # fmt: skip
    files.replace(path / files.WANTED, wanted)
    return recording


def address_of(source: Source) -> str:
    return source.device if source.kind == "serial" else f"{source.kind} {source.host}:{source.port}"


def end(recording: Recording) -> Log | None:
    """Stop it and make it a log through the ordinary intake; None where nothing was received."""
    if recording.ended_at is not None:
        return recording.log
    path = folder_of(recording)
    path.mkdir(parents=True, exist_ok=True)
    (path / files.STOP).touch()
    until = time.monotonic() + _END_WAIT_S
    while time.monotonic() < until and not (path / files.ENDED).exists():
        time.sleep(0.05)
    recording.ended_at = timezone.now()
    recording.save(update_fields=("ended_at",))
    with tempfile.TemporaryFile() as content:
        if _write_json_lines(path, content) < _LEAST_ROWS:
            return None
        _remember_meanings(recording.craft, content)
        content.seek(0)
        name = f"telemetry {recording.started_at:%Y-%m-%d %H.%M}.jsonl"
        for one in receive_file(None, name, content, flight_fields={}, modified_at=recording.started_at):
            log = one.known_log or Log.objects.filter(file_name=name).order_by("-id").first()
            if log is not None:
                recording.log = log
                recording.save(update_fields=("log",))
    return recording.log


def _remember_meanings(craft: Craft, content: BinaryIO) -> None:
    """Meanings that the tuner gave to the source hold for its log too: a profile for this header."""
    given = source_of(craft).meanings
    if not given:
        return
    content.seek(0)
    raw = read_raw(content)
    try:
        mapping = with_meanings(propose(raw), raw, document_of([LiveColumn(**one) for one in given]))
    except InputError:  # a source that sends other columns now
        return
    ImportProfile.objects.update_or_create(
        fingerprint=fingerprint(raw), defaults={"name": f"telemetry of {craft}"[:120], "mapping": mapping.as_json()}
    )


def _write_json_lines(path: Path, content: BinaryIO) -> int:
    """Rows as they were received, each with the time since the first [s], and alarms and markers since the row before; how many.

    One row at a time, so that a long recording takes no memory.
    """
    waiting = happened(path)
    first: float | None = None
    n = 0
    received = rows(path)
    here = next(received, None)
    while here is not None:
        (at_s, row), after = here, next(received, None)
        first = at_s if first is None else first
        words = [str(row["event"])] if row.get("event") else []
        while waiting and (waiting[0][0] <= at_s or after is None):  # what came after the last row stands at its end
            words.append(waiting.pop(0)[1])
        document = {"received [s]": round(at_s - first, 4), **row, "event": "; ".join(words)}
        content.write(json.dumps(document, separators=(",", ":")).encode() + b"\n")
        n, here = n + 1, after
    return n


def happened(path: Path) -> list[tuple[float, str]]:
    """Alarms and markers in the order of their times."""
    alarms = [(document.get("at_s", 0.0), document.get("words", "")) for document in listed(path / files.EVENTS)]
    marks = [(document.get("at_s", 0.0), f"marker: {document.get('what', '')}") for document in listed(path / files.MARKS)]
    return sorted((float(at_s), str(words)) for at_s, words in (*alarms, *marks) if isinstance(at_s, (int, float)))


def rows(path: Path) -> Iterator[tuple[float, dict[str, float | str]]]:
    """Receive time and row, in the order that they came."""
    try:
        with (path / files.LINES).open("rb") as file:
            for line in file:
                found = _row(line)
                if found is not None:
                    yield found
    except FileNotFoundError:
        return


def newest_rows(path: Path) -> list[tuple[float, dict[str, float | str]]]:
    """The last rows of a recording, as they were sent."""
    try:
        with (path / files.LINES).open("rb") as file:
            file.seek(max(0, (path / files.LINES).stat().st_size - _NEWEST_BYTES))
            lines = file.read().splitlines()
    except FileNotFoundError:
        return []
    return [row for row in map(_row, lines) if row is not None]


def _row(line: bytes) -> tuple[float, dict[str, float | str]] | None:
    at, _, text = line.partition(b"\t")
    try:
        return float(at), json.loads(text)
    except ValueError:
        return None


def mark(recording: Recording, what: str) -> None:
    """A marker at this moment."""
    text = " ".join(what.split())[:_MOST_MARK] or "mark"
    _append(recording, files.MARKS, {"at_s": time.time(), "what": text})


def acknowledge(recording: Recording, key: str) -> None:
    """Raises InputError for what is no alarm."""
    if key not in KINDS:
        raise InputError("that is no alarm")
    _append(
        recording,
        files.EVENTS,
        {"kind": "acknowledged", "key": key, "at_s": time.time(), "words": f"Acknowledged: {KINDS[key][1]}"},
    )


def _append(recording: Recording, name: str, document: dict[str, Any]) -> None:
    with (folder_of(recording) / name).open("ab") as file:  # one short write: it lands whole beside the recorder's
        file.write(json.dumps(document).encode() + b"\n")


def listed(path: Path) -> list[dict[str, Any]]:
    """The documents of a file of JSON lines; a line that is none is left out."""
    found = []
    if path.exists():
        for line in path.read_bytes().splitlines():
            try:
                document = json.loads(line)
            except ValueError:
                continue
            if isinstance(document, dict):
                found.append(document)
    return found


def state(recording: Recording) -> dict[str, Any]:
    return files.read(folder_of(recording) / files.STATE)


def columns(document: dict[str, Any]) -> tuple[LiveColumn, ...]:
    return tuple(LiveColumn(**one) for one in document.get("columns", []))


def tail(path: Path, offset: int, known: tuple[LiveColumn, ...]) -> tuple[int, list[tuple[float, dict[str, float | str]]]]:
    """Rows from a place in the file on, by their meanings, and the place after the last whole one."""
    found: list[tuple[float, dict[str, float | str]]] = []
    try:
        with (path / files.LINES).open("rb") as file:
            file.seek(offset)
            data = file.read(2_000_000)
    except FileNotFoundError:
        return offset, []
    whole = data.rfind(b"\n") + 1
    for line in data[:whole].splitlines():
        row = _row(line)
        if row is not None:
            found.append((row[0], values_of(row[1], known)))
    return offset + whole, found


async def nothing() -> AsyncIterator[bytes]:
    """An event stream that says that nothing is recorded."""
    yield b"event: over\ndata: {}\n\n"


def candidates(recording: Recording) -> list[tuple[Flight, str]]:
    """Flights of the craft that the recording may belong to, the nearest in time first, with how near."""
    ended = recording.ended_at or timezone.now()
    found = []
    for flight in recording.craft.flights.active().order_by("-flown_at")[:30]:
        apart = max(0.0, (recording.started_at - flight.flown_at).total_seconds(), (flight.flown_at - ended).total_seconds())
        if apart <= _JOINS_S:
            found.append((apart, flight))
    return [
        (flight, "while it was recorded" if not apart else f"{apart / 60:.0f} min apart")
        for apart, flight in sorted(found, key=lambda pair: pair[0])
    ]


def join(recording: Recording, flight: Flight) -> None:
    """Give the recording to a flight. Raises InputError for another craft's."""
    if flight.craft_id != recording.craft_id:
        raise InputError("that flight is another craft’s")
    if recording.log is not None and recording.log.state == Log.State.READY and not recording.log.segments.exists():
        move_to(recording.log, flight)  # beside the on-board log: traces show them together
    recording.flight = flight
    recording.save(update_fields=("flight",))
