"""The queue of tests: a job runs as soon as the transaction that wrote its row is through."""

from typing import Any

from django.db import connection, transaction
from django_tasks.backends.immediate import ImmediateBackend


class AfterCommit(ImmediateBackend):
    def enqueue(self, task: Any, args: Any, kwargs: Any) -> Any:
        run = super().enqueue
        # a test's own transaction never commits: below it, the one that `start_job` opened is the outermost
        is_alone = len(connection.savepoint_ids) <= 1 and connection.in_atomic_block and _in_test_transaction()
        if is_alone or not connection.in_atomic_block:
            return run(task, args, kwargs)
        transaction.on_commit(lambda: run(task, args, kwargs))
        return None


def _in_test_transaction() -> bool:
    return bool(connection.atomic_blocks and getattr(connection.atomic_blocks[0], "_from_testcase", False))
