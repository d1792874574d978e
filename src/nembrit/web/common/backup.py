"""The whole workshop as one file: a proper online copy, checked; and back again, with the present state kept."""

import contextlib
import sqlite3
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from django.conf import settings
from django.core.management import call_command
from django.db import connection
from django.db.migrations.loader import MigrationLoader
from django.dispatch import Signal
from django_tasks_db.models import DBTaskResult

from nembrit.core.errors import CoreError, InputError
from nembrit.core.formats.progress import Progress, no_progress
from nembrit.web.common.jobs import job_handler, recover_interrupted
from nembrit.web.common.models import Job

copy_wanted = Signal()  # sent with `progress` before a copy is made: what lies beside the database goes in
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


def workshop_file() -> Path:
    return Path(str(connection.settings_dict["NAME"]))


def make_backup(target: Path | None = None, *, progress: Progress = no_progress, label: str = "") -> Path:
    """Copy the workshop while it is in use, and check the copy. Raises BackupError; nothing half-made is left."""
    target = target or _free_name(label)
    if target.exists():
        raise BackupError(f"{target} is there already; choose another name")
    copy_wanted.send(sender=None, progress=progress)
    partial = target.with_name(target.name + ".partial")
    try:
        partial.unlink(missing_ok=True)
        _copy(workshop_file(), partial, lambda share: progress("copying", 0.9 * share))
        progress("checking the copy", 0.9)
        _check(partial)
        partial.rename(target)
    except (OSError, sqlite3.Error) as error:
        raise BackupError(f"the copy could not be made: {error}") from None
    finally:
        with contextlib.suppress(OSError):
            partial.unlink(missing_ok=True)
    return target


def _free_name(label: str) -> Path:
    """A name for a copy by the present time; several in one second are numbered."""
    stem = datetime.now(UTC).strftime(_NAME)
    names = (folder() / f"{stem}{number}{label}.sqlite3" for number in ("", *(f"-{n}" for n in range(2, 1000))))
    return next(path for path in names if not path.exists())


@job_handler("backup")
def backup_job(subject_id: int, progress: Progress) -> None:
    make_backup(progress=progress)


def restore_backup(source: Path, *, progress: Progress = no_progress) -> Path:
    """Put a copy in the place of the present workshop; the present one is copied first.

    The copy is checked before anything is touched: that it is whole, that it is a workshop, and that
    this version of Nembrit can read it. Returns where the state before went. Raises BackupError.
    """
    progress("checking the backup", 0.0)
    try:
        _check(source)
        kept = make_backup(
            label="-before-restore", progress=lambda stage, share: progress(f"keeping the present: {stage}", 0.4 * share)
        )
        connection.close()
        _copy(source, workshop_file(), lambda share: progress("restoring", 0.4 + 0.5 * share))
    except (OSError, sqlite3.Error) as error:
        raise BackupError(f"nothing was restored: {error}") from None
    call_command("migrate", verbosity=0, interactive=False)
    DBTaskResult.objects.all().delete()  # queue entries of then; our own job rows start the work again
    Job.objects.unfinished().filter(kind="backup").delete()  # the one that made this very copy
    recover_interrupted(also_waiting=True)
    progress("done", 1.0)
    return kept


def _copy(source: Path, target: Path, report: Callable[[float], None]) -> None:
    """SQLite's own online copy, in steps, so that a reader never sees half of it."""
    with (
        contextlib.closing(sqlite3.connect(f"file:{source.as_posix()}?mode=ro", uri=True, timeout=30)) as there,
        contextlib.closing(sqlite3.connect(target, timeout=30)) as here,
    ):
        # one view of the source for the whole copy: without it every write in between begins the copy anew
        there.execute("BEGIN")
        there.execute("SELECT name FROM sqlite_master").fetchone()
        there.backup(here, pages=_PAGES_AT_ONCE, progress=lambda status, left, total: report(1 - left / max(1, total)))


def _check(path: Path) -> None:
    """Raise BackupError for a file that is no whole workshop of this or an earlier version."""
    with path.open("rb") as file:
        if file.read(16) != b"SQLite format 3\0":
            raise BackupError(f"{path.name} is no backup of a workshop: it is not a database")
    try:
        with contextlib.closing(sqlite3.connect(f"file:{path.as_posix()}?mode=ro&immutable=1", uri=True)) as database:
            verdict = database.execute("PRAGMA quick_check").fetchone()[0]
            if verdict != "ok":
                raise BackupError(f"{path.name} is damaged ({str(verdict)[:80]}); nothing was changed")
            applied = set(database.execute("SELECT app, name FROM django_migrations").fetchall())
            database.execute("SELECT COUNT(*) FROM hangar_craft").fetchone()
    except sqlite3.Error as error:
        raise BackupError(f"{path.name} is no whole backup of a workshop: {error}") from None
    known = set(MigrationLoader(None, ignore_no_migrations=True).disk_migrations)
    newer = sorted(f"{app}.{name}" for app, name in applied if (app, name) not in known)
    if newer:
        raise BackupError(f"{path.name} was made by a newer Nembrit ({newer[0]}); update Nembrit first")
