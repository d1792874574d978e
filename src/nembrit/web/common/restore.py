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
        _take_out_what_acts(staged)
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
            _require_same_layout(here)
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
    """Empty every table and take the staged one's rows: no word of a copy's own layout is run. Counters of rows only rise."""
    counters = _counters(database, "main")
    for name, columns in _layout(database, "main").items():
        listed = ", ".join(f'"{column}"' for column in sorted(columns))
        database.execute(f'DELETE FROM main."{name}"')
        database.execute(f'INSERT INTO main."{name}" ({listed}) SELECT {listed} FROM staged."{name}"')
    for name, number in _counters(database, "staged").items():
        counters[name] = max(number, counters.get(name, 0))
    database.execute("DELETE FROM main.sqlite_sequence")
    database.executemany("INSERT INTO main.sqlite_sequence (name, seq) VALUES (?, ?)", counters.items())
    database.execute(f"PRAGMA main.user_version = {next_generation()}")


def _require_same_layout(database: sqlite3.Connection) -> None:
    """Raise BackupError for a copy whose tables are not those that this version has."""
    staged = _layout(database, "staged")
    for name, columns in _layout(database, "main").items():
        if name not in staged:
            raise BackupError(f"this copy lacks the table {name}: it is damaged or altered. Nothing was restored")
        if differing := columns ^ staged[name]:
            raise BackupError(
                f"this copy’s table {name} differs in the column {min(differing)}: it is damaged or altered. Nothing was restored"
            )


def _layout(database: sqlite3.Connection, schema: str) -> dict[str, set[str]]:
    """Columns by table."""
    tables = database.execute(f"SELECT name FROM {schema}.sqlite_master WHERE type = 'table' AND {_NOT_SQLITES}").fetchall()
    return {name: {row[1] for row in database.execute(f'PRAGMA {schema}.table_info("{name}")')} for (name,) in tables}


def _take_out_what_acts(staged: Path) -> None:
    """Triggers and views have no place in a workshop; a trigger would act on the very rows that are taken."""
    with contextlib.closing(sqlite3.connect(staged)) as copy, copy:
        found = copy.execute("SELECT type, name FROM sqlite_master WHERE type IN ('trigger', 'view')").fetchall()
        for kind, name in found:
            quoted = name.replace('"', '""')
            copy.execute(f'DROP {kind.upper()} "{quoted}"')


def _counters(database: sqlite3.Connection, schema: str) -> dict[str, int]:
    return dict(database.execute(f"SELECT name, seq FROM {schema}.sqlite_sequence").fetchall())
