"""Long work: handlers by kind, progress that the page can poll, cancelling between chunks.

A handler takes the subject's id and a progress callback. It must be idempotent: it deletes what an
interrupted earlier run of its own left behind. A row of `Job` and its place in the queue are written
in one transaction, and the queue is laid anew at every start of the worker, so that neither a kill
nor a full disk can leave a job that nobody does.
"""

import logging
import time
from collections.abc import Callable

from django.db import transaction
from django.db.utils import OperationalError
from django.dispatch import Signal
from django.utils import timezone
from django_tasks import task
from django_tasks_db.models import DBTaskResult

from nembrit.core.errors import CoreError
from nembrit.core.progress import Progress
from nembrit.web.common.database import FULL, WorkshopReplaced, is_busy, is_disk_full, one_workshop
from nembrit.web.common.models import Job

Handler = Callable[[int, Progress], None]
worker_started = Signal()
_handlers: dict[str, Handler] = {}
_owners: set[str] = set()
_MOST_ATTEMPTS = 2
_MOST_WAITS = 30
_UPDATE_EVERY_S = 0.25
_BETWEEN_TRIES_S = 1.0


class Cancelled(Exception):
    """The tuner asked to stop this job."""


def job_handler(kind: str, *, owner_only: bool = False) -> Callable[[Handler], Handler]:
    """Register the function that does all jobs of one kind; `owner_only`: phones may not begin, cancel or repeat it."""

    def register(handler: Handler) -> Handler:
        _handlers[kind] = handler
        if owner_only:
            _owners.add(kind)
        return handler

    return register


def is_owners(kind: str) -> bool:
    """Whether only the computer itself may begin, cancel or repeat such a job."""
    return kind in _owners


@transaction.atomic
def start_job(kind: str, subject_id: int, *, label: str) -> Job:
    """Queue a job, or return the one about the same subject that is still under way."""
    under_way = Job.objects.about(kind, subject_id).unfinished().first()
    if under_way:
        return under_way
    job = Job.objects.create(kind=kind, subject_id=subject_id, label=label[:200])
    run_job.enqueue(job.pk)
    job.refresh_from_db()
    return job


def cancel_job(job: Job) -> None:
    """Ask a job to stop at its next chunk; one that has not begun is stopped at once."""
    Job.objects.filter(pk=job.pk, state=Job.State.WAITING).update(state=Job.State.CANCELLED, ended_at=timezone.now())
    Job.objects.filter(pk=job.pk, state=Job.State.RUNNING).update(is_cancel_wanted=True)


def latest_jobs(kinds: tuple[str, ...], subject_ids: list[int]) -> list[Job]:
    """The newest job about each subject that is under way or did not come to a good end, for the page where the tuner looks."""
    newest: dict[int, Job] = {}
    for job in Job.objects.filter(kind__in=kinds, subject_id__in=subject_ids).order_by("pk"):
        newest[job.subject_id] = job
    return [job for job in newest.values() if job.state != Job.State.DONE]


def retry_job(job: Job) -> Job:
    """Start the same work again."""
    return start_job(job.kind, job.subject_id, label=job.label)


@task()
def run_job(job_id: int) -> None:
    """Do one job; every end is written to its row, unless a restore has put another workshop in its place."""
    try:
        with one_workshop():
            if _claim(job_id):
                _do(Job.objects.get(pk=job_id))
    except WorkshopReplaced:
        logging.getLogger(__name__).warning("job %s ended: a backup was restored meanwhile", job_id)


def _claim(job_id: int) -> bool:
    with transaction.atomic():
        job = Job.objects.filter(pk=job_id, state=Job.State.WAITING).first()
        if job is None:
            return False
        job.state, job.attempts = Job.State.RUNNING, job.attempts + 1
        job.save(update_fields=("state", "attempts"))
    return True


def _do(job: Job) -> None:
    for wait in range(_MOST_WAITS):
        try:
            _handlers[job.kind](job.subject_id, _reporter(job.pk))
        except WorkshopReplaced:
            raise
        except Cancelled:
            _end(job, Job.State.CANCELLED)
        except CoreError as error:
            _end(job, Job.State.FAILED, error=str(error))
        except Exception as error:
            if is_busy(error) and wait + 1 < _MOST_WAITS:  # a handler may be begun again at any time
                time.sleep(_BETWEEN_TRIES_S)
                continue
            logging.getLogger(__name__).exception("job %s (%s) failed", job.pk, job.kind)
            _end(job, Job.State.FAILED, error=_sentence(error))
        else:
            _end(job, Job.State.DONE)
        return


def _sentence(error: Exception) -> str:
    if is_disk_full(error):
        return f"{FULL}."
    return "An error in Nembrit. Your data is unchanged. Try again."


def _end(job: Job, state: str, *, error: str = "") -> None:
    """Write how a job ended; while another process holds the write lock it is tried again."""
    while True:
        try:
            Job.objects.filter(pk=job.pk).update(
                state=state, error=error, share_ratio=1.0 if state == Job.State.DONE else job.share_ratio, ended_at=timezone.now()
            )
            return
        except OperationalError as failed:
            if not is_busy(failed):
                raise
            time.sleep(_BETWEEN_TRIES_S)


def _reporter(job_id: int) -> Progress:
    last_s = 0.0

    def report(stage: str, share_ratio: float) -> None:
        nonlocal last_s
        if time.monotonic() - last_s < _UPDATE_EVERY_S:
            return
        last_s = time.monotonic()
        try:
            Job.objects.filter(pk=job_id).update(stage=stage[:120], share_ratio=share_ratio)
        except OperationalError as error:
            if not is_busy(error):
                raise  # else the page shows the stage before for a while longer
        if Job.objects.filter(pk=job_id, is_cancel_wanted=True).exists():
            raise Cancelled

    return report


@transaction.atomic
def recover_interrupted() -> None:
    """Lay the queue anew: whatever waits is queued, what was under way is begun once more, then given up cleanly."""
    DBTaskResult.objects.all().delete()
    for job in Job.objects.unfinished().order_by("pk"):
        if job.state == Job.State.RUNNING and job.attempts >= _MOST_ATTEMPTS:
            _end(job, Job.State.FAILED, error="Interrupted twice; the file is still here. Try again.")
            continue
        if job.state == Job.State.RUNNING:
            Job.objects.filter(pk=job.pk).update(state=Job.State.WAITING, stage="starting again after an interruption")
        run_job.enqueue(job.pk)
