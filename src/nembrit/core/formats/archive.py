"""Compressed uploads: gzip and zip, opened with limits so that a small file cannot fill the machine."""

import io
import zipfile
import zlib
from dataclasses import dataclass

from nembrit.core.errors import LogReadError

MOST_BYTES = 800 * 1024 * 1024
_MOST_MEMBERS = 200
_MOST_RATIO = 400  # text of flight data shrinks by 3 to 20
_PIECE = 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class Member:
    """One file as it is to be read."""

    name: str
    content: bytes


def is_archive(head: bytes) -> bool:
    return head.startswith((b"\x1f\x8b", b"PK\x03\x04", b"PK\x05\x06"))


def members_of(name: str, content: bytes) -> tuple[Member, ...]:
    """Files inside a gzip or zip; any other file is its own single member.

    Raises LogReadError for a broken archive, for one in another, and for one that grows beyond all measure.
    """
    if content.startswith(b"\x1f\x8b"):
        return (Member(name=name.removesuffix(".gz") or name, content=_gunzip(content)),)
    if content.startswith((b"PK\x03\x04", b"PK\x05\x06")):
        return _unzip(content)
    return (Member(name=name, content=content),)


def _gunzip(content: bytes) -> bytes:
    parts, total = [], 0
    rest = content
    try:
        while rest.startswith(b"\x1f\x8b"):
            engine = zlib.decompressobj(wbits=31)
            pending = rest
            while pending and not engine.eof:
                piece = engine.decompress(pending, _PIECE)
                total += len(piece)
                _check_size(total, len(content))
                parts.append(piece)
                pending = engine.unconsumed_tail
            if not engine.eof:
                raise LogReadError("this .gz file is cut off; send it again whole")
            rest = engine.unused_data
    except zlib.error as error:
        raise LogReadError(f"this .gz file is broken: {error}") from None
    return _not_nested(b"".join(parts))


def _unzip(content: bytes) -> tuple[Member, ...]:
    try:
        archive = zipfile.ZipFile(io.BytesIO(content))
        entries = [entry for entry in archive.infolist() if not entry.is_dir() and not _is_clutter(entry.filename)]
        if len(entries) > _MOST_MEMBERS:
            raise LogReadError(f"{len(entries)} files in this .zip; at most {_MOST_MEMBERS} are accepted at once")
        found, total = [], 0
        for entry in entries:
            with archive.open(entry) as stream:
                parts = []
                while piece := stream.read(_PIECE):
                    total += len(piece)
                    _check_size(total, len(content))
                    parts.append(piece)
            found.append(Member(name=plain_name(entry.filename), content=_not_nested(b"".join(parts))))
    except (zipfile.BadZipFile, zlib.error, EOFError, OSError, ValueError) as error:
        raise LogReadError(f"this .zip file is broken or cut off: {error}") from None
    except (RuntimeError, NotImplementedError) as error:  # encrypted, or packed in a way that is not supported
        raise LogReadError(f"this .zip file cannot be opened: {error}") from None
    if not found:
        raise LogReadError("this .zip file is empty")
    return tuple(found)


def plain_name(name: str) -> str:
    """A file's own name without its folders, as one line that can be shown.

    >>> plain_name("logs\\\\a\\nb\\x07.csv")
    'a b .csv'
    """
    last = name.replace("\\", "/").rstrip("/").rsplit("/", 1)[-1]
    return "".join(sign if sign.isprintable() else " " for sign in last)[:200].strip() or "unnamed"


def _check_size(total: int, packed: int) -> None:
    if total > MOST_BYTES or (total > 64 * _PIECE and total > _MOST_RATIO * packed):
        raise LogReadError(
            f"this archive unpacks to more than {total / 1e6:.0f} MB from {packed / 1e6:.2f} MB; it is not read any further"
        )


def _not_nested(content: bytes) -> bytes:
    if is_archive(content[:4]):
        raise LogReadError("an archive inside an archive: unpack it once and attach the files inside")
    return content


def _is_clutter(name: str) -> bool:
    last = name.replace("\\", "/").rsplit("/", 1)[-1]
    return last.startswith(".") or name.startswith("__MACOSX")
