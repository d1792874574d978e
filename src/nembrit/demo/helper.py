"""Analyses the demo's flights beside the process that flies them: two processors build it in nearly half the time.

One after the other in the order flown, since an analysis knows the flights before it.
"""

import os
import threading
import time

from nembrit.web.processes import Beside

_LOOK_EVERY_S, _PATIENCE_S = 0.1, 90.0


def beside() -> Beside:
    """The helper as a process; it ends with this one."""
    return Beside("nembrit.demo.helper")


def settle() -> None:
    """Wait until every flight is analysed; what a helper that was lost left undone is done here. Raises RuntimeError for a
    job that failed.
    """
    from nembrit.web.bench.results import JOB
    from nembrit.web.common.jobs import run_job
    from nembrit.web.common.models import Job

    seen, since = -1, time.monotonic()
    while (left := Job.objects.filter(kind=JOB).unfinished().count()) > 0:
        if left != seen:
            seen, since = left, time.monotonic()
        if time.monotonic() - since > _PATIENCE_S:
            Job.objects.filter(kind=JOB, state=Job.State.RUNNING).update(state=Job.State.WAITING)
            for job in Job.objects.filter(kind=JOB).unfinished().order_by("pk"):
                run_job.call(job.pk)
        time.sleep(_LOOK_EVERY_S)
    failed = Job.objects.filter(state=Job.State.FAILED).first()
    if failed is not None:
        raise RuntimeError(f"the demo could not be built: {failed.label}: {failed.error}")


def main() -> None:
    """Do the waiting analyses until standard input ends."""
    import django

    threading.Thread(target=_end_with_parent, daemon=True).start()
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "nembrit.web.settings")
    django.setup()
    from nembrit.web.bench.results import JOB
    from nembrit.web.common.jobs import run_job
    from nembrit.web.common.models import Job

    while True:
        job = Job.objects.filter(kind=JOB, state=Job.State.WAITING).order_by("pk").first()
        if job is None:
            time.sleep(_LOOK_EVERY_S)
        else:
            run_job.call(job.pk)


def _end_with_parent() -> None:
    os.read(0, 1)
    os._exit(0)


if __name__ == "__main__":
    main()
