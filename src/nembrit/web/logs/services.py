"""Bringing logs in: received, read as a job, and made a flight, whole or not at all."""

import hashlib
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import zstandard
from django.db import transaction

from nembrit.core.errors import CoreError, InputError, LogReadError
from nembrit.core.formats import nembrit_csv
from nembrit.core.formats.progress import Progress
from nembrit.core.formats.registry import check_head, read_log
from nembrit.core.manoeuvres.phases import usable_window_s
from nembrit.core.records.timebase import uniform
from nembrit.core.simulate.airframe import Faults, World
from nembrit.web.common.jobs import job_handler, start_job
from nembrit.web.common.models import Job
from nembrit.web.flights.models import Flight
from nembrit.web.flights.services import card_of, create_flight
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.hangar.services import controller_of, core_craft, latest_build, latest_configuration
from nembrit.web.logs.models import Log, Segment, Upload
from nembrit.web.logs.signals import segment_ready
from nembrit.web.logs.storage import store_log

MOST_BYTES = 800 * 1024 * 1024
_HEAD_BYTES = 65_536


@dataclass(frozen=True, slots=True, kw_only=True)
class Received:
    """What became of one file: a job under way, a flight that has it already, or a refusal."""

    file_name: str
    job: Job | None = None
    known_flight: Flight | None = None
    refusal: str = ""


def receive_file(craft: Craft, file_name: str, content: bytes, *, flight_fields: dict[str, Any]) -> Received:
    """Take one uploaded file and start its import; nothing is kept of a file that is refused here."""
    if len(content) > MOST_BYTES:
        return Received(
            file_name=file_name, refusal=f"{len(content) / 1e6:.0f} MB; at most {MOST_BYTES / 1e6:.0f} MB can be taken at once"
        )
    try:
        check_head(content[:_HEAD_BYTES])
    except LogReadError as error:
        return Received(file_name=file_name, refusal=str(error))
    digest = hashlib.sha256(content).hexdigest()
    with transaction.atomic():
        known = Log.objects.filter(craft=craft, sha256=digest).exclude(state=Log.State.REFUSED).first()
        if known is None:
            log = Log.objects.create(
                craft=craft, file_name=file_name[:200], sha256=digest, size_bytes=len(content), request={"flight": flight_fields}
            )
            Upload.objects.create(log=log, content=zstandard.ZstdCompressor(level=3).compress(content))
    if known is not None:
        segment = known.segments.select_related("flight").first()
        job = Job.objects.about("import_log", known.pk).first() if segment is None else None
        return Received(file_name=file_name, known_flight=segment.flight if segment else None, job=job)
    return Received(file_name=file_name, job=start_job("import_log", log.pk, label=f"Reading {file_name}"))


def remove_refused(log: Log) -> None:
    """Throw away a file that could not be read; logs that became flights are never deleted here."""
    if log.state == Log.State.REFUSED:
        log.delete()


@job_handler("import_log")
def import_log(log_id: int, progress: Progress) -> None:
    """Read one kept file and make it a flight; a refusal is written to the log's row."""
    log = Log.objects.select_related("craft").get(pk=log_id)
    if log.segments.exists():
        return
    try:
        content = zstandard.ZstdDecompressor().decompress(bytes(log.upload.content), max_output_size=max(1, log.size_bytes))
        _become_flight(log, content, progress)
    except CoreError as error:
        Log.objects.filter(pk=log.pk).update(state=Log.State.REFUSED, error=str(error))
        raise


def _become_flight(log: Log, content: bytes, progress: Progress) -> Segment:
    parsed = read_log(content, progress=lambda stage, share: progress(stage, 0.6 * share))
    start_s, end_s = usable_window_s(uniform(parsed.main, roles=("throttle",)))
    store_log(log, parsed, progress=lambda stage, share: progress(stage, 0.6 + 0.4 * share))
    with transaction.atomic():
        log.state, log.error, log.rows_read, log.format_key = Log.State.READY, "", parsed.rows_read, parsed.format_key
        log.quality = [
            {"code": note.code, "severity": note.severity, "detail": note.detail, "column": note.column, "start_s": note.start_s}
            for note in parsed.quality
        ]
        log.save()
        segment = Segment.objects.create(log=log, flight=_flight_for(log), start_s=start_s, end_s=end_s)
        # sent before the commit, so that a log never stands there without its analysis queued
        segment_ready.send(sender=Segment, segment=segment)
    return segment


def _flight_for(log: Log) -> Flight:
    fields = dict(log.request.get("flight", {}))
    if flight_id := fields.pop("flight_id", None):
        return Flight.objects.get(pk=flight_id, craft=log.craft)
    configuration_id = fields.pop("configuration_id", None)
    configuration = log.craft.configurations.filter(pk=configuration_id).first() if configuration_id else None
    if flown_at := fields.pop("flown_at", None):
        fields["flown_at"] = datetime.fromisoformat(flown_at)
    simulation = log.request.get("simulation", {})
    return create_flight(log.craft, configuration=configuration, simulation=simulation, **fields)


def request_simulation(
    craft: Craft,
    *,
    card_key: str,
    configuration: Configuration,
    seed: int,
    wind_m_s: float,
    pack_charge_ratio: float,
    faults: dict[str, Any] | None = None,
    flight_fields: dict[str, Any] | None = None,
) -> Log:
    """Note a flight for the simulator; `faults` None: what the craft's latest build entry says it suffers from.

    Raises InputError at once for a craft, card or configuration that cannot be flown.
    """
    if card_of(card_key) is None:
        raise InputError(f"there is no card “{card_key}”")
    controller_of(configuration)
    World(seed=seed, wind_m_s=wind_m_s, pack_charge_ratio=pack_charge_ratio)
    if len(core_craft(craft).motors) < 3 or craft.kind != Craft.Kind.MULTIROTOR:
        raise InputError("the simulator flies multirotors with three to eight motors; model aeroplanes come later")
    build = latest_build(craft)
    if faults is None:
        faults = build.simulated_faults if build else {}
    world = {"seed": seed, "wind_m_s": wind_m_s, "pack_charge_ratio": pack_charge_ratio, "faults": faults}
    fields = {"card_key": card_key, "configuration_id": configuration.pk, "wind_m_s": wind_m_s, **(flight_fields or {})}
    file_name = f"{craft.name.lower()}-{card_key}-{seed}.csv"
    return Log.objects.create(craft=craft, file_name=file_name, request={"simulation": world, "flight": fields})


def fly_in_simulator(log: Log) -> Job:
    """Start the flight that `request_simulation` noted."""
    return start_job("simulate", log.pk, label=f"Flying {log.craft.name} in the simulator")


@job_handler("simulate")
def simulate(log_id: int, progress: Progress) -> None:
    """Fly, write the log's file, and take it in like any other."""
    from nembrit.core.simulate.flight import DECIMALS, fly, write_order  # compiles: not before it is needed

    log = Log.objects.select_related("craft").get(pk=log_id)
    if log.segments.exists():
        return
    progress("flying", 0.0)
    world = dict(log.request["simulation"])
    card = card_of(log.request["flight"]["card_key"])
    configuration = Configuration.objects.get(pk=log.request["flight"]["configuration_id"])
    if card is None:
        raise InputError("the card is gone")
    craft = core_craft(log.craft)
    faults = Faults(**world.pop("faults", {}))
    try:
        flown = fly(craft, controller_of(configuration), card, World(**world, faults=faults))
        progress("writing the log", 0.2)
        content = nembrit_csv.write([(role, flown.channels[role]) for role in write_order(craft)], flown.t_s, decimals=DECIMALS)
        log.sha256, log.size_bytes = hashlib.sha256(content).hexdigest(), len(content)
        log.save(update_fields=("sha256", "size_bytes"))
        Upload.objects.update_or_create(log=log, defaults={"content": zstandard.ZstdCompressor(level=3).compress(content)})
        _become_flight(log, content, lambda stage, share: progress(stage, 0.3 + 0.7 * share))
    except CoreError as error:
        Log.objects.filter(pk=log.pk).update(state=Log.State.REFUSED, error=str(error))
        raise


def default_seed(craft: Craft) -> int:
    """A seed that this craft has not flown yet."""
    return 100 + craft.logs.count()


def flown_configuration(craft: Craft, configuration_id: str) -> Configuration | None:
    """The chosen configuration, or the latest one."""
    if configuration_id.isdigit():
        return craft.configurations.filter(pk=int(configuration_id)).first()
    return latest_configuration(craft)
