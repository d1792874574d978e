"""The worker process: does jobs until its standard input ends."""

import os
import threading
from typing import Any

from django.db import DatabaseError
from django_tasks_db.management.commands.db_worker import Command as DatabaseWorker

from nembrit.web.common.database import generation
from nembrit.web.common.jobs import recover_interrupted, worker_started


class Command(DatabaseWorker):
    help = "Do queued jobs until the parent process is gone"

    def handle(self, **options: Any) -> None:
        threading.Thread(target=_end_with_parent, daemon=True).start()
        recover_interrupted()
        worker_started.send(sender=Command)
        begun = generation()
        try:
            super().handle(**{**options, "interval": 0.3, "startup_delay": False, "reload": False, "verbosity": 0})
        except DatabaseError:
            if generation() == begun:
                raise
            # a restore took the queue's rows away: the next worker begins with the restored ones


def _end_with_parent() -> None:
    os.read(0, 1)
    os._exit(0)
