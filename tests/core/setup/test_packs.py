"""Packs and composed cards: worked examples, what is refused, and that every card can be flown."""

from collections import Counter

import numpy as np
import pytest

from nembrit.core.analysis.conditions import conditions_of
from nembrit.core.errors import InputError
from nembrit.core.records.log import Recording
from nembrit.core.setup.card import STOP_RULES, WING_STOP_RULES, card_from_json, card_to_json
from nembrit.core.setup.cards import CARDS, WING_CARDS
from nembrit.core.setup.compose import composed
from nembrit.core.setup.library import QUESTIONS, library_for
from nembrit.core.setup.packs import (
    CHEMISTRIES,
    balanced_packs,
    endurance_s,
    imbalance,
    landing_pack_v,
    rest_state,
    rounds_that_fit,
)

KINDS = ("multirotor", "fixed_wing")


class TestPacks:
    @pytest.mark.parametrize(
        ("pack_v", "cells", "chemistry", "word", "may_fly"),
        [
            (16.8, 4, "lipo", "full", True),
            (16.48, 4, "lipo", "fresh", True),
            (15.8, 4, "lipo", "part used", True),
            (15.2, 4, "lipo", "storage", False),
            (14.4, 4, "lipo", "low", False),
            (11.0, 4, "lipo", "below sense", False),
            (8.7, 2, "lihv", "full", True),
            (8.3, 2, "lihv", "part used", True),
            (21.9, 6, "liion", "storage", False),
            (14.8, 6, "liion", "below sense", False),
        ],
    )
    def test_a_voltage_at_rest_is_judged_by_chemistry(
        self, pack_v: float, cells: int, chemistry: str, word: str, may_fly: bool
    ) -> None:
        found = rest_state(pack_v, cells=cells, chemistry=chemistry)
        assert (found.word, found.may_fly) == (word, may_fly)
        assert found.cell_v == pytest.approx(pack_v / cells)

    @pytest.mark.parametrize(
        ("call", "words"),
        [
            (lambda: rest_state(25.0, cells=4, chemistry="lipo"), "6.25 V per cell"),
            (lambda: rest_state(float("nan"), cells=4, chemistry="lipo"), "no lithium-polymer pack"),
            (lambda: rest_state(16.0, cells=0, chemistry="lipo"), "from 1 to 14"),
            (lambda: landing_pack_v(4, "lead"), "no chemistry"),
            (lambda: endurance_s(1500, 0), "above 0"),
            (lambda: rounds_that_fit([300], 0), "more than 0 s"),
            (lambda: balanced_packs("AB", []), "at least one pack"),
        ],
    )
    def test_what_no_pack_has_is_refused(self, call: object, words: str) -> None:
        with pytest.raises(InputError, match=words):
            call()  # type: ignore[operator]

    @pytest.mark.parametrize(
        ("endurances", "test_s", "n"),
        [([300, 300], 30, 20), ([299, 301], 30, 19), ([20], 30, 0), ([], 30, 0), ([240.0, 90.0, 300.0], 60, 10)],
    )
    def test_whole_tests_in_packs(self, endurances: list[float], test_s: float, n: int) -> None:
        """Two packs of five minutes at thirty seconds give twenty tests: common practice, no source."""
        assert rounds_that_fit(endurances, test_s) == n

    def test_pack_arithmetic_by_hand(self) -> None:
        """1.3 Ah, four fifths of it at 13 A: 0.08 h; a landing voltage is cells times that of one."""
        assert endurance_s(1300, 13) == pytest.approx(0.08 * 3600)
        assert [landing_pack_v(6, one) for one in CHEMISTRIES] == pytest.approx([21.0, 21.0, 19.5])

    @pytest.mark.parametrize(("arms", "n_packs"), [("ABBABAAB", 2), ("ABBABAAB", 4), ("ABCBCACABABC", 3), ("AABBABAB", 3)])
    def test_each_arm_flies_each_pack_as_often_as_it_goes(self, arms: str, n_packs: int) -> None:
        packs = [str(k) for k in range(n_packs)]
        dealt = balanced_packs(arms, packs)
        assert set(dealt) <= set(packs)
        assert len(dealt) == len(arms)
        assert all(high - low <= 1 for low, high in imbalance(arms, dealt).values())
        assert max(Counter(dealt).values()) - min(Counter(dealt).values()) <= len(set(arms))


class TestConditions:
    @pytest.mark.parametrize("rate_hz", [100.0, 1000.0])
    def test_conditions_are_measured_by_their_definition(self, rate_hz: float) -> None:
        n = int(10 * rate_hz)
        time_s = np.arange(n) / rate_hz
        volts = 16.4 - 0.1 * time_s
        volts[n // 2] = 3.0  # one sample that no pack has
        throttle = np.where((time_s >= 4) & (time_s < 6), 0.95, 0.4)
        channels = {
            "battery_voltage": volts, "battery_current": np.full(n, 12.5), "throttle": throttle, "gyro_temperature": 30 + time_s,
        }  # fmt: skip
        found = conditions_of(Recording(sample_rate_hz=rate_hz, start_s=0.0, n_samples=n, channels=channels))
        assert found.start_v == pytest.approx(16.4)
        assert found.mean_current_a == pytest.approx(12.5)
        assert found.full_throttle_s == pytest.approx(2.0)
        assert found.highest_throttle_ratio == pytest.approx(0.95)
        assert found.highest_temperature_c == pytest.approx(40, abs=0.02)
        assert found.lowest_v == pytest.approx(15.4, abs=0.6 if rate_hz < 200 else 0.1)

    def test_what_was_not_recorded_is_not_known(self) -> None:
        found = conditions_of(Recording(sample_rate_hz=500.0, start_s=0.0, n_samples=500, channels={"gyro[roll]": np.zeros(500)}))
        assert found.duration_s == pytest.approx(1.0)
        assert {found.start_v, found.lowest_v, found.mean_current_a, found.full_throttle_s} == {None}


class TestCards:
    @pytest.mark.parametrize("kind", KINDS)
    def test_the_library_says_how_why_and_when_to_stop(self, kind: str) -> None:
        for known in library_for(kind):
            step = known.step
            assert all((step.title, step.how, step.tells, step.space, step.height_m, step.seconds, known.stages)), known.key
            assert set(known.questions) <= set(QUESTIONS), known.key
            assert step.skill in (1, 2, 3), known.key
        assert len(library_for("multirotor")) + len(library_for("fixed_wing")) >= 20

    @pytest.mark.parametrize("kind", KINDS)
    def test_a_card_starts_close_and_goes_from_easy_to_hard(self, kind: str) -> None:
        keys = [known.key for known in library_for(kind)][::-1]
        card = composed(kind, keys[:6], key="own", name="Mine")
        skills = [step.skill for step in card.manoeuvres]
        assert skills[1:-1] == sorted(skills[1:-1])
        assert [card.manoeuvres[0].kind, card.manoeuvres[-1].kind] == (
            ["take_off", "touch_down"] if kind == "multirotor" else ["launch", "landing"]
        )
        assert card.stop_criteria[: len(STOP_RULES)] == (STOP_RULES if kind == "multirotor" else WING_STOP_RULES)
        assert card_from_json(card_to_json(card)) == card

    @pytest.mark.parametrize("question", QUESTIONS)
    def test_every_question_has_manoeuvres(self, question: str) -> None:
        assert any(library_for(kind, question=question) for kind in KINDS)

    @pytest.mark.parametrize(
        ("kind", "keys", "name", "words"),
        [
            ("multirotor", [], "Mine", "at least one"),
            ("multirotor", ["circles"], "Mine", "no manoeuvre for this craft"),
            ("multirotor", ["../hover"], "Mine", "no manoeuvre"),
            ("boat", ["hover"], "Mine", "no kind of craft"),
            ("multirotor", ["hover"], "  ", "needs a name"),
            ("multirotor", [known.key for known in library_for("multirotor")], "Mine", "split it into two cards"),
        ],
    )
    def test_a_card_that_cannot_be_flown_is_refused(self, kind: str, keys: list[str], name: str, words: str) -> None:
        with pytest.raises(InputError, match=words):
            composed(kind, keys, key="own", name=name)

    @pytest.mark.parametrize("card", [*CARDS, *WING_CARDS], ids=lambda card: card.key)
    def test_a_card_survives_its_file(self, card) -> None:
        assert card_from_json(card_to_json(card)) == card
        assert sum(step.seconds for step in card.manoeuvres) == card.seconds
