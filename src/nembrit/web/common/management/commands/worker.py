"""The worker process: does jobs until its standard input ends."""

import os
import threading
from typing import Any

from django_tasks_db.management.commands.db_worker import Command as DatabaseWorker
from django_tasks_db.models import DBTaskResult

from nembrit.web.common.jobs import recover_interrupted, worker_started


class Command(DatabaseWorker):
    help = "Do queued jobs until the parent process is gone"

    def handle(self, **options: Any) -> None:
        threading.Thread(target=_end_with_parent, daemon=True).start()
        # rows that the task library left running belong to a worker that is gone; ours are requeued instead
        DBTaskResult.objects.running().delete()
        recover_interrupted()
        worker_started.send(sender=Command)
        super().handle(**{**options, "interval": 0.3, "startup_delay": False, "reload": False, "verbosity": 0})


def _end_with_parent() -> None:
    os.read(0, 1)
    os._exit(0)
