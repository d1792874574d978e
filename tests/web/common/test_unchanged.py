"""What pages read is remembered until anybody writes, and never across that."""

import contextlib
import os
import shutil
import sqlite3
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from django.db import connection, transaction

from nembrit.web.common.database import workshop_file
from nembrit.web.common.unchanged import while_unchanged
from nembrit.web.hangar.models import Craft

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def craft() -> Iterator[Craft]:
    made = Craft.objects.create(name="Pebble", kind="multirotor")
    yield made
    Craft.objects.all().delete()


class Counted:
    """A question with how often it was really asked."""

    def __init__(self) -> None:
        self.n_asked = 0

        @while_unchanged
        def name_of(one: Craft, *, ending: str = "") -> str:
            self.n_asked += 1
            return Craft.objects.get(pk=one.pk).name + ending

        self.ask: Callable[..., str] = name_of


@pytest.fixture
def counted() -> Counted:
    return Counted()


def by_this_connection(craft: Craft) -> None:
    Craft.objects.filter(pk=craft.pk).update(name="Gravel")


def by_another(craft: Craft) -> None:
    with contextlib.closing(sqlite3.connect(workshop_file())) as database, database:
        database.execute("UPDATE hangar_craft SET name = 'Gravel' WHERE id = ?", (craft.pk,))


def by_another_file(craft: Craft) -> None:
    """As a restore does: a file made elsewhere takes the place."""
    connection.close()
    own = workshop_file()
    other = own.with_name("restored.sqlite3")
    with contextlib.closing(sqlite3.connect(own)) as database:
        database.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    shutil.copy(own, other)
    with contextlib.closing(sqlite3.connect(other)) as database, database:
        database.execute("UPDATE hangar_craft SET name = 'Gravel' WHERE id = ?", (craft.pk,))
    for ending in ("-wal", "-shm"):
        Path(f"{own}{ending}").unlink(missing_ok=True)
    os.replace(other, own)


@pytest.mark.parametrize("written", [by_this_connection, by_another, by_another_file])
def test_it_is_remembered_until_anybody_writes(craft: Craft, counted: Counted, written: Callable[[Craft], None]) -> None:
    assert [counted.ask(craft) for _ in range(3)] == ["Pebble"] * 3
    assert counted.n_asked == 1
    written(craft)
    assert [counted.ask(craft) for _ in range(3)] == ["Gravel"] * 3
    assert counted.n_asked == 2


def test_each_row_and_each_word_has_its_own_answer(craft: Craft, counted: Counted) -> None:
    other = Craft.objects.create(name="Gravel", kind="multirotor")
    asked = [(craft, ""), (other, ""), (craft, "!"), (craft, "")]
    assert [counted.ask(one, ending=ending) for one, ending in asked] == ["Pebble", "Gravel", "Pebble!", "Pebble"]
    assert counted.n_asked == 3


def test_what_is_taken_back_was_never_remembered(craft: Craft, counted: Counted) -> None:
    """Inside a transaction its own changes are seen by nobody else, and may never be."""
    with contextlib.suppress(ZeroDivisionError), transaction.atomic():
        by_this_connection(craft)
        assert [counted.ask(craft), counted.ask(craft)] == ["Gravel", "Gravel"]
        assert counted.n_asked == 2
        raise ZeroDivisionError
    assert counted.ask(craft) == "Pebble"


def test_what_was_read_while_somebody_wrote_is_not_kept(craft: Craft) -> None:
    seen = []

    @while_unchanged
    def slow(one: Craft) -> str:
        seen.append(Craft.objects.get(pk=one.pk).name)
        if len(seen) == 1:
            by_another(one)
        return seen[-1]

    assert [slow(craft), slow(craft), slow(craft)] == ["Pebble", "Gravel", "Gravel"]
    assert seen == ["Pebble", "Gravel"]
