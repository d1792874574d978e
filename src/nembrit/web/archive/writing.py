"""A craft or the whole workshop as one file: rows as JSON, samples as Parquet, files as they came."""

import io
from collections.abc import Iterator
from typing import IO, Any

import polars as pl
from django.db import models
from django.db.models import Q

from nembrit import __version__
from nembrit.core.errors import InputError
from nembrit.core.formats.bundle import as_json, write_bundle
from nembrit.core.progress import Progress, no_progress
from nembrit.web.archive.shape import CARD_KEYS, KINDS, Kind, fields_of, rows_of
from nembrit.web.common.database import snapshot
from nembrit.web.common.models import Job
from nembrit.web.flights.models import OwnCard
from nembrit.web.hangar.models import Craft
from nembrit.web.intake.arrivals import packed_bytes
from nembrit.web.logs.give import PLACES
from nembrit.web.logs.models import Channel, Log, Stream, Upload
from nembrit.web.logs.storage import load_samples
from nembrit.web.planning.models import Session
from nembrit.web.tunes.models import Experiment, Slip

Numbers = dict[type[models.Model], dict[int, int]]
_READING = ("import_log", "simulate", "pack_upload")
_PLACE_WORDS = ("lat", "lon", "home", "place", "position")
ROW_NUMBERS = ("configuration_id", "build_entry_id", "flight_id")  # in what a log asks its flight to be


def write_archive(file: IO[bytes], craft: Craft | None, *, with_places: bool = True, progress: Progress = no_progress) -> None:
    """Write a craft, or the whole workshop, so that reading it gives the same rows and samples again.

    What can be worked out anew (analyses, overviews) is left out. Raises InputError while a blind trial is being flown, since
    an archive would tell its arms, and while logs are still being read.
    """
    require_settled(craft)
    with snapshot():  # one state, whatever is written meanwhile
        told = {
            "holds": "workshop" if craft is None else "craft",
            "name": craft.name if craft else "",
            "places": with_places,
            "made_by": __version__,
        }
        write_bundle(file, _members(craft, with_places=with_places, progress=progress), told=told)


def require_settled(craft: Craft | None) -> None:
    """Raises InputError while a blind comparison is flown and while logs are being read."""
    asked = Experiment.objects.filter(state=Experiment.State.FLYING, is_blind=True).select_related("craft")
    blind = (asked.filter(craft=craft) if craft else asked).first()
    if blind is not None:
        raise InputError(
            f"{blind.craft} has a blind comparison that an archive would reveal: reveal it first. A backup contains everything"
        )
    at_work = Job.objects.unfinished().filter(kind__in=_READING).values_list("subject_id", flat=True)
    logs = Log.objects.filter(pk__in=list(at_work)).filter(Q(state=Log.State.WAITING) | ~Q(upload__waiting_name=""))
    n_waiting = (logs.filter(craft=craft) if craft else logs).exclude(upload=None).distinct().count()
    if n_waiting:
        raise InputError(f"{n_waiting} log{' is' if n_waiting == 1 else 's are'} still being read: wait until it is finished")


def _members(craft: Craft | None, *, with_places: bool, progress: Progress) -> Iterator[tuple[str, bytes]]:
    numbers: Numbers = {}
    kinds = [kind for kind in KINDS if with_places or not (kind.model is Upload or kind.is_place)]
    for kind in kinds:
        rows = [row for row in rows_of(kind, craft).iterator(chunk_size=500) if with_places or not _is_place(row)]
        numbers[kind.model] = {row.pk: place for place, row in enumerate(rows, start=1)}
        yield f"rows/{kind.name}.json", as_json([_row(kind, row, numbers, with_places=with_places) for row in rows])
    kept = Experiment.objects.filter(pk__in=numbers[Experiment]).exclude(kept_arm=None)
    arms = next(numbers[kind.model] for kind in KINDS if kind.name == "arm")
    yield (
        "rows/kept_arms.json",
        as_json([[numbers[Experiment][one.pk], arms[one.kept_arm_id or 0]] for one in kept.order_by("pk")]),
    )
    n_files = max(1, len(numbers[Stream]) + len(numbers.get(Upload, {})))
    for pk, number in numbers[Stream].items():
        progress("writing samples", number / n_files)
        yield f"samples/{number}.parquet", _samples(Stream.objects.get(pk=pk), numbers[Channel])
    for pk, number in numbers.get(Upload, {}).items():
        progress("writing files", (len(numbers[Stream]) + number) / n_files)
        yield f"files/{number}.bin", packed_bytes(Upload.objects.select_related("log").get(pk=pk))


def _is_place(row: models.Model) -> bool:
    return isinstance(row, Channel) and row.role in PLACES


def _row(kind: Kind, row: models.Model, numbers: Numbers, *, with_places: bool) -> dict[str, Any]:
    found = {}
    for field in fields_of(kind):
        value = getattr(row, field.attname)
        if isinstance(field, models.ForeignKey) and value is not None:
            value = numbers[field.related_model].get(value)
        elif isinstance(field, models.DateTimeField | models.UUIDField) and value is not None:
            value = value.isoformat() if isinstance(field, models.DateTimeField) else str(value)
        found[field.name] = value
    if (column := CARD_KEYS.get(kind.model)) is not None:
        found[column] = _card_key(found[column], numbers[OwnCard])
    if isinstance(row, Log):
        found["request"] = _request(row.request, numbers)
        if not with_places:
            found["preamble"] = [pair for pair in row.preamble if not any(word in str(pair[0]).lower() for word in _PLACE_WORDS)]
    if isinstance(row, Slip) and row.provoke.get("answers"):
        flights = next(numbers[kind.model] for kind in KINDS if kind.name == "flight")
        answers = {str(flights[int(pk)]): told for pk, told in row.provoke["answers"].items() if int(pk) in flights}
        found["provoke"] = row.provoke | {"answers": answers}
    if isinstance(row, Session) and not with_places:
        found["place"] = ""
    return found


def _card_key(key: str, own: dict[int, int]) -> str:
    """A card of one's own by its number in the archive."""
    number = own.get(int(key[4:])) if key.startswith("own-") and key[4:].isdigit() else None
    return key if number is None else f"own-{number}"


def _request(request: dict[str, Any], numbers: Numbers) -> dict[str, Any]:
    """What a log asks its flight to be, rows by their number in the archive."""
    if "flight" not in request:
        return request
    by_name = {kind.name: numbers[kind.model] for kind in KINDS if kind.model in numbers}
    models_of = dict(zip(ROW_NUMBERS, ("configuration", "buildentry", "flight"), strict=True))
    flight = dict(request["flight"])
    for name, model in models_of.items():
        if flight.get(name):
            flight[name] = by_name[model].get(int(flight[name]))
    flight["card_key"] = _card_key(str(flight.get("card_key", "")), by_name["owncard"])
    return request | {"flight": flight}


def _samples(stream: Stream, kept: dict[int, int]) -> bytes:
    """The stream's channels as they are kept, one column each, named by their place."""
    channels = [channel for channel in stream.channels.select_related("stream") if channel.pk in kept]
    frame = pl.DataFrame({str(channel.position): load_samples(channel) for channel in channels})
    buffer = io.BytesIO()
    frame.write_parquet(buffer, compression="zstd", statistics=False)
    return buffer.getvalue()
