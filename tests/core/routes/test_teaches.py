"""Which flight teaches most, by hand."""

import math

import pytest

from nembrit.core.routes.teaches import Flown, teaches_most


def flown(card: str, width: float, axis: str = "roll") -> Flown:
    return Flown(axis=axis, card=card, half_width=width, usable_s=20.0)


def test_the_card_that_gave_most_is_proposed_against_repeating_the_last() -> None:
    """Two flights, 0.3 and 0.6: joined 0.268; wanted 0.15 needs 44.4 − 13.9 = 30.6, and 1/0.3² gives 11.1: three flights."""
    found = teaches_most([flown("response", 0.3), flown("noise_ramp", 0.6)], "noise_ramp")
    assert found is not None
    assert found.half_width == pytest.approx(0.2683, abs=1e-4)
    assert (found.card, found.n_flights) == ("response", 3)
    assert found.after == pytest.approx(1 / math.sqrt(13.889 + 33.333), abs=1e-4)
    assert found.repeated == pytest.approx(1 / math.sqrt(13.889 + 3 * 2.7778), abs=1e-4)
    assert not found.is_repeat


def test_the_least_certain_axis_decides_and_what_is_sure_asks_for_nothing() -> None:
    found = teaches_most([flown("response", 0.16), flown("response", 0.4, "pitch")], "response")
    assert found is not None
    assert found.axis == "pitch"
    assert found.is_repeat
    assert teaches_most([flown("response", 0.1), flown("response", 0.12, "pitch")], "response") is None
    assert teaches_most([], "response") is None


def test_more_flights_never_promise_less_and_fewer_flown_never_promise_more() -> None:
    one = teaches_most([flown("response", 0.5)], "response")
    two = teaches_most([flown("response", 0.5)] * 2, "response")
    assert one is not None
    assert two is not None
    assert two.half_width < one.half_width
    assert two.n_flights <= one.n_flights


def test_a_copy_of_the_list_in_another_order_changes_nothing() -> None:
    side = [flown("response", 0.3), flown("noise_ramp", 0.6), flown("response", 0.5)]
    assert teaches_most(side, "response") == teaches_most(side[::-1], "response")
