"""Checked zip files of JSON and Parquet: what an archive of a craft or a workshop is made of."""

import contextlib
import hashlib
import json
import re
import zipfile
import zlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import IO, Any

from nembrit.core.errors import InputError

SCHEMA = "nembrit.archive/1"
MANIFEST = "manifest.json"
MOST_MEMBERS = 100_000
MOST_BYTES = 64 * 1024**3
_MOST_JSON = 64 * 1024**2
_MOST_RATIO, _FREE_BYTES = 200, 4 * 1024**2  # rows of ours pack to a thirtieth at best; what unpacks to far more was made to
_NAME = re.compile(r"[a-z0-9_]+(/[a-z0-9_-]+)*\.(json|parquet|bin)")
_STAMP = (2026, 1, 1, 0, 0, 0)  # always the same, so that equal contents are equal files
_PIECE = 1024 * 1024


def write_bundle(file: IO[bytes], members: Iterable[tuple[str, bytes]], *, told: dict[str, Any]) -> None:
    """Write members one after the other and then the manifest with their digests (SHA-256); equal contents give equal files.

    `told` stands in the manifest as it is. Raises InputError for a name that an archive does not have.
    """
    listed = {}
    with zipfile.ZipFile(file, "w") as archive:
        for name, content in members:
            if not _NAME.fullmatch(name) or name == MANIFEST:
                raise InputError(f"“{name}” is not a valid member name")
            listed[name] = {"sha256": hashlib.sha256(content).hexdigest(), "bytes": len(content)}
            _put(archive, name, content)
        manifest = {"schema": SCHEMA, **told, "members": listed}
        _put(archive, MANIFEST, as_json(manifest))


def _put(archive: zipfile.ZipFile, name: str, content: bytes) -> None:
    info = zipfile.ZipInfo(name, date_time=_STAMP)
    info.compress_type = zipfile.ZIP_DEFLATED if name.endswith(".json") else zipfile.ZIP_STORED
    info.external_attr = 0o644 << 16
    archive.writestr(info, content)


def as_json(value: Any) -> bytes:
    """The one way in which JSON is written here."""
    return json.dumps(value, ensure_ascii=False, sort_keys=True, separators=(",", ":"), allow_nan=False).encode()


@dataclass(frozen=True, slots=True, kw_only=True)
class Bundle:
    """An archive whose members are all there and unaltered."""

    archive: zipfile.ZipFile
    manifest: dict[str, Any]

    def names(self) -> list[str]:
        return list(self.manifest["members"])

    def read(self, name: str) -> bytes:
        """Raises InputError for a member that is not there."""
        if name not in self.manifest["members"]:
            raise InputError(f"the archive lacks {name}")
        return self.archive.read(name)

    def read_json(self, name: str) -> Any:
        return _json(self.read(name), name)


def open_bundle(file: IO[bytes]) -> Bundle:
    """Check an archive as a whole before anything of it is used.

    Raises InputError, each with what happened, for a file that is no archive, is cut off, was made by a newer version, names
    paths, holds members twice or others than it lists, or whose contents are not those that were written.
    """
    with _readable():
        archive = zipfile.ZipFile(file)
        infos = archive.infolist()
        _check_names(infos)
        if MANIFEST not in archive.namelist():
            raise InputError("this zip is not a Nembrit archive: it has no manifest")
        if archive.getinfo(MANIFEST).file_size > _MOST_JSON:
            raise InputError("this archive’s list of members is too large")
        manifest = _json(archive.read(MANIFEST), MANIFEST)
        _check_schema(manifest)
        members = manifest["members"]
        there = {info.filename: info for info in infos if info.filename != MANIFEST}
        if missing := sorted(set(members) - set(there)):
            raise InputError(f"this archive is not whole: {missing[0]} is missing")
        if foreign := sorted(set(there) - set(members)):
            raise InputError(f"this archive was altered: {foreign[0]} is not part of it")
        for name, info in there.items():
            _check_member(archive, info, members[name])
    return Bundle(archive=archive, manifest=manifest)


@contextlib.contextmanager
def _readable() -> Iterator[None]:
    try:
        yield
    except (zipfile.BadZipFile, EOFError, zlib.error, OSError) as error:
        raise InputError(f"this zip file is cut off or damaged ({error})") from None
    except (NotImplementedError, RuntimeError) as error:  # packed or locked in a way that no archive of ours is
        raise InputError(f"this zip is not a Nembrit archive: {error}") from None


def _check_names(infos: list[zipfile.ZipInfo]) -> None:
    if len(infos) > MOST_MEMBERS or sum(info.file_size for info in infos) > MOST_BYTES or any(map(_is_bomb, infos)):
        raise InputError("rejected: this archive would unpack to far more than an archive holds")
    names = [info.filename for info in infos]
    bad = next((name for name in names if not _NAME.fullmatch(name)), None)
    if bad is not None:
        raise InputError(f"this zip names a path or a file that no archive has: “{bad[:60]}”. Nothing was unpacked")
    if len(set(names)) != len(names):
        raise InputError("this archive was altered: it holds a member twice")


def _is_bomb(info: zipfile.ZipInfo) -> bool:
    return info.file_size > _FREE_BYTES + _MOST_RATIO * info.compress_size


def _check_schema(manifest: Any) -> None:
    schema = manifest.get("schema") if isinstance(manifest, dict) else None
    if not isinstance(schema, str) or not re.fullmatch(r"nembrit\.archive/\d{1,4}", schema):
        raise InputError("this zip is not a Nembrit archive: its manifest is another kind of file")
    if int(schema.rpartition("/")[2]) > int(SCHEMA.rpartition("/")[2]):
        raise InputError("this archive was made by a newer Nembrit: update this one, then try again")
    members = manifest.get("members")
    if not isinstance(members, dict) or not all(
        isinstance(one, dict) and isinstance(one.get("sha256"), str) and isinstance(one.get("bytes"), int)
        for one in members.values()
    ):
        raise InputError("this archive was altered: its list of members cannot be read")


def _check_member(archive: zipfile.ZipFile, info: zipfile.ZipInfo, told: dict[str, Any]) -> None:
    altered = InputError(f"this archive was altered or damaged: {info.filename} is not what was written")
    if info.file_size != told["bytes"] or (info.filename.endswith(".json") and info.file_size > _MOST_JSON):
        raise altered
    digest = hashlib.sha256()
    with archive.open(info) as member:
        while piece := member.read(_PIECE):
            digest.update(piece)
    if digest.hexdigest() != told["sha256"]:
        raise altered


def _json(content: bytes, name: str) -> Any:
    try:
        return json.loads(content)
    except (ValueError, RecursionError):
        raise InputError(f"this archive was altered: {name} is no JSON") from None
