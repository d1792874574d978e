"""Large files wait beside the workshop until they were read; nothing of them is lost on the way."""

import contextlib
import io
import os
import sqlite3
import time
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace

import pytest
from django.core.files.uploadedfile import TemporaryUploadedFile

from nembrit.core.errors import LogReadError
from nembrit.web.common import backup
from nembrit.web.common.jobs import worker_started
from nembrit.web.common.models import Job
from nembrit.web.intake import arrivals
from nembrit.web.intake.services import receive_file, remove_refused
from nembrit.web.logs.models import Log, Upload
from tests.flying import log_file


@pytest.fixture
def folder(tmp_path: Path, settings: SimpleNamespace) -> Path:
    settings.FILE_UPLOAD_TEMP_DIR = tmp_path
    return tmp_path


@pytest.fixture
def send(craft, folder: Path, monkeypatch: pytest.MonkeyPatch, django_capture_on_commit_callbacks) -> Callable[..., tuple]:
    """Send a file as a browser's large upload comes; with its jobs done, or not yet."""

    def do(content: bytes, *, works: bool = True) -> tuple:
        if not works:
            monkeypatch.setattr("nembrit.web.common.jobs.run_job", SimpleNamespace(enqueue=lambda job_id: None))
        sent = TemporaryUploadedFile("flight.csv", "text/csv", len(content), None)
        sent.write(content)
        sent.seek(0)
        with django_capture_on_commit_callbacks(execute=works):
            (received,) = receive_file(craft, "flight.csv", sent.file, flight_fields={})
        sent.close()
        return received, Log.objects.first()

    return do


def _waiting(folder: Path) -> list[str]:
    return [path.name for path in folder.glob("*.log")]


def test_a_large_file_waits_is_read_and_is_packed_away(send, folder: Path) -> None:
    content = log_file(5, 1.0)
    _, log = send(content, works=False)
    assert log.state == Log.State.WAITING
    assert _waiting(folder) == [log.upload.waiting_name]
    arrivals.pack_upload(log.pk, lambda stage, share: None)
    log.upload.refresh_from_db()
    assert log.upload.waiting_name == ""
    assert not _waiting(folder)
    assert arrivals.open_kept(log.upload).read() == content


def test_the_job_after_the_reading_packs_it(send, folder: Path) -> None:
    content = log_file(5, 1.0)
    _, log = send(content)
    log.refresh_from_db()
    assert log.state == Log.State.READY
    assert Job.objects.get(kind="pack_upload").state == Job.State.DONE
    assert not _waiting(folder)
    again, _ = send(content)
    assert again.known_flight == log.segments.get().flight
    assert not _waiting(folder), "a file that exists already leaves nothing behind"


@pytest.mark.parametrize("laid", [True, False])
def test_a_file_has_the_same_digest_however_it_came(folder: Path, laid: bool) -> None:
    content = bytes(range(256)) * 40_000  # 10 MB: three pieces
    stream: io.BufferedRandom | io.BytesIO = io.BytesIO(content)
    if laid:
        stream = (folder / "sent").open("w+b")
        stream.write(content)
        stream.seek(0)
    with stream:
        found = arrivals.arrive(stream.read(65_536), stream)
    whole = arrivals.arrive(b"", io.BytesIO(content))
    assert (found.digest, found.size_bytes) == (whole.digest, len(content))
    assert bool(found.waiting_name) is laid
    found.forget()
    assert not _waiting(folder)


def test_a_disk_without_links_packs_at_once(send, folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse(*names: object) -> None:
        raise OSError("no links here")

    monkeypatch.setattr(os, "link", refuse)
    _, log = send(log_file(5, 1.0))
    assert log.upload.content
    assert log.upload.waiting_name == ""


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize("meanwhile", [None, "packed", "gone"])
def test_a_backup_holds_files_that_wait(send, folder: Path, tmp_path: Path, monkeypatch, meanwhile: str | None) -> None:
    content = log_file(5, 1.0)
    _, log = send(content, works=False)
    copy_database = backup.copy_database

    def copy(source: Path, target: Path, report) -> None:
        copy_database(source, target, report)
        if meanwhile == "packed":  # a job packs it away after the copy was made
            arrivals.pack_upload(log.pk, lambda stage, share: None)
        elif meanwhile == "gone":
            (folder / log.upload.waiting_name).unlink()

    monkeypatch.setattr(backup, "copy_database", copy)
    made = backup.make_backup(tmp_path / "copy.sqlite3")
    with contextlib.closing(sqlite3.connect(made)) as copied:
        packed, waiting_name = copied.execute("SELECT content, waiting_name FROM logs_upload").fetchone()
    if meanwhile == "gone":
        assert (packed, waiting_name) == (b"", log.upload.waiting_name)
        return
    assert waiting_name == ""
    assert arrivals.open_kept(Upload(content=packed)).read() == content
    assert bool(_waiting(folder)) is (meanwhile is None), "the workshop's own file waits on"


def test_a_file_that_is_gone_is_asked_for_again(send, folder: Path) -> None:
    _, log = send(log_file(5, 1.0), works=False)
    (folder / log.upload.waiting_name).unlink()
    with pytest.raises(LogReadError, match="the file is no longer in the"):
        arrivals.open_kept(log.upload)
    assert arrivals.kept_bytes(log.upload) == 0


def test_a_start_goes_on_where_the_last_was_cut_off(send, folder: Path) -> None:
    _, log = send(log_file(5, 1.0), works=False)
    Log.objects.update(state=Log.State.READY)
    Job.objects.all().delete()
    stray, fresh = folder / "stray.log", folder / "fresh.upload"
    for path in (stray, fresh):
        path.touch()
    os.utime(stray, (time.time() - 2 * 86_400,) * 2)
    worker_started.send(sender=None)
    assert [job.subject_id for job in Job.objects.filter(kind="pack_upload")] == [log.pk]
    assert not stray.exists()
    assert fresh.exists(), "an upload under way is left alone"
    assert (folder / log.upload.waiting_name).exists()


@pytest.mark.parametrize("remove", [arrivals.remove_upload, remove_refused])
def test_a_row_takes_its_file_along(send, folder: Path, remove) -> None:
    _, log = send(log_file(5, 1.0), works=False)
    Log.objects.update(state=Log.State.REFUSED)
    log.refresh_from_db()
    remove(log)
    assert not _waiting(folder)


def test_too_large_a_file_leaves_nothing(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(arrivals, "MOST_BYTES", 1000)
    with (folder / "sent").open("w+b") as stream:
        stream.write(b"1" * 2000)
        stream.seek(0)
        with pytest.raises(LogReadError, match="split the file"):
            arrivals.arrive(stream.read(10), stream)
    assert not _waiting(folder)
