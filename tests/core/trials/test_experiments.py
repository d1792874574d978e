"""Blind comparisons: the order flown, guesses against chance, and what several arms' flights allow to say."""

import itertools
import math
from collections import Counter
from dataclasses import replace

import numpy as np
import pytest
from scipy.stats import hypergeom

from nembrit.core.errors import InputError
from nembrit.core.trials.arms import DESIGNS, MOST_ARMS, is_balanced, latin_square, least_repetitions, schedule
from nembrit.core.trials.experiment import RATING, ArmFlight, ArmPlan, ExperimentVerdict, judge_experiment
from nembrit.core.trials.guesses import judge_guesses
from tests.core.trials.test_counting import METRIC, flight

PLAN = ArmPlan(metric=METRIC, direction="lower", design="blocks", repetitions=4, n_arms=2)


class TestOrder:
    @pytest.mark.parametrize("n", range(2, MOST_ARMS + 1))
    def test_a_latin_square_holds_each_arm_once_a_row_and_once_a_place(self, n: int) -> None:
        """By definition; for even n also E. J. Williams (1949): each follows each other exactly once."""
        square = np.array(latin_square(n))
        whole = set(range(n))
        assert all(set(line) == whole for line in [*square, *square.T])
        follows = Counter((row[k], row[k + 1]) for row in square.tolist() for k in range(n - 1))
        if n % 2 == 0:
            assert set(follows.values()) == {1}
            assert len(follows) == n * (n - 1)

    @pytest.mark.parametrize(("design", "n_arms"), [*itertools.product(DESIGNS, range(2, MOST_ARMS + 1))])
    def test_every_arm_flies_as_often_as_planned(self, design: str, n_arms: int) -> None:
        repetitions = least_repetitions(design) + 2 * (design == "blocks")
        order = schedule(n_arms, repetitions, design, seed=n_arms)
        assert Counter(order) == dict.fromkeys(range(n_arms), repetitions)
        if design == "blocks":
            assert is_balanced(order)
        if design == "latin":
            rounds = np.reshape(order, (repetitions, n_arms))
            assert all(set(row) == set(range(n_arms)) for row in rounds)
            assert all(len(set(place)) == n_arms for place in rounds[:n_arms].T)

    def test_the_seed_draws_which_arm_begins(self) -> None:
        assert {schedule(2, 4, "blocks", seed=seed)[0] for seed in range(20)} == {0, 1}
        assert schedule(3, 5, "random", seed=4) == schedule(3, 5, "random", seed=4) != schedule(3, 5, "random", seed=5)

    @pytest.mark.parametrize(
        ("n_arms", "repetitions", "design", "words"),
        [
            (1, 4, "blocks", "2 to 5 arms"),
            (6, 4, "random", "2 to 5 arms"),
            (2, 3, "random", "from 4 to 10"),
            (2, 11, "random", "from 4 to 10"),
            (2, 4, "latin", "from 5 to 10"),
            (2, 5, "blocks", "even number"),
            (2, 4, "as it comes", "no order"),
        ],
    )
    def test_an_order_that_cannot_be_balanced_is_refused(self, n_arms: int, repetitions: int, design: str, words: str) -> None:
        with pytest.raises(InputError, match=words):
            schedule(n_arms, repetitions, design, seed=1)


class TestGuesses:
    @pytest.mark.parametrize("n_right", [0, 2, 4, 6, 8])
    def test_the_lady_tasting_tea(self, n_right: int) -> None:
        """R. A. Fisher, The Design of Experiments, chapter 2: 8 cups, 4 of each; all right by chance once in 70."""
        arms = [0, 0, 0, 0, 1, 1, 1, 1]
        wrong = (8 - n_right) // 2
        guesses = [1] * wrong + [0] * (4 - wrong) + [0] * wrong + [1] * (4 - wrong)
        found = judge_guesses(guesses, arms, group_sizes=[8])
        assert found is not None
        assert found.n_right == n_right
        assert found.expected == pytest.approx(4)
        assert found.p_value == pytest.approx(hypergeom(8, 4, 4).sf(4 - wrong - 1))
        assert found.knew == (n_right == 8)

    @pytest.mark.parametrize("seed", range(4))
    def test_any_groups_and_gaps_give_the_share_of_all_orders(self, seed: int) -> None:
        """Against counting every order that the groups allow."""
        rng = np.random.default_rng(seed)
        sizes = [4, 4]
        arms = [int(arm) for size in sizes for arm in rng.permutation(np.arange(size) % (2 + seed % 2))]
        guesses = [None if rng.random() < 0.2 else int(rng.integers(3)) for _ in arms]
        found = judge_guesses(guesses, arms, group_sizes=sizes)
        assert found is not None
        orders = [a + b for a in itertools.permutations(arms[:4]) for b in itertools.permutations(arms[4:])]
        rights = [sum(g == a for g, a in zip(guesses, order, strict=True)) for order in orders]
        assert found.p_value == pytest.approx(np.mean([right >= found.n_right for right in rights]))

    def test_nothing_guessed_is_nothing_known(self) -> None:
        assert judge_guesses([None] * 4, [0, 1, 1, 0], group_sizes=[4]) is None
        with pytest.raises(InputError, match="its variant"):
            judge_guesses([0], [0, 1], group_sizes=[2])


def flown(levels: dict[int, float], order: list[int], **fields: object) -> list[ArmFlight]:
    return [
        ArmFlight(arm=arm, flight=flight(number, arm > 0, levels[arm]), **fields)  # type: ignore[arg-type]
        for number, arm in enumerate(order, start=1)
    ]


def words(found: ExperimentVerdict) -> list[str]:
    return [one.word for one in found.arms]


class TestVerdict:
    @pytest.mark.parametrize(
        ("level", "direction", "word"),
        [(0.7, "lower", "better"), (1.4, "lower", "worse"), (1.4, "higher", "better"), (1.0, "lower", "no_difference")],
    )
    def test_an_arm_against_the_first(self, level: float, direction: str, word: str) -> None:
        found = judge_experiment(flown({0: 1.0, 1: level}, [0, 1, 1, 0, 1, 0, 0, 1]), replace(PLAN, direction=direction))
        assert words(found) == [word], found.arms[0].why
        if word in ("better", "worse"):  # the exact test of blocks: one of 36 orders
            assert found.arms[0].p_value == pytest.approx(1 / 36)

    def test_several_arms_are_adjusted_after_holm(self) -> None:
        order = schedule(3, 4, "blocks", seed=3)
        found = judge_experiment(flown({0: 1.0, 1: 0.7, 2: 0.6}, order), replace(PLAN, n_arms=3))
        assert [one.p_adjusted for one in found.arms] == pytest.approx([2 / 36, 2 / 36])
        assert words(found) == ["cannot", "cannot"]
        assert "but not after the correction for several" in found.arms[0].why
        order = schedule(3, 6, "blocks", seed=3)
        found = judge_experiment(flown({0: 1.0, 1: 0.7, 2: 0.6}, order), replace(PLAN, n_arms=3, repetitions=6))
        assert {*words(found)} <= {"better", "better_but"}

    @pytest.mark.parametrize("design", DESIGNS)
    def test_a_half_flown_question_has_no_word_of_success(self, design: str) -> None:
        repetitions = least_repetitions(design)
        order = schedule(2, repetitions, design, seed=8)
        plan = replace(PLAN, design=design, repetitions=repetitions)
        flights = flown({0: 1.0, 1: 0.5}, order)
        assert words(judge_experiment(flights[:-2], plan)) == ["not_yet"]
        assert words(judge_experiment(flights, plan)) == ["better"]

    def test_a_crash_is_left_out_and_the_trial_goes_on_unbalanced(self) -> None:
        order = [0, 1, 1, 0, 1, 0, 0, 1, 0, 1]
        flights = flown({0: 1.0, 1: 0.7}, order)
        flights[1] = replace(flights[1], flight=replace(flights[1].flight, ended="ended in a crash"))
        assert words(judge_experiment(flights, PLAN)) == ["better"]

    @pytest.mark.parametrize(
        ("marks", "word"),
        [({0: 2, 1: 5}, "better"), ({0: 5, 1: 2}, "worse"), ({0: 3, 1: 3}, "no_difference"), ({0: None, 1: 3}, "not_yet")],
    )
    def test_marks_can_judge(self, marks: dict[int, int | None], word: str) -> None:
        flights = [replace(one, rating=marks[one.arm]) for one in flown({0: 1.0, 1: 1.0}, [0, 1, 1, 0, 1, 0, 0, 1])]
        assert words(judge_experiment(flights, replace(PLAN, metric=RATING, direction="higher"))) == [word]

    @pytest.mark.parametrize(
        ("name", "values", "told"),
        [
            ("wind_m_s", (1.0, 5.0), "wind differed: 1 and 5"),
            ("start_cell_v", (4.2, 3.9), "not equally full"),
            ("pack", ("1", "2"), "one variant flew a pack more often"),
            ("wind_m_s", (1.0, 2.0), ""),
        ],
    )
    def test_what_else_differed_is_said(self, name: str, values: tuple[object, object], told: str) -> None:
        flights = [replace(one, **{name: values[one.arm]}) for one in flown({0: 1.0, 1: 1.0}, [0, 1, 1, 0, 1, 0, 0, 1])]
        assert told in " ".join(judge_experiment(flights, PLAN).confounders)
        assert bool(judge_experiment(flights, PLAN).confounders) == bool(told)

    def test_an_order_that_follows_time_and_changed_hardware_are_said(self) -> None:
        flights = [replace(one, build=str(k // 3)) for k, one in enumerate(flown({0: 1.0, 1: 1.0}, [0, 0, 0, 0, 1, 1, 1, 1]))]
        assert [told.split(" ")[0] for told in judge_experiment(flights, PLAN).confounders] == ["the", "one"]

    def test_a_p_is_the_share_of_orders(self) -> None:
        order = schedule(2, 4, "random", seed=11)
        found = judge_experiment(flown({0: 1.0, 1: 0.5}, order), replace(PLAN, design="random"))
        assert found.arms[0].p_value == pytest.approx(1 / math.comb(8, 4))
