"""What a log's columns mean: as recognised, as a profile says, or as the tuner chose."""

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import Any

import numpy as np
from django.db import transaction

from nembrit.core.errors import InputError
from nembrit.core.recognise.fellows import fellow_roles
from nembrit.core.recognise.preamble import scale_before
from nembrit.core.recognise.propose import propose
from nembrit.core.recognise.scales import scale_for_role
from nembrit.core.records import mapping as core
from nembrit.core.records.mapping import ClockUse, ColumnUse, TableMapping, check_mapping, mapping_from_json
from nembrit.core.records.meanings import meanings_document, with_meanings
from nembrit.core.records.raw import RawColumn, RawLog, RawTable
from nembrit.core.records.roles import ROLE_CHOICES, quantity_of, spoken, unit_of
from nembrit.core.records.roles import role_of as role_of
from nembrit.core.records.units import SHOWN_UNITS, parse_scale, scale_text
from nembrit.web.common.fields import number, whole
from nembrit.web.common.jobs import start_job
from nembrit.web.common.models import Job
from nembrit.web.common.seen import seen_of
from nembrit.web.logs.models import Channel, ImportProfile, Log, Stream
from nembrit.web.logs.storage import load_pyramid, load_samples, load_values
from nembrit.web.logs.windows import SURE

_MOST_MODES = 40  # numbers in a column that may be modes
_PROVISIONAL_HZ = 1000.0  # rows of a log whose rate is not known yet are laid out so, to be looked at


def fingerprint(raw: RawLog) -> str:
    """The same for files whose format, columns and stated units are the same."""
    shape = [[(column.name, column.unit) for column in table.columns] for table in raw.tables]
    return hashlib.sha256(json.dumps([raw.format_key, shape]).encode()).hexdigest()


def mapping_for(log: Log, raw: RawLog) -> tuple[core.Mapping, ImportProfile | None]:
    """The tuner's own choice, else a profile for such headers, else what the recogniser proposes."""
    if log.chosen_mapping:
        return mapping_from_json(log.chosen_mapping), log.profile
    profile = ImportProfile.objects.filter(fingerprint=fingerprint(raw)).first()
    if profile:
        return mapping_from_json(profile.mapping), profile
    return propose(raw), None


def questions_of(mapping: core.Mapping) -> list[str]:
    """What the tuner must say before the log can be used."""
    asked = [table.clock.reason or "At what rate was this logged?" for table in mapping.tables if not table.clock.is_known]
    if not any(use.role for table in mapping.tables for use in table.columns):
        asked.append("No column was recognised: choose their meanings.")
    return asked


def provisional(mapping: core.Mapping) -> core.Mapping:
    """The same mapping with rows spread at 1 kHz where no clock is known, so that the log can be looked at."""
    return replace(
        mapping,
        tables=tuple(
            table if table.clock.is_known else replace(table, clock=replace(table.clock, column=None, rate_hz=_PROVISIONAL_HZ))
            for table in mapping.tables
        ),
    )


class OlderMeanings(InputError):
    """The page that was sent showed meanings that are no longer the log's."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Choice:
    """What the tuner chose on the meanings page, by the rows' field names and by the place of tables in the file."""

    roles: dict[str, str]
    scales: dict[str, str]  # a unit or a number, as typed
    rates_hz: dict[int, float]
    modes: dict[str, str] = field(default_factory=dict)  # number as written → name
    typed: frozenset[str] = frozenset()  # fields whose unit was typed: they follow no other column
    seen: str = ""  # mark of the meanings that the page showed
    profile_name: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class ColumnRow:
    """One row of the meanings page."""

    channel: Channel
    picture: str  # points of an SVG polyline, 120 × 30
    state: str  # sure, doubtful or unknown
    role: str  # as the form shows it
    scale: str  # unit or factor, as the form shows it

    @property
    def field(self) -> str:
        return f"{self.channel.stream.table}-{self.channel.position}"


def rows_of(log: Log, typed: Mapping[str, str]) -> list[tuple[Any, list[ColumnRow]]]:
    """All streams with their columns, miniature pictures included; `typed` is what a refused form held."""
    found = []
    for stream in log.streams.order_by("pk"):
        rows = []
        for channel in stream.channels.select_related("stream", "pyramid"):
            if channel.position == 0:
                continue
            state = "unknown" if not channel.role else "sure" if (channel.confidence or 0) >= SURE else "doubtful"
            field = f"{stream.table}-{channel.position}"
            scale = scale_text(channel.role, channel.factor, channel.offset) if channel.role else ""
            rows.append(
                ColumnRow(
                    channel=channel,
                    picture=_miniature(channel),
                    state=state,
                    role=typed.get(f"role-{field}") or spoken(channel.role or ""),
                    scale=typed.get(f"scale-{field}", scale),
                )
            )
        found.append((stream, rows))
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class ColumnGroup:
    """Columns that are shown together, with whether they are folded away."""

    title: str
    rows: tuple[ColumnRow, ...]
    is_open: bool
    is_folded_on_phones: bool = False


def grouped(rows: Sequence[ColumnRow]) -> list[ColumnGroup]:
    """Columns in doubt first, then those that were recognised by family, then those without a meaning; none is empty."""
    order = [role.partition(".")[0] for _, roles in ROLE_CHOICES for role in roles]
    places = {family: place for place, family in reversed(list(enumerate(order)))}

    def by_family(row: ColumnRow) -> int:
        return places.get(role_of(row.role).partition(".")[0], len(order))

    doubtful = tuple(row for row in rows if row.state == "doubtful")
    sure = tuple(sorted((row for row in rows if row.state == "sure"), key=by_family))
    unknown = tuple(row for row in rows if row.state == "unknown")
    parts = (("in doubt", doubtful, True), ("recognised", sure, True), ("without a meaning", unknown, True))
    return [
        ColumnGroup(title=f"{_counted(len(own))} {what}", rows=own, is_open=is_open, is_folded_on_phones=own is not doubtful)
        for what, own, is_open in parts
        if own
    ]


def _counted(n: int) -> str:
    return f"{n} column{'' if n == 1 else 's'}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Following:
    """A column that follows the correction of its fellow, as the form is to show it."""

    field: str
    name: str
    role: str
    scale: str

    @property
    def words(self) -> str:
        return spoken(self.role)


def following(log: Log, field: str, choice: Choice) -> list[Following]:
    """Columns named like the corrected one, with the meaning that follows for them.

    Raises InputError for a role or scale that cannot be.
    """
    table, _, position = field.partition("-")
    stream = next((one for one in log.streams.all() if str(one.table) == table), None)
    columns = (
        [channel for channel in stream.channels.select_related("stream__log").order_by("position") if channel.position]
        if stream
        else []
    )
    at = next((k for k, channel in enumerate(columns) if str(channel.position) == position), None)
    role = choice.roles.get(field, "").strip()
    if at is None or not role:
        return []
    if quantity_of(role) is None:
        raise InputError(f"“{role}” is not a known meaning; choose one from the list")
    scale = _fitting_scale(columns[at], role, choice.scales.get(field, "").strip())
    names, units = [channel.name for channel in columns], [channel.stated_unit for channel in columns]
    found = []
    for k, follows in {at: role, **fellow_roles(names, units, at, role)}.items():
        one = f"{table}-{columns[k].position}"
        own = choice.scales.get(one, "").strip() if k != at and one in choice.typed else scale
        if choice.roles.get(one) != follows or choice.scales.get(one) != own:
            found.append(Following(field=one, name=columns[k].name, role=follows, scale=own))
    return found


def _fitting_scale(channel: Channel, role: str, typed: str) -> str:
    """The scale as typed; one that is left from a meaning of another quantity gives way to what the numbers suggest."""
    was_shown = scale_text(channel.role, channel.factor, channel.offset) if channel.role else ""
    if typed != was_shown or quantity_of(role) == quantity_of(channel.role or ""):
        parse_scale(role, typed or "1")
        return typed
    written = np.array([channel.stats[key] for key in ("low", "mean", "high") if channel.stats.get(key) is not None], dtype=float)
    before = tuple((str(key), str(value)) for key, value in (channel.stream.log.preamble if channel.stream.log else []))
    is_counted = bool(np.all(np.mod(written[[0, -1]], 1) == 0)) if written.size else False
    stated = scale_before(before, role.split(".")[0]) if is_counted and not channel.stated_unit else None
    found = stated or scale_for_role(role, channel.stated_unit, written)
    return scale_text(role, found.factor, found.offset)


def _miniature(channel: Channel) -> str:
    """The column's envelope over the whole log as one polyline: up along the highs, back along the lows."""
    if channel.labels is not None:
        return ""
    envelope = load_pyramid(channel)
    n = min(60, envelope.shape[0])
    groups = _split(envelope, n)
    lows = [float(part[:, 0].min()) for part in groups]
    highs = [float(part[:, 1].max()) for part in groups]
    finite = [value for value in (*lows, *highs) if value == value]
    if not finite:
        return ""
    bottom, top = min(finite), max(finite)
    span = (top - bottom) or 1.0

    def point(k: int, value: float) -> str:
        shown = value if value == value else bottom
        return f"{120 * k / max(1, len(groups) - 1):.1f},{28 - 26 * (shown - bottom) / span:.1f}"

    upper = [point(k, value) for k, value in enumerate(highs)]
    lower = [point(k, value) for k, value in enumerate(lows)]
    return " ".join([*upper, *reversed(lower)])


def _split(envelope: Any, n: int) -> list[Any]:
    edges = [round(k * envelope.shape[0] / n) for k in range(n + 1)]
    return [envelope[a:b] for a, b in pairwise(edges) if b > a]


def role_choices() -> list[str]:
    """Meanings to choose from, as people say them."""
    return [spoken(role) for _, roles in ROLE_CHOICES for role in roles]


def unit_choices() -> list[str]:
    """Units to choose from, whatever the role."""
    return sorted({unit for units in SHOWN_UNITS.values() for unit in units})


@dataclass(frozen=True, slots=True, kw_only=True)
class ClockRow:
    """How the time of one stream was found."""

    stream: Stream
    clock: ClockUse
    rate: str  # what a refused form held


def clocks_of(log: Log, typed: Mapping[str, str]) -> list[ClockRow]:
    """The clocks of a log's streams."""
    if not log.applied_mapping:
        return []
    mapping = mapping_from_json(log.applied_mapping)
    return [
        ClockRow(stream=stream, clock=mapping.tables[stream.table].clock, rate=typed.get(f"rate-{stream.table}", ""))
        for stream in log.streams.order_by("pk")
    ]


@dataclass(frozen=True, slots=True, kw_only=True)
class ModeRow:
    """One mode that the log writes as a number."""

    number: str
    name: str
    seconds: float
    first_s: float


def modes_of(log: Log, typed: Mapping[str, str]) -> list[ModeRow]:
    """Modes written as numbers, in the order in which they were flown; empty for a log that writes words."""
    if not log.applied_mapping:
        return []
    mapping = mapping_from_json(log.applied_mapping)
    channel = Channel.objects.filter(stream__log=log, role="mode").select_related("stream").first()
    if channel is None or channel.labels is None:
        return []
    numbers: dict[str, list[str]] = {}
    for code, name in mapping.modes.items():
        numbers.setdefault(name, []).append(code)
    if not any(word in numbers or word.startswith("mode ") for word in channel.labels):
        return []  # the log writes words
    times = Channel.objects.select_related("stream").get(stream=channel.stream, position=0)
    t_s, codes, words = load_values(times), load_samples(channel), channel.labels
    length_s = float(t_s[-1] - t_s[0])
    found = []
    for place, word in enumerate(words):
        here = np.flatnonzero(codes == place)
        known = numbers.get(word) or ([word.removeprefix("mode ")] if word.startswith("mode ") else [])
        for code in known if here.size else []:
            row = ModeRow(
                number=code,
                name=typed.get(f"mode-{code}", "" if word == f"mode {code}" else word),
                seconds=length_s * here.size / codes.size / len(known),
                first_s=float(t_s[here[0]] - t_s[0]),
            )
            found.append(row)
    return sorted(found, key=lambda row: row.first_s)


def modes_chosen(log: Log, field: str, choice: Choice) -> list[ModeRow]:
    """Modes of a column that was just called the mode, before anything is saved; empty for any other correction."""
    table, _, position = field.partition("-")
    if choice.roles.get(field, "").strip() != "mode":
        return []
    try:
        where = {"stream__table": whole(table, "a table"), "position": whole(position, "a column")}
    except InputError:
        return []
    channel = Channel.objects.filter(stream__log=log, **where).select_related("stream").first()
    if channel is None or channel.position == 0:
        return []
    if channel.labels is not None:
        return modes_of(log, {f"mode-{number}": name for number, name in choice.modes.items()})
    values, t_s = (
        load_values(channel),
        load_values(Channel.objects.select_related("stream").get(stream=channel.stream, position=0)),
    )
    numbers = np.unique(values[np.isfinite(values)])
    if not 0 < numbers.size <= _MOST_MODES or np.any(np.mod(numbers, 1)):
        return []
    length_s = float(t_s[-1] - t_s[0])
    rows = [
        ModeRow(
            number=f"{number:.0f}",
            name=choice.modes.get(f"{number:.0f}", ""),
            seconds=length_s * float(np.mean(values == number)),
            first_s=float(t_s[np.argmax(values == number)] - t_s[0]),
        )
        for number in numbers
    ]
    return sorted(rows, key=lambda row: row.first_s)


MODE_NAMES = ("manual", "stabilised", "level", "cruise", "track", "return", "circle", "hold", "gain finder", "landing")


def document_of(log: Log) -> dict[str, Any]:
    """A log's meanings as people keep them. Raises InputError where it has none yet."""
    if not log.applied_mapping:
        raise InputError("this log has no meanings yet: wait until it is read")
    return meanings_document(mapping_from_json(log.applied_mapping))


def import_document(log: Log, content: bytes) -> Job:
    """Read the file again by a document of meanings. Raises InputError for one that cannot be; nothing is changed then."""
    if not hasattr(log, "upload"):
        raise InputError("the uploaded file was removed; its meanings can no longer be changed")
    if not log.applied_mapping:
        raise InputError("this log is not read yet")
    try:
        document = json.loads(content)
    except (ValueError, RecursionError):
        raise InputError("the file is no JSON; expected meanings as this page exports them") from None
    mapping = with_meanings(mapping_from_json(log.applied_mapping), _names_of(log), document)
    unanswered = questions_of(mapping)
    if unanswered:
        raise InputError(unanswered[0])
    with transaction.atomic():
        log.chosen_mapping, log.state = mapping.as_json(), Log.State.WAITING
        log.save(update_fields=("chosen_mapping", "state"))
        return start_job("import_log", log.pk, label=f"Reading {log.file_name} again")


def _names_of(log: Log) -> RawLog:
    """The columns' names of a log's file, in their places: all that a document of meanings is matched by."""
    mapping = mapping_from_json(log.applied_mapping or {})
    tables = tuple(
        RawTable(columns=tuple(RawColumn(name=use.name, unit="", samples=np.empty(0)) for use in table.columns))
        for table in mapping.tables
    )
    return RawLog(format_key=log.format_key, tables=tables, rows_read=0)


def rate_hz(text: str) -> float:
    """A sample rate as typed. Raises InputError for what is none."""
    return number(text.lower().removesuffix("hz"), "a rate in Hz", low=0.01, high=100_000)


def seen_mark(log: Log) -> str:
    """A mark of a log's present meanings."""
    return seen_of([log.applied_mapping, log.chosen_mapping])


def read_again(log: Log) -> Job:
    """Read the kept file anew with what the recogniser knows now; the tuner's own choices stay."""
    if not hasattr(log, "upload"):
        raise InputError("the uploaded file was removed; it cannot be read again")
    with transaction.atomic():
        Log.objects.filter(pk=log.pk).update(state=Log.State.WAITING)
        return start_job("import_log", log.pk, label=f"Reading {log.file_name} again")


def choose(log: Log, choice: Choice) -> Job:
    """Keep the tuner's meanings, as a profile too if it has a name, and read the kept file again.

    Raises InputError for a role or scale that cannot be; nothing is changed then.
    """
    if not hasattr(log, "upload"):
        raise InputError("the uploaded file was removed; its meanings can no longer be changed")
    if choice.seen != seen_mark(log):
        raise OlderMeanings(
            "these meanings changed since the page was opened. Yours are still in the fields: check them, then save"
        )
    mapping = _chosen(log, choice)
    check_mapping(mapping)
    unanswered = questions_of(mapping)
    if unanswered:
        raise InputError(unanswered[0])
    with transaction.atomic():
        log.chosen_mapping, log.state = mapping.as_json(), Log.State.WAITING
        if choice.profile_name:
            log.profile, _ = ImportProfile.objects.update_or_create(
                fingerprint=log.fingerprint, defaults={"name": choice.profile_name[:120], "mapping": mapping.as_json()}
            )
        log.save(update_fields=("chosen_mapping", "state", "profile"))
        return start_job("import_log", log.pk, label=f"Reading {log.file_name} again")


def _chosen(log: Log, choice: Choice) -> core.Mapping:
    """The mapping that the log was read with, changed as chosen."""
    current = mapping_from_json(log.applied_mapping or {})
    streams = {stream.table: stream for stream in log.streams.prefetch_related("channels")}
    tables = []
    for index, table in enumerate(current.tables):
        stream = streams.get(index)
        if stream is None:
            tables.append(table)
            continue
        clock = table.clock
        if index in choice.rates_hz:
            column = clock.column if clock.unit_s is None else None
            clock = ClockUse(column=column, rate_hz=choice.rates_hz[index], confidence=1.0, reason="chosen by you")
        uses = list(table.columns)
        for channel in stream.channels.all():
            field = f"{stream.table}-{channel.position}"
            if channel.position and field in choice.roles:
                role, scale = choice.roles[field].strip(), choice.scales.get(field, "").strip()
                if field not in choice.typed and quantity_of(role) is not None:
                    scale = _fitting_scale(channel, role, scale)
                uses[channel.column] = _use(uses[channel.column], role, scale)
        tables.append(TableMapping(clock=clock, columns=tuple(uses)))
    modes = current.modes | {number: name for number, name in choice.modes.items() if name}
    return core.Mapping(tables=tuple(tables), modes={k: name for k, name in modes.items() if choice.modes.get(k, name)})


def _use(use: ColumnUse, role: str, scale: str) -> ColumnUse:
    """One column as chosen; what was left as proposed counts as confirmed."""
    if not role:
        return ColumnUse(name=use.name, reason="chosen: no meaning")
    if quantity_of(role) is None:
        raise InputError(f"“{role}” is not a known meaning; choose one from the list")
    unchanged = use.role is not None and scale == scale_text(use.role, use.factor, use.offset)
    if role == use.role and (unchanged or not scale):
        return replace(use, confidence=max(use.confidence, 0.95))
    if unchanged and quantity_of(role) == quantity_of(use.role or ""):
        factor, offset = use.factor, use.offset
    else:
        factor, offset = parse_scale(role, scale) if scale else (1.0, 0.0)
    return ColumnUse(
        name=use.name, role=role, unit=unit_of(role), factor=factor, offset=offset, confidence=1.0, reason="chosen by you"
    )
