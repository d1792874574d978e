"""Requests are answered by threads that stay, each with its own open connection to the workshop, a few at a time.

Several pages at once would only share one processor, and all would come late; in turn, most come early.
"""

import asyncio
import contextvars
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from django.core.files.uploadedfile import TemporaryUploadedFile
from django.db import connection
from django.http import HttpRequest
from django.http.response import HttpResponseBase

from nembrit.web.common.lan import is_own_computer

Made = TypeVar("Made", bound=HttpResponseBase)

_AT_ONCE = 2
_LONGEST_WAIT_S = 1.0  # whoever waits longer goes on: those before it wait for a disk or a lock, not for the processor
_turn = threading.Semaphore(_AT_ONCE)
_readers = ThreadPoolExecutor(max_workers=40, thread_name_prefix="page")
_writers = ThreadPoolExecutor(max_workers=40, thread_name_prefix="form")  # may wait for a sender or for the write lock
# guests of the local network have threads of their own: however many they are, the owner's pages do not wait for them
_guest_readers = ThreadPoolExecutor(max_workers=12, thread_name_prefix="guest")
_guest_writers = ThreadPoolExecutor(max_workers=8, thread_name_prefix="guest-form")
_at_the_door = ThreadPoolExecutor(max_workers=1, thread_name_prefix="door")


async def answered(make: Callable[[HttpRequest], Made], request: HttpRequest) -> Made:
    """What `make` answers, made in one of the threads."""
    is_read = request.method in ("GET", "HEAD")
    readers, writers = (_readers, _writers) if is_own_computer(request) else (_guest_readers, _guest_writers)
    context = contextvars.copy_context()
    loop = asyncio.get_running_loop()
    return await loop.run_in_executor(
        readers if is_read else writers, context.run, _in_turn if is_read else _at_once, make, request
    )


async def invited(is_invited: Callable[[str], bool], cookies: str) -> bool:
    """Whether the sender of these cookies was let in; one at a time, since nobody is known yet."""
    return await asyncio.get_running_loop().run_in_executor(_at_the_door, is_invited, cookies)


def _in_turn(make: Callable[[HttpRequest], Made], request: HttpRequest) -> Made:
    has_turn = _turn.acquire(timeout=_LONGEST_WAIT_S)
    try:
        return _at_once(make, request)
    finally:
        if has_turn:
            _turn.release()


def _at_once(make: Callable[[HttpRequest], Made], request: HttpRequest) -> Made:
    try:
        return make(request)
    finally:
        _forget_half_files(request)
        connection.close_if_unusable_or_obsolete()


def _forget_half_files(request: HttpRequest) -> None:
    """Django closes the files that came whole; one whose sender went away would lie there until the garbage is looked through."""
    for handler in getattr(request, "_upload_handlers", ()):
        file = getattr(handler, "file", None)
        if isinstance(file, TemporaryUploadedFile) and not file.closed:
            file.close()
