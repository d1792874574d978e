"""Long work: handlers by kind, progress that the page can poll, cancelling between chunks.

A handler takes the subject's id and a progress callback. It must be idempotent: it deletes what an
interrupted earlier run of its own left behind.
"""

import logging
import time
from collections.abc import Callable

from django.dispatch import Signal
from django.utils import timezone
from django_tasks import task

from nembrit.core.errors import CoreError
from nembrit.core.formats.progress import Progress
from nembrit.web.common.models import Job

Handler = Callable[[int, Progress], None]
worker_started = Signal()
_handlers: dict[str, Handler] = {}
_MOST_ATTEMPTS = 2
_UPDATE_EVERY_S = 0.25


class Cancelled(Exception):
    """The tuner asked to stop this job."""


def job_handler(kind: str) -> Callable[[Handler], Handler]:
    """Register the function that does all jobs of one kind."""

    def register(handler: Handler) -> Handler:
        _handlers[kind] = handler
        return handler

    return register


def start_job(kind: str, subject_id: int, *, label: str) -> Job:
    """Queue a job, or return the one about the same subject that is still under way."""
    under_way = Job.objects.about(kind, subject_id).unfinished().first()
    if under_way:
        return under_way
    job = Job.objects.create(kind=kind, subject_id=subject_id, label=label)
    run_job.enqueue(job.pk)
    job.refresh_from_db()
    return job


def cancel_job(job: Job) -> None:
    """Ask a job to stop at its next chunk; one that has not begun is stopped at once."""
    Job.objects.filter(pk=job.pk, state=Job.State.WAITING).update(state=Job.State.CANCELLED, ended_at=timezone.now())
    Job.objects.filter(pk=job.pk, state=Job.State.RUNNING).update(is_cancel_wanted=True)


def retry_job(job: Job) -> Job:
    """Start the same work again."""
    return start_job(job.kind, job.subject_id, label=job.label)


@task()
def run_job(job_id: int) -> None:
    """Do one job; every end is written to its row."""
    claimed = Job.objects.filter(pk=job_id, state=Job.State.WAITING).update(state=Job.State.RUNNING)
    if not claimed:
        return
    job = Job.objects.get(pk=job_id)
    job.attempts += 1
    job.save(update_fields=("attempts",))
    try:
        _handlers[job.kind](job.subject_id, _reporter(job.pk))
    except Cancelled:
        _end(job, Job.State.CANCELLED)
    except CoreError as error:
        _end(job, Job.State.FAILED, error=str(error))
    except Exception:
        logging.getLogger(__name__).exception("job %s (%s) failed", job.pk, job.kind)
        _end(
            job, Job.State.FAILED, error="Something went wrong in Nembrit itself; what was there before is untouched. Try again."
        )
    else:
        _end(job, Job.State.DONE)


def _end(job: Job, state: str, *, error: str = "") -> None:
    Job.objects.filter(pk=job.pk).update(
        state=state, error=error, share_ratio=1.0 if state == Job.State.DONE else job.share_ratio, ended_at=timezone.now()
    )


def _reporter(job_id: int) -> Progress:
    last_s = 0.0

    def report(stage: str, share_ratio: float) -> None:
        nonlocal last_s
        if time.monotonic() - last_s < _UPDATE_EVERY_S:
            return
        last_s = time.monotonic()
        Job.objects.filter(pk=job_id).update(stage=stage[:120], share_ratio=share_ratio)
        if Job.objects.filter(pk=job_id, is_cancel_wanted=True).exists():
            raise Cancelled

    return report


def recover_interrupted(*, also_waiting: bool = False) -> None:
    """After a kill or power loss: start jobs that were under way once more, then give them up cleanly.

    `also_waiting`: the queue itself was lost, as after a restore; jobs that waited are queued again.
    """
    if also_waiting:
        for job in Job.objects.filter(state=Job.State.WAITING):
            run_job.enqueue(job.pk)
    for job in Job.objects.filter(state=Job.State.RUNNING):
        if job.attempts < _MOST_ATTEMPTS:
            Job.objects.filter(pk=job.pk).update(state=Job.State.WAITING, stage="starting again after an interruption")
            run_job.enqueue(job.pk)
        else:
            _end(job, Job.State.FAILED, error="Interrupted twice; the file is still here. Try again.")
