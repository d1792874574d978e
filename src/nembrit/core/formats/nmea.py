"""NMEA 0183 sentences: positions from GGA and RMC, joined by their time of day.

Sources: the sentences as commonly published (fields and XOR checksum, `shared` worked examples in the
tests); the standard itself is not free to read.
"""

import calendar
import math
import re

from nembrit.core.errors import LogReadError
from nembrit.core.formats.positions import Fix, log_of_fixes
from nembrit.core.formats.source import Source
from nembrit.core.progress import Progress, no_progress
from nembrit.core.records.log import QualityNote
from nembrit.core.records.raw import RawLog

KEY = "nmea"
LABEL = "NMEA 0183 sentences"
_KNOT_M_S = 1852 / 3600
_SENTENCE = re.compile(r"[$!]([A-Z]{2})([A-Z]{3}),([^*\r\n]*)(?:\*([0-9A-Fa-f]{2}))?")


def matches(head: bytes) -> bool:
    """True where most lines are sentences."""
    lines = [line for line in head[:4096].split(b"\n")[:-1] or [head[:4096]] if line.strip()]
    found = sum(bool(re.match(rb"\s*[$!][A-Z]{5},", line)) for line in lines)
    return found >= 1 and found > len(lines) / 2


def check_head(head: bytes) -> None:
    """Nothing more can be told from the first bytes."""


def checksum(sentence: str) -> str:
    """XOR of all characters between ``$`` and ``*``, as two hexadecimal digits.

    >>> checksum("GPGLL,4916.45,N,12311.12,W,225444,A,")
    '1D'
    """
    total = 0
    for letter in sentence:
        total ^= ord(letter)
    return f"{total:02X}"


def read(source: Source, *, progress: Progress = no_progress, n_bytes: int | None = None) -> RawLog:
    """Read all positions; sentences whose checksum is wrong are left out and told."""
    content = source.all()
    text = content.decode("ascii", errors="replace")
    date_s: float | None = None
    by_time: dict[float, dict[str, float]] = {}
    order: list[float] = []
    notes: list[QualityNote] = []
    n_bad = n_read = day = 0
    last_clock_s = -1.0
    lines = text.splitlines()
    for number, line in enumerate(lines, start=1):
        if number % 20_000 == 0:
            progress("reading the sentences", number / len(lines))
        found = _SENTENCE.search(line)
        if not found:
            n_bad += bool(line.strip())
            continue
        body = line[found.start() + 1 : found.start(4) - 1] if found[4] else line[found.start() + 1 : found.end()]
        if found[4] and checksum(body) != found[4].upper():
            n_bad += 1
            if n_bad <= 5:
                detail = f"row {number}: checksum {found[4].upper()}, {checksum(body)} expected; the sentence is left out"
                notes.append(QualityNote(code="row", severity="warning", detail=detail))
            continue
        n_read += 1
        try:
            fix = _fields(found[2], found[3].split(","))
        except (ValueError, IndexError):
            n_bad += 1
            continue
        if fix is None:
            continue
        if "date_s" in fix:
            date_s = fix.pop("date_s") if date_s is None else (fix.pop("date_s"), date_s)[1]
        clock_s = fix.pop("clock_s")
        if clock_s < last_clock_s - 43_200:
            day += 1  # past midnight
        last_clock_s = clock_s
        at = clock_s + 86_400 * day
        if at not in by_time:
            by_time[at] = {}
            order.append(at)
        by_time[at] |= fix
    fixes = [
        Fix(
            at_s=at + (date_s or 0.0),
            latitude_deg=by_time[at]["latitude"],
            longitude_deg=by_time[at]["longitude"],
            altitude_m=by_time[at].get("altitude", math.nan),
            ground_speed_m_s=by_time[at].get("speed", math.nan),
            course_deg=by_time[at].get("course", math.nan),
        )
        for at in order
        if "latitude" in by_time[at]
    ]
    if not n_read:
        raise LogReadError("no sentence with a valid checksum in this file")
    log = log_of_fixes(fixes, format_key=KEY, n_dropped=n_bad, notes=tuple(notes))
    if date_s is not None:
        return log
    return RawLog(
        format_key=log.format_key,
        tables=log.tables,
        rows_read=log.rows_read,
        rows_dropped=n_bad,
        notes=log.notes,
        started_at=None,
    )


def _fields(kind: str, cells: list[str]) -> dict[str, float] | None:
    """Values of one sentence; None for kinds without a position, and for fixes that are void."""
    if kind == "GGA":
        if cells[5] in ("", "0"):
            return None
        fix = {"clock_s": _clock_s(cells[0]), **_place(cells[1:5])}
        return fix | ({"altitude": float(cells[8])} if cells[8] else {})
    if kind == "RMC":
        if cells[1] != "A":
            return None
        fix = {"clock_s": _clock_s(cells[0]), **_place(cells[2:6])}
        if cells[6]:
            fix["speed"] = float(cells[6]) * _KNOT_M_S
        if cells[7]:
            fix["course"] = float(cells[7])
        if len(cells[8]) == 6:
            year = int(cells[8][4:6])
            date = (2000 + year if year < 80 else 1900 + year, int(cells[8][2:4]), int(cells[8][0:2]))
            fix["date_s"] = float(calendar.timegm((*date, 0, 0, 0)))
        return fix
    if kind == "GLL":
        return {"clock_s": _clock_s(cells[4]), **_place(cells[0:4])} if len(cells) < 6 or cells[5] == "A" else None
    return None


def _clock_s(text: str) -> float:
    if not re.fullmatch(r"\d{6}(?:\.\d+)?", text):
        raise ValueError(text)
    return int(text[0:2]) * 3600 + int(text[2:4]) * 60 + float(text[4:])


def _place(cells: list[str]) -> dict[str, float]:
    """Degrees from ddmm.mmmm with its hemisphere.

    >>> {name: round(value, 4) for name, value in _place(["4807.038", "N", "01131.000", "E"]).items()}
    {'latitude': 48.1173, 'longitude': 11.5167}
    """
    found = {}
    for name, text, side, most in (("latitude", cells[0], cells[1], 90), ("longitude", cells[2], cells[3], 180)):
        point = text.index(".") if "." in text else len(text)
        value = int(text[: point - 2]) + float(text[point - 2 :]) / 60
        if value > most or side not in ("N", "S", "E", "W"):
            raise ValueError(text)
        found[name] = -value if side in ("S", "W") else value
    return found
