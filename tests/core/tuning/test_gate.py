"""The gate before every change: what oscillates is forbidden, what passes a limit needs a reason, advice passes both."""

from dataclasses import replace

import pytest

from nembrit.core.response.estimate import Estimate
from nembrit.core.tuning.best import limits_for
from nembrit.core.tuning.design import SCHOOLS, best_chain, target_for
from nembrit.core.tuning.gate import ruling
from nembrit.core.tuning.whatif import Change
from tests.core.tuning.trying import BASE, analysed, bench, low, scaled

LATE = replace(BASE, gyro=(low(25.0),), d_term=(low(20.0),))
HIGH = scaled({axis: {"p": 3.4} for axis in ("roll", "pitch")})


@pytest.mark.parametrize(
    ("change", "forbidden", "limits"),
    [
        (Change(), "", ""),
        (Change(gains={"roll": {"p": 1.1, "d": 1.1}}), "", ""),
        (Change(gains={"roll": {"p": 0.8}}), "", ""),
        (Change(gains={"roll": {"p": 14.0}}), "roll would oscillate", ""),
        (Change(gains={"pitch": {"d": 30.0}}), "pitch would oscillate", ""),
        (Change(chains=LATE, gains={"roll": {"p": 2.0}, "pitch": {"p": 2.0}}), "would oscillate", ""),
        (Change(gains={"roll": {"p": 1.3}}), "", "P of roll changes by a factor of 1.3"),
        (Change(gains={"roll": {"i": 0.4}}), "", "I of roll changes by a factor of 0.4"),
    ],
)
def test_what_stands_against_a_change(change: Change, forbidden: str, limits: str) -> None:
    found = bench().ruling(change)
    assert (forbidden in " ".join(found.forbidden)) if forbidden else not found.forbidden
    assert not limits or limits in " ".join(found.limits)
    assert found.is_open is (not found.forbidden and not found.limits)


def test_each_half_may_pass_and_both_together_not() -> None:
    # what one flight's gate must see: gyro and D filters late, and P up, in parts and at once
    parts = [Change(chains=replace(BASE, gyro=LATE.gyro)), Change(gains={"roll": {"p": 2.2}})]
    both = Change(chains=replace(BASE, gyro=LATE.gyro), gains={"roll": {"p": 2.2}})
    worst = [len(bench().ruling(one).forbidden) for one in (*parts, both)]
    assert worst[2] >= max(worst[:2])
    assert bench().ruling(both).forbidden


def test_a_loop_that_is_low_already_may_only_improve() -> None:
    flown = bench(HIGH)
    assert max(flown.loop.axes[axis].sensitivity_peak.high for axis in ("roll", "pitch")) > 2.0
    down, up = (flown.ruling(Change(gains={axis: {"p": ratio} for axis in ("roll", "pitch")})) for ratio in (0.8, 1.1))
    assert down.is_open, down
    assert not up.is_open
    later = replace(HIGH, gyro=(low(90.0),))
    assert not flown.ruling(Change(chains=later)).is_open, "no more lag for a loop with little margin"
    assert flown.lag_room_deg == 0


@pytest.mark.parametrize("settings", [BASE, HIGH], ids=["sound", "P high"])
@pytest.mark.parametrize("school", list(SCHOOLS))
def test_no_advised_chain_is_later_than_the_margins_allow(settings, school: str) -> None:
    flown = bench(settings)
    task = flown.task()
    found = best_chain(task, target_for("careful", 6.0), school)
    assert found.lag_deg <= task.most_lag_deg + 1e-6 or not found.meets_target
    assert not flown.ruling(Change(chains=found.chains)).forbidden


@pytest.mark.parametrize("settings", [BASE, HIGH, scaled({"roll": {"p": 0.5, "d": 0.5}})], ids=["sound", "P high", "soft"])
def test_advised_gains_pass_the_gate_and_go_the_right_way(settings) -> None:
    flown = bench(settings)
    for axis in ("roll", "pitch"):
        found = flown.best(axis, limits_for("usual", 1.0))
        stands = flown.ruling(Change(gains={axis: {"p": found.p, "d": found.d}}), target_rms=1.0)
        assert not stands.forbidden
        peak = flown.loop.axes[axis].sensitivity_peak
        if peak.value > 2.0:
            assert found.p < 1.0, "little margin: P down"
            assert found.d == pytest.approx(1.0), "and D kept"
        if peak.high < 1.4:
            assert found.p >= 1.0, "a soft craft is never made softer"


def test_an_axis_that_was_not_measured_keeps_its_gains_and_takes_no_lag() -> None:
    whole = bench()
    without = replace(whole, loop=replace(whole.loop, axes={a: own for a, own in whole.loop.axes.items() if a != "yaw"}))
    assert "yaw could not be measured" in " ".join(without.ruling(Change(gains={"yaw": {"p": 1.1}})).limits)
    assert without.ruling(Change(gains={"yaw": {"p": 0.9}})).is_open
    assert "yaw could not be measured" in " ".join(without.ruling(Change(chains=LATE)).limits)
    # and one badly measured axis does not stand against another one's change
    assert without.ruling(Change(gains={"roll": {"p": 1.05}})).is_open


@pytest.mark.parametrize(
    ("becomes", "target", "is_open"), [(0.010, None, True), (0.020, None, False), (0.020, 0.03, True), (0.035, 0.03, False)]
)
def test_motor_noise_rises_to_its_target_only(becomes: float, target: float | None, is_open: bool) -> None:
    flown, new = (Estimate(value=value, low=0.9 * value, high=1.1 * value) for value in (0.010, becomes))
    loops = analysed(BASE).loop.axes
    found = ruling(loops, Change(gains={"roll": {"p": 1.01}}), flown=BASE, motors=(flown, new), target_rms=target)
    assert found.is_open is is_open
