"""Nothing is lost, mixed up or stuck: restores while others work, jobs cut off at every point."""

import contextlib
import shutil
import sqlite3
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from urllib.parse import urlencode

import pytest
from django.contrib.sessions.backends.base import UpdateError
from django.contrib.sessions.backends.db import SessionStore
from django.db import connection
from django.db.utils import OperationalError
from django.test import Client
from django_tasks_db.models import DBTaskResult

from nembrit.web.common import backup, database, jobs, restore
from nembrit.web.common.jobs import job_handler, recover_interrupted, run_job, start_job, worker_started
from nembrit.web.common.models import Job
from nembrit.web.flights.models import Flight
from nembrit.web.hangar.models import Craft
from nembrit.web.hangar.services import create_craft
from nembrit.web.intake.services import receive_file
from nembrit.web.logs import storage
from nembrit.web.logs.models import Channel, Log, Stream
from nembrit.web.tunes.models import Tune
from nembrit.web.tunes.services import tune_of
from tests.flying import log_file
from tests.pageforms import fields_of


def wren(name: str = "Wren") -> Craft:
    return create_craft(layout="quad", name=name, kind="multirotor")


@pytest.fixture
def not_done(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """A queue whose worker is away; the jobs that were put into it."""
    queued: list[int] = []
    monkeypatch.setattr(jobs, "run_job", SimpleNamespace(enqueue=queued.append))
    return queued


@pytest.fixture
def quick(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(jobs, "_BETWEEN_TRIES_S", 0.01)


@contextlib.contextmanager
def elsewhere_locked() -> Iterator[None]:
    """Another process holds the write lock."""
    with contextlib.closing(sqlite3.connect(database.workshop_file(), isolation_level=None)) as other:
        other.execute("BEGIN IMMEDIATE")
        yield
        other.execute("ROLLBACK")


@pytest.fixture
def impatient() -> Iterator[None]:
    connection.cursor().execute("PRAGMA busy_timeout = 30")
    yield
    connection.close()


@pytest.mark.django_db(transaction=True)
class TestRestore:
    def test_a_job_of_before_writes_nothing_into_the_restored_workshop(self, tmp_path: Path, not_done: list[int]) -> None:
        made = wren()
        copy = backup.make_backup(tmp_path / "copy.sqlite3")
        wren("Later")

        @job_handler("straying")
        def stray(subject_id: int, progress: object) -> None:
            elsewhere = threading.Thread(target=restore.restore_backup, args=(copy,))
            elsewhere.start()
            elsewhere.join()
            Craft.objects.filter(pk=subject_id).update(about="written by a job of before")

        job = start_job("straying", made.pk, label="straying")
        run_job.call(job.pk)
        assert [(craft.name, craft.about) for craft in Craft.objects.all()] == [("Wren", "")]
        assert not Job.objects.filter(pk=job.pk).exists()

    def test_no_number_of_a_row_comes_round_again(self, tmp_path: Path) -> None:
        wren()
        copy = backup.make_backup(tmp_path / "copy.sqlite3")
        later = wren("Later").pk
        restore.restore_backup(copy)
        assert wren("Newest").pk > later

    def test_a_job_of_the_restored_workshop_goes_on(self, tmp_path: Path, not_done: list[int]) -> None:
        Job.objects.create(kind="evidence", subject_id=1, label="under way", state="running")
        copy = backup.make_backup(tmp_path / "copy.sqlite3")
        Job.objects.all().delete()
        restore.restore_backup(copy)
        assert not_done == [Job.objects.get(state="waiting").pk]

    def test_what_is_kept_in_memory_is_dropped(self, tmp_path: Path, craft: Craft, client: Client) -> None:
        """Two workshops whose channels have the same numbers and lengths."""
        rewind_numbers()
        copies = []
        for seed in (5, 6):
            receive_file(craft, "flight.csv", log_file(seed, 1.0), flight_fields={})
            run_waiting()
            channel = Channel.objects.select_related("stream").get(stream__log__file_name="flight.csv", role="gyro.roll")
            copies.append((backup.make_backup(tmp_path / f"{seed}.sqlite3"), channel.pk, storage.load_pyramid(channel)))
            Log.objects.all().delete()
            Flight.objects.all().delete()
            rewind_numbers()
        (first, number, curve), (second, same, other) = copies
        assert (number, curve.shape) == (same, other.shape)
        for copied, expected in ((first, curve), (second, other), (first, curve)):
            restore.restore_backup(copied)
            channel = Channel.objects.select_related("stream").get(pk=number)
            assert (storage.cached_pyramid(channel) == expected).all()

    def test_what_was_acknowledged_lies_in_the_kept_copy(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        """Another process goes on writing all through a restore: its writes are kept, or it is told that they are not."""
        wren()
        copy = backup.make_backup(tmp_path / "copy.sqlite3")
        monkeypatch.setattr(backup, "_PAGES_AT_ONCE", 4)
        acknowledged: list[int] = []
        stop = threading.Event()

        def write() -> None:
            begun = _generation(database.workshop_file())
            with contextlib.closing(sqlite3.connect(database.workshop_file(), isolation_level=None, timeout=0.02)) as other:
                number = 0
                while not stop.is_set():
                    number += 1
                    try:
                        other.execute("BEGIN IMMEDIATE")
                        if other.execute("PRAGMA user_version").fetchone()[0] == begun:
                            other.execute("INSERT INTO django_session VALUES (?, '', '2030-01-01')", (f"w{number}",))
                            other.execute("COMMIT")
                            acknowledged.append(number)
                        else:
                            other.execute("ROLLBACK")
                    except sqlite3.OperationalError:
                        continue

        writer = threading.Thread(target=write)
        writer.start()
        time.sleep(0.05)
        kept = restore.restore_backup(copy)
        stop.set()
        writer.join()
        with contextlib.closing(sqlite3.connect(kept)) as copied:
            held = {row[0] for row in copied.execute("SELECT session_key FROM django_session")}
        assert acknowledged
        assert {f"w{number}" for number in acknowledged} <= held

    def test_a_form_of_before_is_refused(self, client: Client, tmp_path: Path) -> None:
        strict = Client(enforce_csrf_checks=True)
        page = strict.get("/craft/new/").content.decode()
        token = fields_of(strict.get("/backup/").content.decode())["csrfmiddlewaretoken"]
        copy = backup.make_backup()
        answer = strict.post(f"/backup/restore/?token={token}", {"name": copy.name, "sure": "1"})
        assert answer.status_code == 302
        old = urlencode(fields_of(page) | {"name": "Old"})
        assert strict.post("/craft/new/", old, content_type="application/x-www-form-urlencoded").status_code == 403
        assert not Craft.objects.exists()

    def test_a_restore_that_fails_leaves_everything_as_it_was(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        wren()
        copy = backup.make_backup(tmp_path / "copy.sqlite3")
        wren("Later")

        def fail(here: object) -> None:
            restore_tables(here)
            raise sqlite3.OperationalError("database or disk is full")

        restore_tables = restore._replace_tables
        monkeypatch.setattr(restore, "_replace_tables", fail)
        with pytest.raises(backup.BackupError, match="The disk is full"):
            restore.restore_backup(copy)
        assert [craft.name for craft in Craft.objects.all()] == ["Wren", "Later"]
        assert not [path for path in backup.folder().iterdir() if path.suffix != ".sqlite3"]


def _generation(path: Path) -> int:
    with contextlib.closing(sqlite3.connect(path)) as other:
        return int(other.execute("PRAGMA user_version").fetchone()[0])


def run_waiting() -> None:
    for job in Job.objects.filter(state="waiting").order_by("pk"):
        run_job.call(job.pk)


def rewind_numbers() -> None:
    """As workshops of their own would count."""
    with connection.cursor() as cursor:
        cursor.execute("DELETE FROM sqlite_sequence")


class TestNothingIsStuck:
    def test_a_log_and_its_job_are_written_together(self, craft: Craft, monkeypatch: pytest.MonkeyPatch) -> None:
        def full(*args: object) -> None:
            raise OperationalError("database or disk is full")

        monkeypatch.setattr(jobs, "run_job", SimpleNamespace(enqueue=full))
        with pytest.raises(OperationalError):
            receive_file(craft, "a.csv", log_file(5, 1.0), flight_fields={})
        assert (Log.objects.count(), Job.objects.count()) == (0, 0)

    def test_a_log_without_a_job_gets_one(self, craft: Craft, not_done: list[int]) -> None:
        (received,) = receive_file(craft, "a.csv", log_file(5, 1.0), flight_fields={})
        Job.objects.all().delete()
        (again,) = receive_file(craft, "a.csv", log_file(5, 1.0), flight_fields={})
        assert again.job is not None, "not only “here already”"
        Job.objects.all().delete()
        worker_started.send(sender=None)
        worker_started.send(sender=None)
        assert [job.subject_id for job in Job.objects.filter(kind="import_log")] == [Log.objects.get().pk]
        assert received.job

    @pytest.mark.parametrize(
        ("state", "attempts", "after"),
        [("waiting", 0, "waiting"), ("running", 0, "waiting"), ("running", 1, "waiting"), ("running", 2, "failed"),
         ("done", 1, "done"), ("failed", 2, "failed"), ("cancelled", 0, "cancelled")],
    )  # fmt: skip
    @pytest.mark.parametrize("is_queued", [True, False])
    def test_a_start_of_the_worker_covers_all_states(
        self, db: None, not_done: list[int], state: str, attempts: int, after: str, is_queued: bool
    ) -> None:
        job = Job.objects.create(kind="evidence", subject_id=1, label="cut off", state=state, attempts=attempts)
        if is_queued:
            DBTaskResult.objects.create(args_kwargs={"args": [job.pk], "kwargs": {}}, task_path="x", status="RUNNING")
        recover_interrupted()
        recover_interrupted()  # cut off inside, and begun again
        job.refresh_from_db()
        assert job.state == after
        assert bool(not_done) is (after == "waiting")
        assert not DBTaskResult.objects.exists()

    @pytest.mark.django_db(transaction=True)
    def test_a_lock_of_another_process_ends_no_job(self, not_done: list[int], quick: None, impatient: None) -> None:
        tries: list[int] = []

        @job_handler("patient")
        def patient(subject_id: int, progress: object) -> None:
            tries.append(subject_id)
            if len(tries) < 3:
                raise OperationalError("database is locked")

        job = start_job("patient", 1, label="patient")
        run_job.call(job.pk)
        job.refresh_from_db()
        assert (len(tries), job.state) == (3, "done")

    @pytest.mark.django_db(transaction=True)
    def test_an_end_is_written_as_soon_as_the_lock_is_gone(self, not_done: list[int], quick: None, impatient: None) -> None:
        release = threading.Event()

        @job_handler("late")
        def late(subject_id: int, progress) -> None:
            threading.Thread(target=hold).start()
            held.wait(5)
            progress("a step that cannot be told", 0.5)
            threading.Timer(0.2, release.set).start()

        held = threading.Event()

        def hold() -> None:
            with elsewhere_locked():
                held.set()
                release.wait(5)

        job = start_job("late", 1, label="late")
        run_job.call(job.pk)
        job.refresh_from_db()
        assert job.state == "done"

    @pytest.mark.django_db(transaction=True)
    @pytest.mark.parametrize("address", ["/", "/inbox/", "/cards/", "/backup/"])
    def test_readers_never_wait_for_a_writer(self, client: Client, address: str) -> None:
        wren()
        client.get(address)  # the owner is made at the first look
        connection.close()
        with elsewhere_locked():
            began = time.monotonic()
            assert client.get(address).status_code == 200
        assert time.monotonic() - began < 5, "a page waited for another process's lock (20 s)"

    @pytest.mark.django_db(transaction=True)
    def test_a_page_comes_while_the_workshop_is_locked_and_its_message_once_more(
        self, client: Client, craft: Craft, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        session = client.session
        session["told"] = {"texts": ["read again"], "jobs": [], "until": time.time() + 60}
        session.save()

        def locked(*args: object, **named: object) -> None:
            raise UpdateError

        with monkeypatch.context() as held:
            held.setattr(SessionStore, "save", locked)
            answer = client.get("/")
            assert (answer.status_code, "read again" in answer.content.decode()) == (200, True)
        assert "read again" in client.get("/").content.decode()

    def test_a_workshop_that_was_replaced_is_named_wherever_it_is_noticed(self) -> None:
        status, sentence = database.sentence_of(database.WorkshopReplaced())
        assert (status, sentence[:21]) == (409, "A backup was restored")

    @pytest.mark.django_db(transaction=True)
    def test_a_log_is_stored_in_short_steps(self, craft: Craft, monkeypatch: pytest.MonkeyPatch) -> None:
        """Between any two of them another process can write."""
        monkeypatch.setattr(storage, "_BYTES_AT_ONCE", 20_000)
        gaps: list[bool] = []
        small_groups = storage._small_groups

        def watched(channels: list[storage._Packed]) -> Iterator[list[storage._Packed]]:
            for group in small_groups(channels):
                sizes = [len(chunk.content) for _, chunks, _ in group for chunk in chunks]
                assert sum(sizes[:-1]) < storage._BYTES_AT_ONCE
                with contextlib.closing(sqlite3.connect(database.workshop_file(), timeout=0)) as other, other:
                    other.execute("BEGIN IMMEDIATE")
                    gaps.append(True)
                assert not Stream.objects.exclude(log=None).exists(), "nobody sees half a log"
                yield group

        monkeypatch.setattr(storage, "_small_groups", watched)
        receive_file(craft, "a.csv", log_file(5, 1.0), flight_fields={})
        run_waiting()
        assert len(gaps) > 20
        assert Log.objects.get().state == "ready"
        assert not Stream.objects.exclude(draft_of=None).exists()

    def test_where_a_log_belongs_is_looked_for_outside_the_transaction(self, client: Client, bring, attach, monkeypatch) -> None:
        attach()
        depths: list[int] = []
        suggest = "nembrit.web.intake.inbox.suggest"

        def look(log: Log) -> dict[str, object]:
            depths.append(len(connection.savepoint_ids))
            return {"reason": "looked"}

        monkeypatch.setattr(suggest, look)
        bring(("b.csv", log_file(6, 1.0)))
        assert Log.objects.get(file_name="b.csv").request["suggestion"] == {"reason": "looked"}
        assert depths == [0]

    @pytest.mark.parametrize("kind", ["simulate", "import_log"])
    def test_what_failed_shows_where_the_tuner_looks(self, client: Client, craft: Craft, not_done, kind: str) -> None:
        request = {"simulation": {"seed": 1}, "flight": {}} if kind == "simulate" else {}
        log = Log.objects.create(craft=craft, file_name="a.csv", request=request)
        Job.objects.create(kind=kind, subject_id=log.pk, label="Bringing a.csv in", state="failed", error="The disk is full.")
        for address in (f"/craft/{craft.pk}/", "/inbox/"):
            page = client.get(address).content.decode()
            assert "The disk is full." in page, address
            assert "/retry/" in page, address

    def test_two_first_looks_make_one_tune(self, craft: Craft) -> None:
        assert tune_of(craft) == tune_of(craft)
        assert Tune.objects.count() == 1


class TestStart:
    def test_leavings_of_an_interrupted_run_are_cleaned(self, settings, tmp_path: Path) -> None:
        settings.DATA_FOLDER = tmp_path
        place = backup.folder()
        for name in ("a.sqlite3", "b.sqlite3.partial", "b.sqlite3.partial-journal", "restoring.staged", "restoring.staged-wal"):
            (place / name).write_text("x")
        (place / "sent").mkdir()
        (place / "sent" / "file").write_text("x")
        backup.clean_up()
        assert [path.name for path in place.iterdir()] == ["a.sqlite3"]
        shutil.rmtree(place)

    def test_no_connection_asks_for_the_write_lock(self, settings) -> None:
        assert "auto_vacuum" not in settings.DATABASES["default"]["OPTIONS"]["init_command"]
        assert "journal_mode" not in settings.DATABASES["default"]["OPTIONS"]["init_command"]

    def test_a_file_is_laid_out_once(self, tmp_path: Path) -> None:
        database.lay_out(tmp_path / "new.sqlite3")
        with contextlib.closing(sqlite3.connect(tmp_path / "new.sqlite3")) as made:
            made.execute("CREATE TABLE one (a)")
            assert (made.execute("PRAGMA auto_vacuum").fetchone()[0], made.execute("PRAGMA journal_mode").fetchone()[0]) == (
                2,
                "wal",
            )
