"""The table of formats; one function picks."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, BinaryIO, Protocol

from nembrit.core.errors import LogReadError
from nembrit.core.formats import gpx, jsonl, nembrit_csv, nmea, parquet, table
from nembrit.core.formats.archive import members_of
from nembrit.core.formats.source import Source
from nembrit.core.progress import Progress, no_progress
from nembrit.core.recognise.propose import propose
from nembrit.core.records.interpret import interpret
from nembrit.core.records.log import FlightLog
from nembrit.core.records.mapping import Mapping
from nembrit.core.records.meanings import with_meanings
from nembrit.core.records.quality import quality_notes
from nembrit.core.records.raw import RawLog


class Reader(Protocol):
    def __call__(self, source: Source, *, progress: Progress, n_bytes: int | None) -> RawLog: ...


@dataclass(frozen=True, slots=True, kw_only=True)
class LogFormat:
    key: str  # stored with the log: never rename it
    label: str  # what the pilot sees
    matches: Callable[[bytes], bool]
    check_head: Callable[[bytes], None]
    read: Reader


_MODULES = (nembrit_csv, parquet, gpx, nmea, jsonl, table)  # the general one last
FORMATS = tuple(
    LogFormat(key=module.KEY, label=module.LABEL, matches=module.matches, check_head=module.check_head, read=module.read)
    for module in _MODULES
)


def format_of(head: bytes) -> LogFormat:
    """Pick the format of a file from its first bytes; the general one where none matches, for its refusal."""
    return next((log_format for log_format in FORMATS if log_format.matches(head)), FORMATS[-1])


def label_of(key: str) -> str:
    """A stored format's name for people."""
    return next((log_format.label for log_format in FORMATS if log_format.key == key), key)


def check_head(head: bytes) -> None:
    """Refuse at once what its first bytes show to be unreadable; raises LogReadError."""
    format_of(head).check_head(head)


def check_small(content: bytes) -> None:
    """Refuse at once a small file that cannot be read, without unpacking what may be large. Raises LogReadError."""
    log_format = format_of(content)
    if log_format.key == parquet.KEY:
        parquet.check_size(content)
    else:
        read_raw(content)


def read_raw(content: bytes | BinaryIO, *, progress: Progress = no_progress, n_bytes: int | None = None) -> RawLog:
    """Read a file's tables without saying what they mean; raises LogReadError with the place and what was expected.

    `content` may be a stream, so that a large table never lies in memory whole; `n_bytes` is its size then.
    """
    source = Source(content)
    size = len(content) if isinstance(content, bytes) else n_bytes
    return format_of(source.head).read(source, progress=progress, n_bytes=size)


def read_log(
    content: bytes, *, mapping: Mapping | None = None, meanings: Any = None, progress: Progress = no_progress
) -> FlightLog:
    """Read, recognise and interpret one file, packed or not; an archive of several is refused here.

    `meanings` is a `nembrit.meanings/1` document that corrects what is recognised. Raises LogReadError, InputError for
    meanings that cannot be, or ClockUnknown where the rate must be given by a `mapping` or by meanings.
    """
    members = members_of("log", content)
    if len(members) > 1:
        raise LogReadError(f"{len(members)} files in one archive; read them one by one")
    raw = read_raw(members[0].content, progress=progress)
    chosen = mapping or propose(raw)
    return with_quality(interpret(raw, chosen if meanings is None else with_meanings(chosen, raw, meanings)))


def with_quality(log: FlightLog) -> FlightLog:
    """The same log with everything noted that is wrong with it."""
    return replace(log, quality=quality_notes(log))
