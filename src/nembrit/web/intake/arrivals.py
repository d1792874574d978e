"""Files as they came: a large one stays where the server laid it and is packed away after it was read.

So a tuner waits for the reading alone. The file is in its row's care from the first commit: the row
names it, it is flushed to the disk before, and every copy of the workshop packs it first.
"""

import hashlib
import io
import os
import sqlite3
import time
from collections import deque
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from contextlib import closing, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO
from uuid import uuid4

import zstandard
from django.conf import settings
from django.db import connection, transaction
from django.db.models.signals import post_delete
from django.dispatch import receiver

from nembrit.core.errors import LogReadError
from nembrit.core.formats.archive import MOST_BYTES
from nembrit.core.progress import Progress, no_progress
from nembrit.web.common.backup import copy_made
from nembrit.web.common.jobs import job_handler, start_job, worker_started
from nembrit.web.logs.models import Log, Upload

_PIECE_BYTES = 4 * 1024 * 1024  # never to be changed: digests of files rest on it
_FORGOTTEN_S = 86_400  # an upload under way is younger


@dataclass(frozen=True, slots=True, kw_only=True)
class Arrived:
    """A file that was taken in: packed here, or waiting under a name in the folder of arrivals."""

    digest: str
    size_bytes: int
    content: bytes = b""
    waiting_name: str = ""

    def keep(self, log: Log) -> None:
        """Make it the log's own."""
        Upload.objects.update_or_create(log=log, defaults={"content": self.content, "waiting_name": self.waiting_name})

    def forget(self) -> None:
        """Give up a file that no row took into its care."""
        _remove(self.waiting_name)


def arrive(head: bytes, rest: BinaryIO) -> Arrived:
    """Take a file whose first bytes, fewer than 4 MiB, were read already. Raises LogReadError for one that is too large."""
    laid = _laid_down(rest)
    try:
        with ThreadPoolExecutor(max_workers=3) as pool:  # hashing, flushing and packing leave the interpreter free
            flushed = pool.submit(os.fsync, rest.fileno()) if laid else None
            digest, size, content = _digested(head, rest, pool, packs=not laid)
            if flushed:
                flushed.result()
    except (LogReadError, OSError):
        _remove(laid)
        raise
    return Arrived(digest=digest, size_bytes=size, content=content, waiting_name=laid)


def _laid_down(stream: BinaryIO) -> str:
    """Give a file that the server laid in the folder of arrivals a name of its own; "" where it is elsewhere."""
    path = getattr(stream, "name", None)
    if not isinstance(path, str) or Path(path).parent != Path(settings.FILE_UPLOAD_TEMP_DIR):
        return ""
    name = f"{uuid4().hex}.log"
    try:
        stream.flush()
        os.link(path, _path(name))
    except OSError:  # a disk without links: it is packed at once then
        return ""
    return name


def _digested(head: bytes, rest: BinaryIO, pool: Executor, *, packs: bool) -> tuple[str, int, bytes]:
    """Digest of a file, its size, and its content compressed if it `packs`."""
    engine = zstandard.ZstdCompressor(level=1, threads=2).compressobj()
    digests: deque[Future[bytes]] = deque()
    whole, parts, size, piece = hashlib.blake2b(digest_size=32), [], 0, head + rest.read(_PIECE_BYTES - len(head))
    while piece:
        size += len(piece)
        if size > MOST_BYTES:
            raise LogReadError(f"more than {MOST_BYTES / 1e6:.0f} MB; split the file first")
        digests.append(pool.submit(_digest, piece))
        if packs:
            parts.append(engine.compress(piece))
        if len(digests) > 2:
            whole.update(digests.popleft().result())
        piece = rest.read(_PIECE_BYTES)
    for digest in digests:
        whole.update(digest.result())
    return whole.hexdigest(), size, b"".join((*parts, engine.flush())) if packs else b""


def _digest(piece: bytes) -> bytes:
    return hashlib.blake2b(piece, digest_size=32).digest()


def open_kept(upload: Upload) -> BinaryIO:
    """The file of a row, to read once. Raises LogReadError where it is gone."""
    if not upload.waiting_name:
        packed, upload.content = io.BytesIO(upload.content), b""  # one copy is enough
        stream: BinaryIO = zstandard.ZstdDecompressor().stream_reader(packed)
        return stream
    try:
        return _path(upload.waiting_name).open("rb")
    except OSError:
        raise LogReadError("the file is no longer in the data folder; attach it again") from None


def packed_bytes(upload: Upload) -> bytes:
    """The file of a row as rows keep it, also while it waits to be packed. Raises LogReadError where it is gone."""
    if not upload.waiting_name:
        return bytes(upload.content)
    with closing(open_kept(upload)) as file:
        return _packed(file, f"packing {upload.log.file_name}", upload.log.size_bytes, no_progress)


def kept_bytes(upload: Upload) -> int:
    """What the kept file takes on the disk [bytes]."""
    if not upload.waiting_name:
        return len(upload.content)
    with suppress(OSError):
        return _path(upload.waiting_name).stat().st_size
    return 0


@job_handler("pack_upload")
def pack_upload(log_id: int, progress: Progress) -> None:
    """Move a waiting file into its row, compressed."""
    upload = Upload.objects.select_related("log").filter(log=log_id).exclude(waiting_name="").first()
    if upload is None:
        return
    with closing(open_kept(upload)) as file:
        content = _packed(file, f"packing {upload.log.file_name} away", upload.log.size_bytes, progress)
    with transaction.atomic():
        Upload.objects.filter(pk=upload.pk).update(content=content, waiting_name="")
    _remove(upload.waiting_name)


def _packed(file: BinaryIO, stage: str, size_bytes: int, progress: Progress) -> bytes:
    engine, parts, done = zstandard.ZstdCompressor(level=1, threads=2).compressobj(), [], 0
    while piece := file.read(_PIECE_BYTES):
        parts.append(engine.compress(piece))
        done += len(piece)
        progress(stage, min(1.0, done / max(1, size_bytes)))
    parts.append(engine.flush())
    return b"".join(parts)


def pack_soon(log: Log) -> None:
    """Queue the packing of a log's file, if it waits."""
    if Upload.objects.filter(log=log).exclude(waiting_name="").exists():
        start_job("pack_upload", log.pk, label=f"Packing {log.file_name} away")


def remove_upload(log: Log) -> int:
    """Throw away the kept copy of the file, at the tuner's wish; samples stay. Returns the bytes given back."""
    upload = Upload.objects.filter(log=log).first()
    if upload is None:
        return 0
    size = kept_bytes(upload)
    upload.delete()
    if not connection.in_atomic_block:  # a script commits what is open
        with connection.cursor() as cursor:
            cursor.connection.executescript("PRAGMA incremental_vacuum;")
    return size


@receiver(copy_made)
def _pack_into(path: Path, progress: Progress = no_progress, **named: Any) -> None:
    """A copy of the workshop holds everything: files that wait are packed into the copy, not into the workshop."""
    with closing(sqlite3.connect(path)) as copy, copy:
        if "waiting_name" not in {row[1] for row in copy.execute("PRAGMA table_info(logs_upload)")}:
            return  # of a version that packed every file at once
        waiting = copy.execute(
            "SELECT u.id, u.waiting_name, l.file_name, l.size_bytes FROM logs_upload u JOIN logs_log l ON l.id = u.log_id"
            " WHERE u.waiting_name != ''"
        ).fetchall()
        for row_id, name, file_name, size_bytes in waiting:
            try:
                with _path(name).open("rb") as file:
                    content = _packed(file, f"packing {file_name} into the copy", size_bytes, progress)
            except OSError:  # packed into its row since the copy began, or gone: then its log says so
                content = bytes(Upload.objects.filter(pk=row_id).values_list("content", flat=True).first() or b"")
            if content:
                copy.execute("UPDATE logs_upload SET content = ?, waiting_name = '' WHERE id = ?", (content, row_id))


@receiver(worker_started)
def _go_on(**named: Any) -> None:
    """After an interruption: pack what was read, and remove files that no row names."""
    waiting = Upload.objects.exclude(waiting_name="").select_related("log")
    for upload in waiting.exclude(log__state=Log.State.WAITING):
        pack_soon(upload.log)
    forget_strays(older_than_s=_FORGOTTEN_S)


def forget_strays(*, older_than_s: float = 0.0) -> None:
    """Remove files of the folder of arrivals that no row names; before pages are served, none is on its way."""
    named_files = set(Upload.objects.exclude(waiting_name="").values_list("waiting_name", flat=True))
    for path in Path(settings.FILE_UPLOAD_TEMP_DIR).iterdir():
        with suppress(OSError):
            if path.name not in named_files and time.time() - path.stat().st_mtime >= older_than_s:
                path.unlink()


@receiver(post_delete, sender=Upload)
def _remove_with_row(instance: Upload, **named: Any) -> None:
    _remove(instance.waiting_name)


def _path(name: str) -> Path:
    return Path(settings.FILE_UPLOAD_TEMP_DIR) / name


def _remove(name: str) -> None:
    with suppress(OSError):  # open elsewhere or gone: the next start looks again
        if name:
            _path(name).unlink()
