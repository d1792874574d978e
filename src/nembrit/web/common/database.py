"""The workshop's one file: how it is laid out, which workshop it is now, and what its errors mean."""

import contextlib
import errno
import secrets
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextvars import ContextVar
from pathlib import Path
from typing import Any

from django.db import connection, transaction
from django.db.utils import DatabaseError, OperationalError

from nembrit.core.errors import CoreError

_expected: ContextVar[int | None] = ContextVar("expected generation", default=None)
_WRITES = ("INSERT", "UPDATE", "DELETE", "REPLACE")
_GONE = ("unable to open", "no such table", "readonly database", "disk I/O error", "malformed", "not a database")
_HOW_ON = "Stop Nembrit, put the folder back or restore a copy (run.py restore FILE), then start it again"
BUSY = "The workshop is locked by something else, such as a restore. Nothing was saved: try again in a moment"
FULL = "The disk is full. Everything saved before is safe; nothing new was saved. Free some space, then try again"


class WorkshopReplaced(CoreError):
    """A backup took the workshop's place while something was under way; nothing of it may be written."""

    def __init__(self) -> None:
        super().__init__("a backup was restored meanwhile; nothing was saved. Load the page again")


def workshop_file() -> Path:
    return Path(str(connection.settings_dict["NAME"]))


def lay_out(path: Path) -> None:
    """Make the file as every connection expects it. These two need the write lock, so no connection sets them later."""
    with contextlib.closing(sqlite3.connect(path, timeout=30)) as database:
        if not database.execute("SELECT COUNT(*) FROM sqlite_master").fetchone()[0]:
            database.execute("PRAGMA auto_vacuum=INCREMENTAL")  # must come before the first table
        database.execute("PRAGMA journal_mode=WAL")


_opened = threading.local()


def drop_stale_connection() -> None:
    """Close this thread's connection if its file was deleted or replaced by another of the same name."""
    try:
        found = workshop_file().stat()
        file = found.st_dev, found.st_ino  # no other file can have this number while the connection holds it open
    except OSError:
        file = None
    if connection.connection is not None and getattr(_opened, "file", file) != file and not connection.in_atomic_block:
        connection.close()
    _opened.file = file


@contextlib.contextmanager
def snapshot() -> Iterator[None]:
    """Within, reads see one state of the workshop, and others write meanwhile: no lock is held, and nothing may be written."""
    own: Any = connection  # SQLite's has a mode that the stubs do not know
    usual, own.transaction_mode = own.transaction_mode, "DEFERRED"
    try:
        with transaction.atomic():
            yield
    finally:
        own.transaction_mode = usual


def generation() -> int:
    """A number that a restore changes: numbers kept in memory and running jobs belong to one generation."""
    with connection.cursor() as cursor:
        cursor.execute("PRAGMA user_version")
        return int(cursor.fetchone()[0])


def next_generation() -> int:
    """One that no workshop had before, as far as chance allows."""
    return secrets.randbelow(2**31 - 1) + 1


@contextlib.contextmanager
def one_workshop() -> Iterator[None]:
    """Within, every write belongs to the workshop of the beginning. Raises WorkshopReplaced at the first that would not."""
    expected = _expected.set(generation())

    def guarded(execute: Callable[..., Any], sql: str, params: Any, many: bool, context: dict[str, Any]) -> Any:
        if not sql.lstrip()[:7].upper().startswith(_WRITES):
            return execute(sql, params, many, context)
        if not connection.in_atomic_block and " RETURNING " not in sql:
            # looked up while the write lock is held: no restore can come between the look and the write
            with transaction.atomic():
                return guarded(execute, sql, params, many, context)
        if generation() != _expected.get():  # rows that are returned are read after this, so such a write cannot be wrapped here
            raise WorkshopReplaced
        return execute(sql, params, many, context)

    try:
        with connection.execute_wrapper(guarded):
            yield
    finally:
        _expected.reset(expected)


def go_on_with_the_restored() -> None:
    """Whoever restored a workshop goes on with it."""
    if _expected.get() is not None:
        _expected.set(generation())


def sentence_of(error: BaseException | None) -> tuple[int, str] | None:
    """HTTP status and sentence for a fault of the file or its disk; None for any other error."""
    if error is None:
        return None
    if isinstance(error, WorkshopReplaced):
        return 409, f"{str(error)[:1].upper()}{str(error)[1:]}."
    if isinstance(error, Exception) and is_busy(error):
        return 503, f"{BUSY}."
    if is_disk_full(error):
        return 507, f"{FULL}."
    if isinstance(error, FileNotFoundError) and str(workshop_file().parent) in str(error.filename or ""):
        return 503, f"The workshop’s folder {workshop_file().parent} is gone. {_HOW_ON}."
    if isinstance(error, (DatabaseError, sqlite3.Error)) and any(words in str(error) for words in _GONE):
        return 503, f"The workshop’s file {workshop_file()} is gone, damaged or may not be written to. {_HOW_ON}."
    return None


def is_busy(error: Exception) -> bool:
    """True for a database error that passes by itself: another process holds the write lock."""
    return isinstance(error, (OperationalError, sqlite3.OperationalError)) and "locked" in str(error)


def is_disk_full(error: BaseException) -> bool:
    """True where the disk has no room, whoever says so."""
    if isinstance(error, OSError):
        return error.errno in (errno.ENOSPC, errno.EDQUOT)
    return isinstance(error, (OperationalError, sqlite3.OperationalError)) and "full" in str(error)
