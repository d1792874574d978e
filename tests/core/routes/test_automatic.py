"""Runs of an automatic tune: spread, middle and what to repeat, by hand."""

import pytest

from nembrit.core.response.estimate import Estimate
from nembrit.core.routes.agreement import agreement
from nembrit.core.routes.automatic import against_margin, axes_to_repeat, spreads

AXES = {"p roll": "roll", "d roll": "roll", "p pitch": "pitch"}
BEFORE = {"p roll": 40.0, "d roll": 30.0, "p pitch": 42.0, "lamp": 3.0}


@pytest.mark.parametrize(
    ("runs", "middles", "repeat"),
    [
        ([{"p roll": 50, "d roll": 30, "p pitch": 60}], {"p roll": 50, "p pitch": 60}, ("roll", "pitch")),
        ([{"p roll": 50, "p pitch": 60}, {"p roll": 54, "p pitch": 90}], {"p roll": 52, "p pitch": 75}, ("pitch",)),
        ([{"p roll": 50}, {"p roll": 80}, {"p roll": 52}], {"p roll": 52}, ("roll",)),
        ([{"p roll": 50, "lamp": 9}, {"p roll": 50}], {"p roll": 50}, ()),
        ([], {}, ()),
    ],
)
def test_spread_and_middle_by_hand(runs: list[dict[str, float]], middles: dict[str, float], repeat: tuple[str, ...]) -> None:
    found = spreads(BEFORE, runs, AXES)
    assert {one.name: one.middle for one in found} == middles
    assert axes_to_repeat(found) == repeat


def test_the_order_of_runs_does_not_matter() -> None:
    runs = [{"p roll": 50.0}, {"p roll": 61.0}, {"p roll": 55.0}]
    assert [one.middle for one in spreads(BEFORE, runs, AXES)] == [one.middle for one in spreads(BEFORE, runs[::-1], AXES)]


@pytest.mark.parametrize(
    ("peak", "told"),
    [
        (None, ""), (Estimate(value=1.3, low=1.2, high=1.4), "confirms a good margin"),
        (Estimate(value=2.4, low=2.1, high=2.7), "a low margin. Lower P and D by about 25 %"),
        (Estimate(value=1.8, low=1.7, high=1.9), "an under-damped loop. Lower P and D by about 11 %"),
        (Estimate(value=1.6, low=1.3, high=1.9), "leaves it open"),
    ],
)  # fmt: skip
def test_margins_bear_the_result_out_or_not(peak: Estimate | None, told: str) -> None:
    assert told in against_margin("roll", peak)


@pytest.mark.parametrize(
    ("sign", "peak", "oscillations", "word", "trust"),
    [
        ("clean", Estimate(value=1.3, low=1.2, high=1.4), [], "confirmed", "both"),
        ("clean", Estimate(value=2.5, low=2.2, high=2.8), [], "contradicted", "log"),
        ("clean", None, [42.0], "contradicted", "log"),
        ("buzz", None, [42.0], "confirmed", "both"),
        ("hot", Estimate(value=1.3, low=1.2, high=1.4), [], "contradicted", "feel"),
        ("clean", Estimate(value=1.7, low=1.3, high=2.3), [], "open", "feel"),
    ],
)
def test_a_log_confirms_or_contradicts_what_was_felt(
    sign: str, peak: Estimate | None, oscillations: list[float], word: str, trust: str
) -> None:
    found = agreement(sign, "roll", peak, oscillations)
    assert (found.word, found.trust) == (word, trust)
    assert agreement(sign, "roll", None, []) is None
