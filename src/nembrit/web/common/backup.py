"""The whole workshop as one file: a proper online copy, checked, made while the workshop is in use."""

import contextlib
import shutil
import sqlite3
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from django.conf import settings
from django.db.migrations.loader import MigrationLoader
from django.dispatch import Signal

from nembrit.core.errors import CoreError, InputError
from nembrit.core.progress import Progress, no_progress
from nembrit.web.common.database import FULL, is_disk_full, workshop_file
from nembrit.web.common.jobs import job_handler

copy_made = Signal()  # sent with `path` and `progress` for a copy not yet checked: what lies beside the database goes into it
_PAGES_AT_ONCE = 2048  # 8 MB: others may write in between
_NAME = "nembrit-%Y%m%d-%H%M%S"


class BackupError(CoreError):
    """A copy that cannot be made or must not be restored."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Backup:
    """One copy in the backups folder."""

    path: Path
    size_bytes: int
    made_at: datetime

    @property
    def name(self) -> str:
        return self.path.name


def folder() -> Path:
    """Where copies lie, beside the workshop's own file."""
    path = Path(settings.DATA_FOLDER) / "backups"
    path.mkdir(exist_ok=True)
    return path


def backups() -> list[Backup]:
    """Copies that were made, newest first."""
    paths = sorted(folder().glob("*.sqlite3"), key=lambda path: path.stat().st_mtime, reverse=True)
    return [
        Backup(path=path, size_bytes=path.stat().st_size, made_at=datetime.fromtimestamp(path.stat().st_mtime, UTC))
        for path in paths
    ]


def backup_named(name: str) -> Backup:
    """One of them. Raises InputError for a name that is none of them."""
    found = next((backup for backup in backups() if backup.name == name), None)
    if found is None:
        raise InputError(f"there is no backup “{name[:80]}”")
    return found


def make_backup(target: Path | None = None, *, progress: Progress = no_progress, label: str = "") -> Path:
    """Copy the workshop while it is in use, and check the copy. Raises BackupError; nothing half-made is left."""
    target = target or _free_name(label)
    if target.exists():
        raise BackupError(f"{target} is there already; choose another name")
    partial = target.with_name(target.name + ".partial")
    try:
        remove_database(partial)
        copy_database(workshop_file(), partial, lambda share: progress("copying", 0.8 * share))
        copy_made.send(sender=None, path=partial, progress=progress)
        with contextlib.closing(sqlite3.connect(partial)) as copy:
            copy.execute("PRAGMA journal_mode=DELETE")  # one file, whoever opens it
        progress("checking the copy", 0.9)
        check_copy(partial)
        partial.rename(target)
    except (OSError, sqlite3.Error) as error:
        raise BackupError(FULL if is_disk_full(error) else f"the copy could not be made: {error}") from None
    finally:
        remove_database(partial)
    return target


def remove_database(path: Path) -> None:
    """A database file with its journals, if it is there."""
    for ending in ("", "-journal", "-wal", "-shm"):
        with contextlib.suppress(OSError):
            path.with_name(path.name + ending).unlink(missing_ok=True)


def clean_up() -> None:
    """At a start: what interrupted copies and restores left behind."""
    for path in folder().iterdir():
        if path.is_dir():  # a file that was being sent
            shutil.rmtree(path, ignore_errors=True)
        elif path.suffix != ".sqlite3":
            path.unlink(missing_ok=True)


def _free_name(label: str) -> Path:
    """A name for a copy by the present time; several in one second are numbered."""
    stem = datetime.now(UTC).strftime(_NAME)
    names = (folder() / f"{stem}{number}{label}.sqlite3" for number in ("", *(f"-{n}" for n in range(2, 1000))))
    return next(path for path in names if not path.exists())


@job_handler("backup", owner_only=True)
def backup_job(subject_id: int, progress: Progress) -> None:
    make_backup(progress=progress)


def copy_database(source: Path, target: Path, report: Callable[[float], None], *, is_at_rest: bool = False) -> None:
    """SQLite's own online copy, in steps, so that a reader never sees half of it.

    `is_at_rest`: nobody writes to the source, so that nothing need be laid beside it.
    """
    how = "mode=ro&immutable=1" if is_at_rest else "mode=ro"
    with (
        contextlib.closing(sqlite3.connect(f"file:{source.as_posix()}?{how}", uri=True, timeout=30)) as there,
        contextlib.closing(sqlite3.connect(target, timeout=30)) as here,
    ):
        # one view of the source for the whole copy: without it every write in between begins the copy anew
        there.execute("BEGIN")
        there.execute("SELECT name FROM sqlite_master").fetchone()
        there.backup(here, pages=_PAGES_AT_ONCE, progress=lambda status, left, total: report(1 - left / max(1, total)))


def check_copy(path: Path) -> None:
    """Raise BackupError for a file that is no whole workshop of this or an earlier version."""
    with path.open("rb") as file:
        if file.read(16) != b"SQLite format 3\0":
            raise BackupError(f"{path.name} is no backup of a workshop: it is not a database")
    try:
        with contextlib.closing(sqlite3.connect(f"file:{path.as_posix()}?mode=ro&immutable=1", uri=True)) as database:
            verdict = database.execute("PRAGMA quick_check").fetchone()[0]
            if verdict != "ok":
                raise BackupError(f"{path.name} is damaged ({str(verdict)[:80]}); nothing was changed")
            database.execute("SELECT COUNT(*) FROM hangar_craft").fetchone()
    except sqlite3.Error as error:
        raise BackupError(f"{path.name} is no whole backup of a workshop: {error}") from None
    check_version(path)


def check_version(path: Path) -> None:
    """Raise BackupError for a database that a newer Nembrit made, or that is none."""
    try:
        with contextlib.closing(sqlite3.connect(f"file:{path.as_posix()}?mode=ro", uri=True)) as database:
            tables = {name for (name,) in database.execute("SELECT name FROM sqlite_master")}
            applied = set()
            if "django_migrations" in tables:
                applied = set(database.execute("SELECT app, name FROM django_migrations").fetchall())
    except sqlite3.Error as error:
        raise BackupError(f"{path.name} is damaged, or no workshop ({error})") from None
    known = set(MigrationLoader(None, ignore_no_migrations=True).disk_migrations)
    newer = sorted(f"{app}.{name}" for app, name in applied if (app, name) not in known)
    if newer:
        raise BackupError(f"{path.name} was made by a newer Nembrit ({newer[0]}); update Nembrit first")
