"""What pages read stays in memory until anything is written to the workshop, by whomever.

A workshop is read far more often than written. One connection of its own watches the file: SQLite tells it by a number whether
any other connection, of this process or another, has committed since.
"""

import functools
import sqlite3
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Sequence
from typing import Any, ParamSpec, TypeVar

from django.db import connection
from django.db.models import Model

from nembrit.web.common.database import workshop_file

P = ParamSpec("P")
Answer = TypeVar("Answer")
_MOST = 256


class _Watcher:
    """Tells whether the file is still as it was: another number after every commit, and after another file took its place."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._file: tuple[int, int] | None = None
        self._opened: sqlite3.Connection | None = None

    def state(self) -> tuple[int, ...] | None:
        """None where it cannot be told."""
        with self._lock:
            try:
                found = workshop_file().stat()
                if self._opened is None or self._file != (found.st_dev, found.st_ino):
                    self._reopen()
                    self._file = found.st_dev, found.st_ino
                assert self._opened is not None
                return found.st_dev, found.st_ino, int(self._opened.execute("PRAGMA data_version").fetchone()[0])
            except (OSError, sqlite3.Error):
                return None

    def _reopen(self) -> None:
        if self._opened is not None:
            self._opened.close()
        self._opened = sqlite3.connect(f"{workshop_file().as_uri()}?mode=ro", uri=True, check_same_thread=False, timeout=1)


_watcher = _Watcher()
_kept: "OrderedDict[Hashable, Any]" = OrderedDict()
_kept_of: tuple[int, ...] | None = None  # the state of the file that everything kept belongs to
_lock = threading.Lock()


def while_unchanged(compute: Callable[P, Answer]) -> Callable[P, Answer]:
    """Remember what a function answers from the database alone (no clock, no request) until anything is written.

    Its arguments are saved rows, words and numbers. What it answers is shared by all requests: to be read only. Inside a
    transaction nothing is remembered, since what that wrote is seen by nobody else yet.
    """

    @functools.wraps(compute)
    def remembered(*args: P.args, **kwargs: P.kwargs) -> Answer:
        state = None if connection.in_atomic_block else _watcher.state()
        if state is None:
            return compute(*args, **kwargs)
        key = (compute, _key(args), _key(sorted(kwargs.items())))
        with _lock:
            _forget_older(state)
            if key in _kept:
                _kept.move_to_end(key)
                found: Answer = _kept[key]
                return found
        answer = compute(*args, **kwargs)
        with _lock:
            if _kept_of == state:  # else somebody wrote meanwhile: what was read may be of before
                _kept[key] = answer
                while len(_kept) > _MOST:
                    _kept.popitem(last=False)
        return answer

    return remembered


def _forget_older(state: tuple[int, ...]) -> None:
    global _kept_of
    if state != _kept_of:
        _kept.clear()
        _kept_of = state


def _key(given: Any) -> Hashable:
    if isinstance(given, Model):
        return type(given), given.pk
    if isinstance(given, Sequence) and not isinstance(given, (str, bytes)):
        return tuple(_key(one) for one in given)
    hash(given)
    return given  # type: ignore[no-any-return]  # it can be hashed
