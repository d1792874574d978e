"""The table of formats; one function picks."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from nembrit.core.errors import LogReadError
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
    read: Reader


FORMATS = (LogFormat(key=nembrit_csv.KEY, label=nembrit_csv.LABEL, matches=nembrit_csv.matches, read=nembrit_csv.read),)


def read_log(content: bytes, *, progress: Progress = no_progress) -> FlightLog:
    """Read a log of any known format; raises LogReadError with the row, the column and what was expected."""
    head = content[:65536]
    for log_format in FORMATS:
        if log_format.matches(head):
            return log_format.read(content, progress=progress)
    # the first format's own refusal says most about a file that fits none
    return FORMATS[0].read(content, progress=progress) if head.strip() else _refuse_empty()


def _refuse_empty() -> FlightLog:
    raise LogReadError("the file is empty; expected a header row that starts with “time [s]”")
