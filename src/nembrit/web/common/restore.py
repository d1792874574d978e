"""A copy put in the place of the present workshop, in one step for everybody, with the present state kept.

From the moment the present state is copied until the restored one stands, the workshop's own write
lock is held: whatever was acknowledged before lies in the kept copy, whatever comes after waits or is
told that nothing was saved. Readers see the old workshop until the new one stands whole. The restored
workshop is of another generation (`database.one_workshop` holds running jobs off), and no row's number
comes round again.
"""

import contextlib
import sqlite3
from pathlib import Path

from django.core.management import call_command
from django.db import connection, connections
from django.db.migrations.loader import MigrationLoader

from nembrit.core.progress import Progress, no_progress
from nembrit.web.common.backup import BackupError, check_copy, copy_database, folder, make_backup, remove_database
from nembrit.web.common.database import FULL, go_on_with_the_restored, is_disk_full, lay_out, next_generation, workshop_file
from nembrit.web.common.jobs import recover_interrupted

_LONGEST_WAIT_S = 60
_STAGED = "staged"
_NOT_SQLITES = "name NOT LIKE 'sqlite\\_%' ESCAPE '\\'"


def restore_backup(source: Path, *, progress: Progress = no_progress) -> Path:
    """Put a copy in the place of the present workshop; the present one is copied first.

    The copy is checked before anything is touched: that it is whole, that it is a workshop, and that
    this version of Nembrit can read it. Returns where the state before went. Raises BackupError.
    """
    progress("checking the backup", 0.0)
    staged = folder() / "restoring.staged"
    try:
        check_copy(source)
        remove_database(staged)
        copy_database(source, staged, lambda share: progress("laying the backup ready", 0.3 * share), is_at_rest=True)
        _bring_up_to_date(staged)
        kept = _swap(staged, progress)
    except (OSError, sqlite3.Error) as error:
        raise BackupError(FULL if is_disk_full(error) else f"nothing was restored: {error}") from None
    finally:
        remove_database(staged)
    (workshop_file().parent / "demo-unfinished").unlink(missing_ok=True)  # whatever it was, it is a whole workshop now
    go_on_with_the_restored()
    recover_interrupted()
    progress("done", 1.0)
    return kept


def _bring_up_to_date(staged: Path) -> None:
    """Migrate a staged copy of an earlier version, and take out what belonged to the moment it was made."""
    with contextlib.closing(sqlite3.connect(staged)) as copy, copy:
        applied = set(copy.execute("SELECT app, name FROM django_migrations").fetchall())
    if set(MigrationLoader(None, ignore_no_migrations=True).disk_migrations) - applied:
        connections.databases[_STAGED] = {**connections.databases["default"], "NAME": staged}
        try:
            call_command("migrate", verbosity=0, interactive=False, database=_STAGED)
        finally:
            connections[_STAGED].close()
            del connections[_STAGED], connections.databases[_STAGED]
    with contextlib.closing(sqlite3.connect(staged)) as copy, copy:
        copy.execute("DELETE FROM common_job WHERE kind = 'backup' AND state IN ('waiting', 'running')")  # made this very copy
        copy.execute("DELETE FROM common_phone")  # who was sent away since does not come back with an old state


def _swap(staged: Path, progress: Progress) -> Path:
    """Replace every table within one transaction. Returns the copy of the state before."""
    live = workshop_file()
    if not connection.in_atomic_block:
        connection.close()
    with contextlib.closing(sqlite3.connect(live, timeout=_LONGEST_WAIT_S, isolation_level=None)) as here:
        here.execute("PRAGMA foreign_keys=OFF")
        here.execute("ATTACH ? AS staged", (str(staged),))
        here.execute("BEGIN IMMEDIATE")  # from here on nobody else writes
        try:
            kept = make_backup(
                label="-before-restore",
                progress=lambda stage, share: progress(f"keeping the present: {stage}", 0.3 + 0.3 * share),
            )
            progress("restoring", 0.6)
            _replace_tables(here)
            here.execute("COMMIT")
        except BaseException:
            here.execute("ROLLBACK")
            raise
        here.execute("DETACH staged")
        here.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        here.executescript("PRAGMA incremental_vacuum;")
    lay_out(live)
    return kept


def _replace_tables(database: sqlite3.Connection) -> None:
    """Drop everything of the main database and take the staged one's; counters of rows' numbers only rise."""
    counters = _counters(database, "main")
    own = f"SELECT name FROM main.sqlite_master WHERE type = 'table' AND {_NOT_SQLITES}"
    for (name,) in database.execute(own).fetchall():
        database.execute(f'DROP TABLE main."{name}"')
    made = database.execute(
        f"SELECT type, name, sql FROM staged.sqlite_master WHERE sql IS NOT NULL AND {_NOT_SQLITES} ORDER BY type = 'table' DESC"
    ).fetchall()
    for kind, name, sql in made:
        database.execute(sql)
        if kind == "table":
            database.execute(f'INSERT INTO main."{name}" SELECT * FROM staged."{name}"')
    for name, number in _counters(database, "staged").items():
        counters[name] = max(number, counters.get(name, 0))
    database.execute("DELETE FROM main.sqlite_sequence")
    database.executemany("INSERT INTO main.sqlite_sequence (name, seq) VALUES (?, ?)", counters.items())
    database.execute(f"PRAGMA main.user_version = {next_generation()}")


def _counters(database: sqlite3.Connection, schema: str) -> dict[str, int]:
    return dict(database.execute(f"SELECT name, seq FROM {schema}.sqlite_sequence").fetchall())
