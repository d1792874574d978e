"""Bytes to UTF-8 text, whatever encoding they came in."""

import codecs

import numpy as np

from nembrit.core.errors import LogReadError

_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
_KNOWN_BINARY = (
    (b"\x89PNG", "a PNG picture"),
    (b"\xff\xd8\xff", "a JPEG picture"),
    (b"GIF8", "a GIF picture"),
    (b"%PDF", "a PDF document"),
    (b"RIFF", "a sound or film file"),
    (b"\x7fELF", "a program"),
    (b"SQLite format 3", "a database"),
)
_SLICE = 262_144
_CONTROLS = bytes(set(range(32)) - {9, 10, 11, 12, 13, 26, 27})


def encoding_of(head: bytes) -> tuple[str, int]:
    """Encoding of a text by its first bytes, and the length of its byte-order mark.

    Raises LogReadError for bytes that are no text. Without a mark: UTF-8 where it is valid UTF-8, else
    Western European (Windows-1252, which holds Latin-1).

    >>> encoding_of("Zeit;Höhe".encode("latin-1")), encoding_of("a,b".encode("utf-16-le"))
    (('cp1252', 0), ('utf-16-le', 0))
    """
    for mark, name in _MARKS:
        if head.startswith(mark):
            return name, len(mark)
    for magic, what in _KNOWN_BINARY:
        if head.startswith(magic):
            raise LogReadError(f"this is {what}, not a table of flight data")
    if b"\0" in head:
        even, odd = head[0::2].count(0), head[1::2].count(0)
        half = max(1, len(head) // 2)
        if odd > 0.6 * half and even < 0.1 * half:
            return "utf-16-le", 0
        if even > 0.6 * half and odd < 0.1 * half:
            return "utf-16-be", 0
        raise LogReadError(f"byte {head.index(0)}: this is not text; expected a text table, Parquet, JSON Lines, GPX or NMEA")
    n_controls = len(head) - len(head.translate(None, _CONTROLS))
    if n_controls > 0.01 * len(head) + 2:
        raise LogReadError("this is not text; expected a text table, Parquet, JSON Lines, GPX or NMEA")
    decoder = codecs.getincrementaldecoder("utf-8")()
    try:
        decoder.decode(head)  # a character cut off at the end of the head is no fault
    except UnicodeDecodeError:
        return "cp1252", 0
    return "utf-8", 0


def as_utf8(content: bytes) -> tuple[bytes, str]:
    """The same text in UTF-8 with plain line ends, and the name of the encoding it came in."""
    encoding, skip = encoding_of(content[:65536])
    if encoding == "utf-8":
        text = content[skip:] if skip else content
    else:
        text = content[skip:].decode(encoding, errors="replace").encode("utf-8")
    if b"\r" in text[:65536]:
        text = text.replace(b"\r\n", b"\n").replace(b"\r", b"\n")
    return text, encoding


def count_of(text: bytes, character: bytes) -> int:
    """How often one byte occurs; several times as fast as `bytes.count` where it occurs often.

    >>> count_of(b"1,2,3", b",")
    2
    """
    codes = np.frombuffer(text, dtype=np.uint8)
    starts = range(0, codes.size, _SLICE)  # small enough to stay in the processor's cache
    return sum(int(np.count_nonzero(codes[start : start + _SLICE] == character[0])) for start in starts)
