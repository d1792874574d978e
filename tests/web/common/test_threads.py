"""Threads that answer requests: reading ones in turn, and nobody held up for long by those before."""

import asyncio
import threading
import time

import pytest
from django.db import connection
from django.http import HttpRequest, HttpResponse
from django.test import RequestFactory

from nembrit.web.common import database, threads

ASK = RequestFactory()


async def together(make, requests: list[HttpRequest]) -> list[float]:
    """How long each of them took until it was answered."""
    began = time.monotonic()

    async def one(request: HttpRequest) -> float:
        await threads.answered(make, request)
        return time.monotonic() - began

    return list(await asyncio.gather(*map(one, requests)))


@pytest.mark.parametrize(("method", "most"), [("get", 2), ("head", 2), ("post", 8)])
def test_reading_requests_take_turns_and_writing_ones_do_not(method: str, most: int) -> None:
    under_way, seen, lock = [0], [], threading.Lock()

    def make(request: HttpRequest) -> HttpResponse:
        with lock:
            under_way[0] += 1
            seen.append(under_way[0])
        time.sleep(0.05)
        with lock:
            under_way[0] -= 1
        return HttpResponse()

    asyncio.run(together(make, [getattr(ASK, method)("/") for _ in range(8)]))
    assert max(seen) <= most
    assert (max(seen) > 2) == (most > 2)


def test_those_who_wait_for_something_else_hold_nobody_up(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(threads, "_LONGEST_WAIT_S", 0.1)
    done = threading.Event()

    def make(request: HttpRequest) -> HttpResponse:
        if request.path == "/stuck/":
            done.wait(20)
        else:
            done.set()  # only a page that gets through ends the waiting
        return HttpResponse()

    took = asyncio.run(together(make, [ASK.get("/stuck/"), ASK.get("/stuck/"), ASK.get("/")]))
    assert max(took) < 10
    assert took[2] >= 0.1


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize("replaced", [False, True])
def test_a_connection_is_kept_while_its_file_is_the_one_of_that_name(
    monkeypatch: pytest.MonkeyPatch, tmp_path, replaced: bool
) -> None:
    file = tmp_path / "workshop.sqlite3"
    file.touch()
    monkeypatch.setattr(database, "workshop_file", lambda: file)
    connection.close()
    database.drop_stale_connection()
    connection.ensure_connection()
    before = connection.connection
    if replaced:
        (tmp_path / "other").touch()
        (tmp_path / "other").replace(file)
    database.drop_stale_connection()
    assert (connection.connection is before) != replaced
