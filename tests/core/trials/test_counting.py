"""Which flights count, and the one sentence that they allow."""

import math
from dataclasses import replace

import pytest

from nembrit.core.errors import InputError
from nembrit.core.report.codec import from_json, to_json
from nembrit.core.trials.counting import FlownFlight, standings
from nembrit.core.trials.gone import as_before, fault_gone
from nembrit.core.trials.plan import Limit, Plan, Primary
from nembrit.core.trials.trial import TrialVerdict, judge, limit_state

METRIC = "motion_noise.roll"
PLAN = Plan(primary=Primary(metric=METRIC, direction="lower"))
FOUR_LIMITS = tuple(Limit(metric=f"{name}.roll", most=0.1) for name in ("overshoot", "step_delay", "wash_rms", "bounce_back"))


def flight(number: int, is_after: bool, level: float = 1.0, **changes: object) -> FlownFlight:
    metrics = {
        METRIC: level * (1 + 0.01 * number),
        "tracking_error.roll": 8 + 0.1 * (number * 7 % 5),
        "overshoot.roll": 0.06 + 0.001 * (number * 2 % 5),
        "bounce_back.roll": 20 + (number * 3 % 4),
    }
    return replace(FlownFlight(number=number, is_after=is_after, metrics=metrics), **changes)


def flown(*sides: str, after: float = 0.7) -> list[FlownFlight]:
    """Flights from letters in the order flown: b before, a after."""
    letters = "".join(sides)
    return [flight(k, letter == "a", after if letter == "a" else 1.0) for k, letter in enumerate(letters, start=1)]


def states(flights: list[FlownFlight], plan: Plan = PLAN, **options: bool) -> dict[int, str]:
    return {one.flight.number: one.state for one in standings(flights, plan, **options)}


@pytest.mark.parametrize(
    ("change", "state", "why"),
    [
        ({"is_simulated": True}, "apart", "flown in the simulator, the others outside"),
        ({"noise_channel": "gyro"}, "apart", "only filtered gyro, the others raw"),
        ({"sample_rate_hz": 500.0}, "apart", "logged at 500 Hz, the others at 2000 Hz"),
        ({"sample_rate_hz": 2000 / 1.59}, "counts", ""),
        ({"sample_rate_hz": 2000 / 1.61}, "apart", "another number"),
        ({"window_s": 9.9}, "apart", "only 10 s are usable"),
        ({"window_s": 10.1}, "counts", ""),
        ({"window_s": 18.5, "card_s": 31.0}, "apart", "of a card of 31 s"),
        ({"window_s": 18.7, "card_s": 31.0}, "counts", ""),
        ({"metrics": {"overshoot.roll": 0.1}}, "apart", "the judging metric could not be measured"),
        ({"fault": "a broken propeller"}, "suggested", "it flew with a fault: a broken propeller"),
        ({"ended": "ended in a crash"}, "suggested", "it ended in a crash"),
        ({"ended": "was aborted", "chosen": "out"}, "left_out", "it was aborted"),
        ({"fault": "a broken propeller", "chosen": "in"}, "counts", "used although it flew with a fault"),
        ({"chosen": "out", "chosen_why": "gusty"}, "left_out", "gusty"),
        ({"is_cause": True}, "apart", "would bias the verdict"),
    ],
)
def test_why_a_flight_counts_or_does_not(change: dict[str, object], state: str, why: str) -> None:
    flights = flown("bbbb", "aaaa")
    flights[5] = replace(flights[5], **change)
    found = standings(flights, PLAN)[5]
    assert found.state == state
    assert why in found.why


def test_the_same_samples_count_once() -> None:
    flights = flown("bbbb", "aaa")
    again = replace(flights[-1], number=8, metrics={name: value * (1 + 5e-6) for name, value in flights[-1].metrics.items()})
    other = replace(flights[-1], number=9, metrics={name: value * (1 + 2e-5) for name, value in flights[-1].metrics.items()})
    found = standings([*flights, again, other], PLAN)
    assert [(one.state, one.why) for one in found[-2:]] == [
        ("twice", "the same samples as flight 7: counted once"),
        ("counts", ""),
    ]


def test_the_newest_before_and_the_first_after_are_taken() -> None:
    assert [number for number, state in states(flown("bbbbbb", "aaaaaa")).items() if state == "counts"] == [
        3,
        4,
        5,
        6,
        7,
        8,
        9,
        10,
    ]
    late = states(flown("bb", "aaaa", "bbb"))  # too few before: those flown later fill up
    assert [number for number, state in late.items() if state == "counts"] == [1, 2, 3, 4, 5, 6, 7, 8]


def test_a_repair_s_flights_before_it_carry_the_fault() -> None:
    flights = [replace(one, fault="loose") for one in flown("bbbb", "aaaa")]
    assert set(states(flights).values()) == {"suggested"}
    repaired = states(flights, is_repair=True)
    assert [repaired[number] for number in (1, 4, 5, 8)] == ["counts", "counts", "suggested", "suggested"]


def verdict(flights: list[FlownFlight], plan: Plan = PLAN) -> TrialVerdict:
    return judge(standings(flights, plan), plan)


@pytest.mark.parametrize(
    ("flights", "sentence"),
    [
        (flown("bbbb", "aa"), "not yet: 4 of 4 flown before, 2 of 4 after"),
        (
            [*flown("bbbb", "aaa"), flight(8, True, fault="bent")],
            "not yet: 4 of 4 flown before, 3 of 4 after; answer first whether flight 8 counts",
        ),
        (flown("bbbb", "aaaa"), "better: motion noise, roll fell by 27 % (at least"),
        (flown("bbbb", "aaaa", after=1.3), "worse: motion noise, roll rose by"),
        (flown("bbbb", "aaaa", after=0.97), "no difference that matters: motion noise, roll rose by"),
        ([replace(one, metrics=one.metrics | {METRIC: 2.0 - one.is_after}) for one in flown("bbbb", "aaaa")],
         "cannot be judged: all flights of one side have identical numbers"),
    ],
)  # fmt: skip
def test_one_sentence(flights: list[FlownFlight], sentence: str) -> None:
    assert verdict(flights).sentence.startswith(sentence)


def test_scatter_that_hides_what_matters_is_no_verdict() -> None:
    levels = [1.0, 1.8, 0.7, 1.3, 1.1, 0.6, 1.7, 1.2]
    found = verdict([flight(k, k > 4, level) for k, level in enumerate(levels, start=1)])
    assert found.word == "cannot"
    assert "flights per side would show it" in found.why


def test_a_number_that_cannot_be_compared_as_a_ratio_breaks_nothing() -> None:
    flights = flown("bbbbb", "aaaaa", after=0.96)
    flights[0] = replace(flights[0], metrics=flights[0].metrics | {METRIC: 0.0})
    assert verdict(flights, replace(PLAN, flights_a_side=5)).word in ("no_difference", "cannot")


def test_before_the_planned_number_nothing_is_said() -> None:
    found = verdict(flown("bbbb", "aaa", after=0.1))
    assert (found.word, found.comparison) == ("not_yet", None)
    assert verdict(flown("bbbbb", "aaaa"), replace(PLAN, flights_a_side=5)).word == "not_yet"


@pytest.mark.parametrize(
    ("change", "word", "why"),
    [
        ({"overshoot.roll": 0.058}, "better", ""),
        ({"overshoot.roll": 0.105}, "better_but", "overshoot, roll rose by 4"),
        ({"bounce_back.roll": 31.0}, "better_but", "bounce-back, roll rose by"),
    ],
)
def test_a_broken_limit_stands_in_the_title(change: dict[str, float], word: str, why: str) -> None:
    plan = replace(PLAN, limits=(Limit(metric="overshoot.roll", most=0.03), Limit(metric="bounce_back.roll", most=0.15)))
    flights = [
        replace(
            one, metrics=one.metrics | {name: value * (1 + 0.01 * one.number) for name, value in change.items() if one.is_after}
        )
        for one in flown("bbbb", "aaaa")
    ]
    found = verdict(flights, plan)
    assert found.word == word
    assert why in found.why


@pytest.mark.parametrize(
    ("change", "scatter", "state"),
    [(0.029, 0.0001, "kept"), (0.031, 0.0001, "broken"), (0.025, 0.01, "open"), (-0.1, 0.001, "kept"), (None, 0.0, "unmeasured")],
)
def test_limits_are_kept_broken_or_open(change: float | None, scatter: float, state: str) -> None:
    name = "overshoot.roll"
    flights = [
        flight(k, k > 4, metrics={} if change is None else {name: 0.1 + (change if k > 4 else 0) + scatter * (-1) ** k})
        for k in range(1, 9)
    ]
    assert limit_state(Limit(metric=name, most=0.03), flights).state == state


def test_a_verdict_must_hold_for_the_flights_that_count_by_rule() -> None:
    """Leaving out what does not please, or using what flew with a fault, decides nothing."""
    flights = [flight(k, k > 4, 1.0) for k in range(1, 9)] + [flight(k, True, 0.6) for k in range(9, 13)]
    assert verdict(flights).word != "better"
    eager = [replace(one, chosen="out", chosen_why="gusty") if 5 <= one.number <= 8 else one for one in flights]
    found = verdict(eager)
    assert found.word == "cannot"
    assert "flight 5 (gusty)" in found.why
    faulty = flown("bbbb", "aaaa")
    faulty[7] = replace(faulty[7], fault="bent propeller", chosen="in")
    assert verdict(faulty).sentence.startswith(
        "cannot be judged: the verdict depends on flight 8 (used although it flew with a fault"
    )
    assert verdict([*faulty, flight(9, True, 0.7)]).word == "better"  # the same without it


@pytest.mark.parametrize(
    ("letters", "order", "n", "design"),
    [
        ("baabbaab", "blocks", 4, "blocks"),
        ("babaabbaba", "pairs", 5, "pairs"),
        ("bbbbaaaa", "blocks", 4, "free"),  # not flown as planned: all orders, with a warning
        ("bbbbbaaaaa", "pairs", 5, "free"),
    ],
)
def test_the_test_follows_the_order_flown(letters: str, order: str, n: int, design: str) -> None:
    found = verdict(flown(letters), replace(PLAN, order=order, flights_a_side=n))
    assert (found.word, found.design) == ("better", design)
    assert any("planned order" in aside for aside in found.asides) == (design != order)


def test_an_extension_shares_the_error() -> None:
    assert verdict(flown("bbbb", "aaaa")).level == 0.05
    longer = replace(PLAN, extensions=(8,))
    assert verdict(flown("bbbb", "aaaa"), longer).word == "not_yet"
    found = verdict(flown("b" * 8, "a" * 8), longer)
    assert (found.word, found.n_planned) == ("better", 8)
    assert 0 < found.level < 0.02


def test_a_record_of_a_verdict_comes_back_as_it_was() -> None:
    found = verdict(flown("bbbb", "aaaa"), replace(PLAN, limits=(Limit(metric="overshoot.roll", most=0.03),)))
    again = from_json(TrialVerdict, to_json(found))
    assert again.sentence == found.sentence
    assert to_json(again) == to_json(found)  # but for digits beyond the ninth


@pytest.mark.parametrize(
    ("changes", "message"),
    [
        ({"flights_a_side": 3}, "from 4 to 10"),
        ({"flights_a_side": 11}, "from 4 to 10"),
        ({"order": "pairs"}, "from 5 to 10"),
        ({"order": "blocks", "flights_a_side": 5}, "even number"),
        ({"order": "random"}, "is no order"),
        ({"extensions": (4,)}, "goes beyond the 4"),
        ({"extensions": (11,)}, "at most 10"),
        ({"limits": (Limit(metric=METRIC, most=0.1),)}, "not the one that judges"),
        ({"limits": FOUR_LIMITS}, "at most 3"),
    ],
)  # fmt: skip
def test_plans_that_cannot_be_judged_are_refused(changes: dict[str, object], message: str) -> None:
    with pytest.raises(InputError, match=message):
        replace(PLAN, **changes)


@pytest.mark.parametrize("most", [0.0, -0.1, 10.1, math.nan])
def test_a_limit_has_a_sensible_size(most: float) -> None:
    with pytest.raises(InputError, match="out of range"):
        Limit(metric="overshoot.roll", most=most)


@pytest.mark.parametrize(
    ("n_sound", "n_since", "level", "told"),
    [
        (0, 4, 1.0, None),
        (4, 3, 1.0, "3 of 4 flown since, 4 of 4 before the fault"),
        (3, 4, 1.0, "4 of 4 flown since, 3 of 4"),
        (4, 4, 1.0, "as good as before"),
        (4, 4, 0.6, "as good as before"),
        (4, 4, 1.135, "more than 15 % is not ruled out"),
        (5, 4, 1.4, "not as before: motion noise, roll rose by 39 %"),
    ],
)
def test_a_repair_against_the_flights_before_the_fault(n_sound: int, n_since: int, level: float, told: str | None) -> None:
    sound = [flight(k, True) for k in range(1, n_sound + 1)]
    found = as_before(sound, [flight(k, False, level) for k in range(1, n_since + 1)], METRIC)
    assert (found is None) if told is None else (found is not None and told in found.in_words)


@pytest.mark.parametrize(
    ("shows", "told"),
    [
        ([], "not seen in 0 flights"),
        ([False] * 3, "4 are needed"),
        ([False] * 4, "fixed: seen in none of 4"),
        ([True, False], "still there in 1 of 2"),
    ],
)
def test_a_fault_is_gone_after_four_flights_without_it(shows: list[bool], told: str) -> None:
    assert told in fault_gone(shows).in_words
