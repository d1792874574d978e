"""Archives taken in: checked as a whole, then all of it or nothing."""

import io
from dataclasses import dataclass, field
from datetime import datetime
from typing import IO, Any

import polars as pl
from django.core.exceptions import ValidationError
from django.db import DatabaseError, models, transaction

from nembrit.core.errors import InputError
from nembrit.core.formats.bundle import Bundle, open_bundle
from nembrit.core.given import finite, is_clean
from nembrit.web.archive.documents import check_documents
from nembrit.web.archive.shape import CARD_KEYS, KINDS, Kind, fields_of
from nembrit.web.archive.writing import ROW_NUMBERS
from nembrit.web.common.fields import moment
from nembrit.web.flights.models import Flight, OwnCard
from nembrit.web.ground.models import Obstacle, Profile
from nembrit.web.hangar.models import BuildEntry, Configuration, Craft
from nembrit.web.logs.models import Channel, ImportProfile, Log, Stream, Upload
from nembrit.web.logs.storage import keep_samples
from nembrit.web.packs.models import Pack, PackNote
from nembrit.web.planning.models import Session
from nembrit.web.tunes.experiments import order_of
from nembrit.web.tunes.models import Arm, Experiment, Slip

_MOST_CHANNEL_BYTES = 512 * 1024**2


@dataclass(frozen=True, slots=True, kw_only=True)
class Taken:
    """What came in."""

    craft: list[Craft]
    n_flights: int
    renamed: dict[str, str]  # from the name in the archive


@dataclass(slots=True)
class _State:
    """Rows made so far: by model and number in the archive. A number that leads to None was here already, or is left out."""

    made: dict[type[models.Model], dict[int, models.Model]] = field(default_factory=dict)
    known: set[int] = field(default_factory=set)  # numbers of packs that were here already
    renamed: dict[str, str] = field(default_factory=dict)


def read_archive(file: IO[bytes]) -> Taken:
    """Take an archive in. Craft whose name is here already get another; packs, profiles and cards that are here are used.

    Raises InputError for an archive that is cut, newer, altered or holds what cannot be; nothing of it is taken then.
    """
    bundle = open_bundle(file)
    state = _State()
    try:
        with transaction.atomic():
            for kind in KINDS:
                _take_kind(bundle, kind, state)
            _take_kept_arms(bundle, state)
            _check_orders(state)
            _take_samples(bundle, state)
            _take_files(bundle, state)
    except (DatabaseError, ValidationError, KeyError, TypeError, ValueError, OverflowError, AttributeError) as error:
        raise InputError(f"this archive contains invalid data ({_told(error)}). Nothing was imported") from None
    craft = [row for row in state.made[Craft].values() if isinstance(row, Craft)]
    return Taken(craft=craft, n_flights=len(state.made[Flight]), renamed=state.renamed)


def _told(error: Exception) -> str:
    return "; ".join(error.messages)[:160] if isinstance(error, ValidationError) else str(error)[:160]


def _take_kind(bundle: Bundle, kind: Kind, state: _State) -> None:
    name = f"rows/{kind.name}.json"
    made = state.made.setdefault(kind.model, {})
    # given out without positions, or written before there was such a thing
    if (kind.model is Upload or kind.is_place or kind.is_later) and name not in bundle.names():
        return
    rows = bundle.read_json(name)
    if not isinstance(rows, list):
        raise InputError(f"this archive was altered: {name} is no list")
    for number, told in enumerate(rows, start=1):
        row = _made(kind, told, state)
        if (here := _here_already(row, number, state)) is not None:
            made[number] = here
            continue
        if isinstance(row, PackNote) and told["pack"] in state.known:
            continue
        row.save_base(raw=True, force_insert=True)  # moments stay as they were noted
        made[number] = row


def _made(kind: Kind, told: Any, state: _State) -> models.Model:
    """A row as it was told, each column held to what it may be."""
    fields = fields_of(kind)
    if not isinstance(told, dict) or set(told) - {one.name for one in fields}:
        raise InputError(f"this archive was altered: a row of {kind.name} has other columns")
    row = kind.model()
    for one in fields:
        if one.name not in told and (one.has_default() or one.null or one.blank):  # it came with a later version
            continue
        value = told[one.name]
        if isinstance(one, models.ForeignKey):
            setattr(row, one.name, _pointed(one, value, state))
            continue
        value = one.to_python(value)
        if value is None and not one.null:
            raise ValueError(f"{kind.name}: {one.name} is missing")
        if one.flatchoices and value not in (None, "") and value not in dict(one.flatchoices):
            raise ValueError(f"{kind.name}: {one.name} cannot be “{str(value)[:40]}”")
        one.run_validators(value)
        _check_value(kind, one, value)
        setattr(row, one.attname, value)
    check_documents(row)
    _adapted(kind, row, state)
    return row


def _check_value(kind: Kind, column: "models.Field[Any, Any]", value: Any) -> None:
    """Names that are empty, texts that no page can show, numbers and dates that no craft has."""
    where = f"{kind.name}: {column.name}"
    if isinstance(value, str):
        if not is_clean(value):
            raise ValueError(f"{where} holds signs that no text has")
        if not value.strip() and not column.blank and not column.null and not column.has_default():
            raise ValueError(f"{where} is empty")
    elif isinstance(value, float) and finite(value) is None:
        raise ValueError(f"{where} cannot be {value}")
    elif isinstance(value, datetime):
        moment(value)


def _pointed(column: "models.ForeignKey[Any, Any]", number: Any, state: _State) -> models.Model | None:
    if number is None:
        if not column.null:
            raise ValueError(f"{column.name} points nowhere")
        return None
    return state.made[column.related_model][number]


def _adapted(kind: Kind, row: models.Model, state: _State) -> None:
    """What names rows in words or lists gets their numbers of here."""
    if (column := CARD_KEYS.get(kind.model)) is not None:
        setattr(row, column, _card_key(getattr(row, column), state))
    if isinstance(row, Craft):
        row.name = _free_name(row.name, state)
    if isinstance(row, Session) and Session.objects.filter(uid=row.uid).exists():
        row.uid = Session().uid
    if isinstance(row, Log) and "flight" in row.request:
        flight = dict(row.request["flight"])
        for name, model in zip(ROW_NUMBERS, (Configuration, BuildEntry, Flight), strict=True):
            if flight.get(name):
                flight[name] = state.made[model][flight[name]].pk
        flight["card_key"] = _card_key(str(flight.get("card_key", "")), state)
        row.request = row.request | {"flight": flight}
    if isinstance(row, Slip) and row.provoke.get("answers"):
        answers = {str(state.made[Flight][int(number)].pk): told for number, told in row.provoke["answers"].items()}
        row.provoke = row.provoke | {"answers": answers}


def _card_key(key: str, state: _State) -> str:
    own = state.made[OwnCard].get(int(key[4:])) if key.startswith("own-") and key[4:].isdigit() else None
    return key if own is None else f"own-{own.pk}"


def _free_name(name: str, state: _State) -> str:
    taken = name
    number = 2
    while Craft.objects.filter(name=taken).exists():
        taken = f"{name[:54]} ({number})"
        number += 1
    if taken != name:
        state.renamed[name] = taken
    return taken


def _here_already(row: models.Model, number: int, state: _State) -> models.Model | None:
    """A pack, a profile or a card that this workshop has already."""
    if isinstance(row, Pack):
        here = Pack.objects.filter(name__iexact=row.name).first()
        if here is not None:
            state.known.add(number)
        return here
    if isinstance(row, ImportProfile):
        return ImportProfile.objects.filter(fingerprint=row.fingerprint).first()
    if isinstance(row, Obstacle):
        same = Obstacle.objects.filter(name=row.name, kind=row.kind, height_m=row.height_m)
        return next((one for one in same if one.places == row.places), None)
    if isinstance(row, Profile):
        return next((one for one in Profile.objects.filter(name=row.name) if one.ground_m == row.ground_m), None)
    if isinstance(row, OwnCard):
        alike = OwnCard.objects.filter(name=row.name, craft_kind=row.craft_kind)
        return next((one for one in alike if one.document == row.document), None)
    return None


def _take_kept_arms(bundle: Bundle, state: _State) -> None:
    for experiment, arm in bundle.read_json("rows/kept_arms.json"):
        row = state.made[Experiment][experiment]
        assert isinstance(row, Experiment)
        kept = state.made[Arm][arm]
        Experiment.objects.filter(pk=row.pk).update(kept_arm=kept)


def _check_orders(state: _State) -> None:
    """A comparison's order names its own variants, one for each flight."""
    for row in state.made[Experiment].values():
        assert isinstance(row, Experiment)
        order = order_of(row)
        if len(order) != row.turns.count() or not set(order) <= set(range(row.arms.count())):
            raise InputError(f"this archive was altered: the order of {row} is not that of its variants")


def _take_samples(bundle: Bundle, state: _State) -> None:
    channels: dict[int, list[Channel]] = {}
    for row in state.made[Channel].values():
        assert isinstance(row, Channel)
        channels.setdefault(row.stream_id, []).append(row)
    for number, stream in state.made[Stream].items():
        assert isinstance(stream, Stream)
        name = f"samples/{number}.parquet"
        own = {str(channel.position): channel for channel in channels.get(stream.pk, [])}
        content = io.BytesIO(bundle.read(name))
        try:
            _check_samples(content, name, stream, own)
            for position, channel in own.items():  # one after the other: a whole log is many times as large in memory
                samples = pl.read_parquet(content, columns=[position])[position].to_numpy()
                if samples.dtype.name != channel.dtype or samples.size != stream.n_samples:
                    raise InputError(f"this archive was altered: channel {position} of {name} has another type")
                keep_samples(channel, samples)
        except (pl.exceptions.PolarsError, OSError):
            raise InputError(f"this archive was altered: {name} is no Parquet") from None


def _check_samples(content: io.BytesIO, name: str, stream: Stream, own: dict[str, Channel]) -> None:
    """By its head alone, before anything is unpacked: the channels and rows of its log, and not far more than was packed."""
    if set(pl.read_parquet_schema(content)) != set(own):
        raise InputError(f"this archive was altered: {name} holds other channels than its log")
    n_rows = int(pl.scan_parquet(content).select(pl.len()).collect().item())
    if own and n_rows != stream.n_samples:
        raise InputError(f"this archive was altered: {name} holds other rows than its log")
    if n_rows * 8 > _MOST_CHANNEL_BYTES:
        raise InputError(f"rejected: {name} would unpack to far more than a log holds")
    content.seek(0)


def _take_files(bundle: Bundle, state: _State) -> None:
    for number, row in state.made[Upload].items():
        Upload.objects.filter(pk=row.pk).update(content=bundle.read(f"files/{number}.bin"))
