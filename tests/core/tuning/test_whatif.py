"""Predictions against newly flown flights, and what they refuse."""

from dataclasses import replace

import pytest

from nembrit.core.errors import NotEnoughData
from nembrit.core.response.estimate import Estimate
from nembrit.core.response.margins import margins
from nembrit.core.setup.controller import Controller
from nembrit.core.tuning.best import best_gains, limits_for
from nembrit.core.tuning.classical import classical_gains
from nembrit.core.tuning.flown import flown_loop
from nembrit.core.tuning.whatif import Change
from tests.core.tuning.trying import BASE, ROTOR, analysed, bench, low, scaled

STRONGER = {"roll": {"p": 1.3, "d": 1.3}, "pitch": {"p": 0.7}}
OPEN = replace(BASE, gyro=(low(250.0), ROTOR), d_term=(low(150.0),))


@pytest.mark.long(
    "its other cases ask the same",
    only=(
        "filters",
        "gains",
    ),
)
@pytest.mark.parametrize(
    ("settings", "change"),
    [(scaled(STRONGER), Change(gains=STRONGER)), (OPEN, Change(chains=OPEN))],
    ids=["gains", "filters"],
)
def test_what_is_flown_next_lies_in_what_was_predicted(settings: Controller, change: Change) -> None:
    new = analysed(settings, seed=12)
    assert new.loop is not None
    assert new.response is not None
    for axis in ("roll", "pitch"):
        told, found = bench().predicted(axis, change), new.loop.axes[axis]
        for name in ("phase_margin_deg", "sensitivity_peak", "rise_time_s", "bandwidth_hz", "delay_s"):
            _meets(getattr(told, name), getattr(found, name))
        step = new.response.steps[axis]
        low_end, high_end = step.overshoot_interval
        _meets(told.overshoot_ratio, Estimate(value=step.overshoot_ratio, low=low_end, high=high_end))
    motors = bench().motors(change)
    assert motors is not None
    assert new.shaping is not None
    assert motors.low <= new.shaping.roughness_ratio <= motors.high


def _meets(told: Estimate | None, found: Estimate | None) -> None:
    """Two numbers with intervals of 95 %: their difference lies within both together."""
    assert told is not None
    assert found is not None
    assert abs(told.value - found.value) <= (told.error**2 + found.error**2) ** 0.5


def test_no_change_predicts_what_was_measured() -> None:
    for axis, own in bench().loop.axes.items():
        told = bench().predicted(axis, Change())
        for name in ("phase_margin_deg", "sensitivity_peak", "bandwidth_hz", "rise_time_s", "delay_s"):
            assert getattr(told, name).value == pytest.approx(getattr(own, name).value)
            assert getattr(told, name).error == pytest.approx(getattr(own, name).error, rel=0.12)
    assert bench().motors(Change()).value == pytest.approx(bench().shaping.roughness_ratio)
    assert bench().motor_ratio(Change()) == pytest.approx(1.0)


@pytest.mark.parametrize(("ratio", "is_stable"), [(2.0, True), (12.0, False)])
def test_a_loop_that_would_swing_by_itself_has_no_numbers(ratio: float, is_stable: bool) -> None:
    told = bench().predicted("roll", Change(gains={"roll": {"p": ratio, "d": ratio}}))
    assert told.is_stable is is_stable
    assert (told.sensitivity_peak is not None) is is_stable
    assert (told.phase_margin_deg is not None) is is_stable


def test_a_larger_change_is_less_sure_and_a_poor_record_widens() -> None:
    errors = [bench().predicted("roll", Change(gains={"roll": {"p": ratio}})).rise_time_s.error for ratio in (1.0, 1.3, 1.6)]
    assert errors[0] < errors[1]
    wide = replace(bench(), widened=2.0).predicted("roll", Change()).phase_margin_deg
    assert wide.error == pytest.approx(2 * bench().predicted("roll", Change()).phase_margin_deg.error)


def test_without_the_filters_gains_can_still_be_tried() -> None:
    part = bench(is_known=False)
    change = Change(gains={"roll": {"p": 1.2}})
    assert part.predicted("roll", change).phase_margin_deg.value == pytest.approx(
        bench().predicted("roll", change).phase_margin_deg.value
    )
    for call in (lambda: part.residual(change), part.task, lambda: part.check):
        with pytest.raises(NotEnoughData, match="unknown filters"):
            call()
    assert part.motors(change) is None


def test_a_record_of_good_predictions_narrows_no_flight() -> None:
    narrow = replace(bench(), widened=0.5)
    stronger = Change(gains={"roll": {"p": 1.2, "d": 1.2}})
    for name in ("phase_margin_deg", "rise_time_s", "sensitivity_peak"):
        own = bench().flown_number("roll", name)
        assert getattr(narrow.predicted("roll", Change()), name).error == pytest.approx(own.error, rel=0.12)
        assert getattr(narrow.predicted("roll", stronger), name).error < getattr(bench().predicted("roll", stronger), name).error


def test_what_the_flight_could_not_tell_is_refused_with_its_reason() -> None:
    loop = bench().loop
    without = replace(loop, axes={}, reasons={"roll": "fly more"})
    with pytest.raises(NotEnoughData, match="fly more"):
        replace(bench(), loop=without).predicted("roll", Change())
    with pytest.raises(NotEnoughData, match="pitch could not be measured"):
        replace(bench(), loop=None).predicted("pitch", Change())


@pytest.mark.parametrize(
    ("caution", "motors", "bound"),
    [("careful", 5.0, None), ("usual", 5.0, None), ("bold", 5.0, None), ("usual", 1.0, None)],
)
def test_the_best_gains_keep_to_their_limits(caution: str, motors: float, bound: str | None) -> None:
    limits = limits_for(caution, motors)
    found = bench().best("roll", limits)
    assert 1 / limits.most_step <= found.p <= limits.most_step
    flown = bench().predicted("roll", Change())
    peaks = [flown.sensitivity_peak.high, *(part.sensitivity_peak.high for part in flown.by_throttle if part.sensitivity_peak)]
    assert found.predicted.sensitivity_peak.high <= max(limits.sensitivity_peak, *(1.001 * peak for peak in peaks))
    if found.predicted.sensitivity_peak.high > 1.5:  # below it overshoot is no sign of a low margin
        assert found.predicted.overshoot_ratio.high <= max(limits.overshoot_ratio, 1.001 * flown.overshoot_ratio.high)
    change = Change(gains={"roll": {"p": found.p, "d": found.d}})
    assert bench().motor_ratio(change) <= motors + 1e-9
    assert bound is None or found.bound_by == bound
    assert found.predicted.rise_time_s.value <= flown.rise_time_s.value


def test_gains_beyond_a_limit_are_led_back() -> None:
    limits = replace(limits_for("usual", 5.0), sensitivity_peak=1.15, overshoot_ratio=0.5)
    found = best_gains(bench().loop.axes["roll"], "roll", limits, motor_ratio=lambda p, d: 1.0, flown=BASE)
    assert found.p < 1
    assert found.bound_by == found.breaks == "the sensitivity peak"


@pytest.mark.parametrize(("term", "most"), [("i", 1.25), ("f", 1.25)])
def test_i_and_feed_forward_keep_to_their_limits(term: str, most: float) -> None:
    limits = limits_for("usual", 5.0)
    found = bench().best_term("roll", term, limits)
    assert 1 / most - 1e-9 <= found.ratio <= most + 1e-9
    flown = bench().predicted("roll", Change())
    assert found.predicted.overshoot_ratio.high <= max(limits.overshoot_ratio, 1.001 * flown.overshoot_ratio.high)
    tight = replace(limits, overshoot_ratio=0.03)
    assert bench().best_term("roll", "i", tight).ratio < 1, "an overshoot beyond its limit asks for less I"
    assert bench().best_term("yaw", "f", limits) is None, "what does not act is not advised"
    assert replace(bench(), loop=None).best_term("roll", term, limits) is None


@pytest.mark.parametrize("axis", ["roll", "pitch"])
def test_classical_rules_give_the_margins_that_they_promise(axis: str) -> None:
    # Skogestad 2003: SIMC with τc = θ has a sensitivity peak of 1.59 to 1.70 on processes with a delay; 0.3 for what the half
    # rule leaves out. Ziegler and Nichols take 0.6 of that gain
    own = bench().loop.axes[axis]
    rules, ahead, hz = {one.name: one.p for one in classical_gains(own)}, flown_loop(own).ahead, own.frequency_hz
    assert rules["AMIGO"] < rules["SIMC"] < rules["Tyreus–Luyben"] < rules["Ziegler–Nichols"]
    assert margins(hz, rules["SIMC"] * ahead).sensitivity_peak == pytest.approx(1.65, abs=0.3)
    half = rules["Ziegler–Nichols"] / 0.6 / 2  # of the gain at which the loop oscillates: 6.02 dB are left
    assert margins(hz, half * ahead).gain_margin_db == pytest.approx(6.02, abs=0.2)


def test_classical_rules_say_nothing_of_a_craft_that_leads() -> None:
    assert {one.p for one in classical_gains(bench().loop.axes["yaw"])} == {None}
