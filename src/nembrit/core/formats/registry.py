"""The table of formats; one function picks."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from nembrit.core.formats import nembrit_csv
from nembrit.core.formats.progress import Progress, no_progress
from nembrit.core.records.log import FlightLog


class Reader(Protocol):
    def __call__(self, content: bytes, *, progress: Progress) -> FlightLog: ...


@dataclass(frozen=True, slots=True, kw_only=True)
class LogFormat:
    key: str  # stored with the log: never rename it
    label: str  # what the pilot sees
    matches: Callable[[bytes], bool]
    check_head: Callable[[bytes], None]
    read: Reader


FORMATS = (
    LogFormat(
        key=nembrit_csv.KEY,
        label=nembrit_csv.LABEL,
        matches=nembrit_csv.matches,
        check_head=nembrit_csv.check_head,
        read=nembrit_csv.read,
    ),
)


def format_of(head: bytes) -> LogFormat:
    """Pick the format of a file from its first bytes; the general one where none matches, for its refusal."""
    return next((log_format for log_format in FORMATS if log_format.matches(head)), FORMATS[-1])


def check_head(head: bytes) -> None:
    """Refuse at once what its first bytes show to be unreadable; raises LogReadError."""
    format_of(head).check_head(head)


def read_log(content: bytes, *, progress: Progress = no_progress) -> FlightLog:
    """Read a log of any known format; raises LogReadError with the row, the column and what was expected."""
    return format_of(content[:65536]).read(content, progress=progress)
