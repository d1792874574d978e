"""Copies of a log are known by how the craft shook; other flights of the same script are not."""

from collections.abc import Callable
from functools import lru_cache

import numpy as np
import pytest

from nembrit.core.records.log import Recording
from nembrit.core.setup.cards import CARDS
from nembrit.core.simulate.airframe import World
from nembrit.core.simulate.flight import fly
from nembrit.core.trials.likeness import SAME, likeness, mark_of
from tests.flying import HEX, controller


@lru_cache
def flown(seed: int) -> Recording:
    card = next(one for one in CARDS if one.key == "response")
    return Recording.of(fly(HEX, controller(), card, World(seed=seed)).channels, sample_rate_hz=2000.0)


def made(change: Callable[[np.ndarray], np.ndarray], rate_hz: float = 2000.0) -> Recording:
    return Recording.of({role: change(values) for role, values in flown(1).channels.items()}, sample_rate_hz=rate_hz)


@pytest.mark.parametrize(
    "copy",
    [
        lambda: flown(1).span(0.5, flown(1).duration_s),
        lambda: flown(1).span(5.0, 20.0),
        lambda: made(lambda values: values[::7], 2000 / 7),
        lambda: made(np.round),
        lambda: made(lambda values: 1.3 * values),
    ],
    ids=["without its first half second", "a part", "another rate", "whole numbers", "another scale"],
)
def test_a_copy_is_known_again(copy: Callable[[], Recording]) -> None:
    assert likeness(mark_of(flown(1)), mark_of(copy())) > SAME


def test_another_flight_of_the_same_script_is_no_copy() -> None:
    assert likeness(mark_of(flown(1)), mark_of(flown(2))) < 0.7


@pytest.mark.parametrize(
    "cut", [lambda: flown(1).span(1.0, 3.0), lambda: made(lambda values: values[::100], 20.0), lambda: made(np.zeros_like)]
)
def test_what_cannot_tell_has_no_mark(cut: Callable[[], Recording]) -> None:
    assert mark_of(cut()) == ()
    assert likeness((), mark_of(flown(1))) == 0.0
