"""Lines as a telemetry source sends them: JSON objects, tables with a header line, NMEA sentences, told apart by looking."""

import json
import math
import re
from dataclasses import dataclass, field
from functools import lru_cache

from nembrit.core.formats.nmea import checksum
from nembrit.core.given import clean_text

Value = float | str
MOST_LINE_BYTES = 16_384
_MOST_COLUMNS = 200
_SENTENCE = re.compile(r"[$!]([A-Z]{2})([A-Z]{3}),([^*]*)(?:\*([0-9A-Fa-f]{2}))?$")
_KNOT_M_S = 1852 / 3600
_SEPARATORS = (";", "\t", ",")


@dataclass(slots=True)
class Counts:
    """What came in, by what became of it."""

    lines: int = 0
    rows: int = 0
    garbage: int = 0
    wrong_checksum: int = 0
    too_long: int = 0
    last_bad: str = ""  # the newest line that could not be read, shortened

    def bad(self, text: str) -> None:
        self.garbage += 1
        self.last_bad = text[:80]


@dataclass(slots=True)
class LineReader:
    """Bytes in, rows out; a line that comes in halves waits for its end, one that never ends is thrown away.

    A header line of a table counts from where it stands until another one comes. Nothing is guessed: what is no row is counted.
    """

    counts: Counts = field(default_factory=Counts)
    _rest: bytes = b""
    _header: tuple[str, ...] = ()
    _separator: str = ","
    _is_skipping: bool = False  # the rest of a line that was too long

    def feed(self, data: bytes) -> list[dict[str, Value]]:
        """All rows whose lines ended with these bytes, in order."""
        pieces = (self._rest + data).split(b"\n")
        self._rest = pieces.pop()
        found = []
        for piece in pieces:
            if self._is_skipping:
                self._is_skipping = False
                continue
            if len(piece) > MOST_LINE_BYTES:
                self.counts.too_long += 1
                continue
            if (row := self._row(piece)) is not None:
                found.append(row)
        if len(self._rest) > MOST_LINE_BYTES:
            self.counts.too_long += not self._is_skipping
            self._rest, self._is_skipping = b"", True
        return found

    def _row(self, piece: bytes) -> dict[str, Value] | None:
        text = piece.decode("utf-8", errors="replace").strip().removeprefix("\ufeff")
        if not text:
            return None
        self.counts.lines += 1
        if "\ufffd" in text or "\x00" in text:
            self.counts.bad(text)
            return None
        if text[0] == "{":
            row = _object(text)
        elif text[0] in "$!":
            row = self._sentence(text)
            if row is None:
                return None
        else:
            row = self._cells(text)
            if row is not None and not row:  # the header itself
                return None
        if row is None:
            self.counts.bad(text)
            return None
        self.counts.rows += 1
        return row

    def _sentence(self, text: str) -> dict[str, Value] | None:
        found = _SENTENCE.match(text)
        if found is None:
            self.counts.bad(text)
            return None
        if found[4] and checksum(text[1 : found.start(4) - 1]) != found[4].upper():
            self.counts.wrong_checksum += 1
            self.counts.last_bad = text[:80]
            return None
        try:
            return _position(found[2], found[3].split(","))
        except (ValueError, IndexError):
            self.counts.bad(text)
            return None

    def _cells(self, text: str) -> dict[str, Value] | None:
        """A row of a table; empty for its header, None for what is neither."""
        separator = self._separator if self._header else next((one for one in _SEPARATORS if one in text), "")
        cells = [cell.strip().strip('"') for cell in text.split(separator)] if separator else [text]
        if len(cells) < 2 or len(cells) > _MOST_COLUMNS:
            return None
        if sum(_number(cell) is None and cell != "" for cell in cells) > len(cells) / 2:
            if len(set(cells)) < len(cells) or not all(cell[:1].isalpha() or cell[:1] == "_" for cell in cells):
                return None
            self._header, self._separator = tuple(cells), separator
            return {}
        if len(cells) != len(self._header):
            return None
        return {name: _value(cell) for name, cell in zip(self._header, cells, strict=True) if cell != ""}


def _number(text: str) -> float | None:
    try:
        value = float(text)
    except ValueError:
        return None
    return value if math.isfinite(value) else None


def _value(text: str) -> Value:
    number = _number(text)
    return text if number is None else number


def _object(text: str) -> dict[str, Value] | None:
    try:
        document = json.loads(text)
    except (ValueError, RecursionError):
        return None
    if not isinstance(document, dict) or not 0 < len(document) <= _MOST_COLUMNS:
        return None
    found: dict[str, Value] = {}
    for name, value in document.items():
        if isinstance(value, bool) or (isinstance(value, (int, float)) and abs(value) < 1e300):
            found[_name(name)] = float(value)
        elif isinstance(value, str):
            found[_name(name)] = _name(value)
        elif isinstance(value, dict):  # one level deep, as recorders group things
            for inner, number in value.items():
                if isinstance(number, (int, float)) and not isinstance(number, bool) and abs(number) < 1e300:
                    found[_name(f"{name}.{inner}")] = float(number)
    return found or None


@lru_cache(maxsize=4096)  # names and words of modes come again with every line
def _name(text: str) -> str:
    return clean_text(text, most=80)


def _position(kind: str, cells: list[str]) -> dict[str, Value]:
    """Latitude, longitude and course [deg], height [m] and ground speed [m/s] of a sentence; of other kinds only which it was."""
    if kind == "GGA":
        found: dict[str, Value] = {}
        if cells[1] and cells[5] != "0":
            found = {"latitude [deg]": _degrees(cells[1], cells[2]), "longitude [deg]": _degrees(cells[3], cells[4])}
            if cells[8]:
                found["altitude [m]"] = float(cells[8])
        return found | ({"satellites": float(cells[6])} if cells[6] else {})
    if kind == "RMC":
        if cells[1] != "A":
            return {"fix": "none"}
        found = {"latitude [deg]": _degrees(cells[2], cells[3]), "longitude [deg]": _degrees(cells[4], cells[5])}
        if cells[6]:
            found["ground_speed [m/s]"] = float(cells[6]) * _KNOT_M_S
        if cells[7]:
            found["course [deg]"] = float(cells[7])
        return found
    return {"sentence": kind}


def _degrees(text: str, side: str) -> float:
    """Degrees and minutes as NMEA writes them.

    >>> round(_degrees("4807.038", "N"), 6), round(_degrees("01131.000", "W"), 6)
    (48.1173, -11.516667)
    """
    value = float(text)
    whole = int(value // 100)
    found = whole + (value - 100 * whole) / 60
    if side not in "NSEW" or not side or abs(found) > (90 if side in "NS" else 180):
        raise ValueError(text)
    return -found if side in "SW" else found
