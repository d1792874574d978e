"""The scripted pilot and the mixer: what each manoeuvre does, and what motors can be asked for."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nembrit.core.setup.card import KINDS, Card, Manoeuvre
from nembrit.core.setup.cards import CARDS
from nembrit.core.setup.craft import Craft, layout_motors
from nembrit.core.simulate.airframe import airframe_of, vary
from nembrit.core.simulate.kernel import _mix
from nembrit.core.simulate.pilot import fly_card

RATE_HZ, HOVER = 2000.0, 0.3


def flown(kind: str, seconds: float = 4.0, axis: str | None = None, size: float = 0.8, seed: int = 3):
    card = Card(key="x", name="x", purpose="", manoeuvres=(Manoeuvre(kind=kind, seconds=seconds, axis=axis, size_ratio=size),))
    return fly_card(card, hover_throttle=HOVER, loop_rate_hz=RATE_HZ, rng=np.random.default_rng(seed))


@pytest.mark.parametrize("kind", KINDS)
def test_every_manoeuvre_stays_within_the_sticks_and_its_seconds(kind: str) -> None:
    found = flown(kind)
    assert found.throttle.size == 8000
    assert np.abs(found.stick).max() <= 1
    assert 0 <= found.throttle.min() <= found.throttle.max() <= 1


@pytest.mark.parametrize(
    ("kind", "low", "high"),
    [
        ("hover", 0.27, 0.33),
        ("wash_descent", 0.15, 0.40),
        ("sweep", 0.20, 0.85),
        ("punch", 0.25, 0.95),
        ("chop", 0.15, 0.90),
        ("zero_throttle", 0.0, 0.33),
        ("touch_down", 0.0, 0.33),
    ],
)
def test_throttle_of_each_manoeuvre(kind: str, low: float, high: float) -> None:
    throttle = flown(kind).throttle[400:-200]
    assert low - 0.03 <= throttle.min()
    assert throttle.max() <= high + 0.03
    assert np.ptp(throttle) > (0.0 if kind == "hover" else 0.1)


@pytest.mark.parametrize("row", [0, 1, 2])
@pytest.mark.parametrize("kind", ["doublet", "snap_stop"])
def test_axis_manoeuvres_move_their_axis_and_leave_the_others(kind: str, row: int) -> None:
    axis = ("roll", "pitch", "yaw")[row]
    stick = np.abs(flown(kind, axis=axis).stick).max(axis=1)
    assert stick[row] > 0.6
    assert all(stick[other] < 0.15 for other in range(3) if other != row)


def test_a_snap_stop_goes_both_ways_and_ends_at_rest() -> None:
    roll = flown("snap_stop", axis="roll").stick[0]
    assert roll.min() < -0.6
    assert roll.max() > 0.6
    assert abs(roll[-400:]).max() < 0.15


def test_lively_sticks_move_every_axis() -> None:
    stick = flown("cruise", seconds=10.0, size=0.4).stick
    assert (stick.std(axis=1) > 0.1).all()


def test_ground_is_only_before_take_off_and_after_touch_down() -> None:
    for card in CARDS:
        found = fly_card(card, hover_throttle=HOVER, loop_rate_hz=500.0, rng=np.random.default_rng(1))
        changes = np.flatnonzero(np.diff(found.is_on_ground.astype(int)))
        assert changes.size == 2, card.key
        assert found.throttle.size == round(card.seconds * 500)


def test_another_seed_moves_the_hand_otherwise() -> None:
    assert not np.array_equal(flown("hover", seed=1).stick, flown("hover", seed=2).stick)
    np.testing.assert_array_equal(flown("hover", seed=1).stick, flown("hover", seed=1).stick)


@settings(max_examples=150)
@given(
    st.sampled_from(["quad", "hex", "octo"]),
    st.lists(st.floats(-0.5, 0.5), min_size=3, max_size=3),
    st.floats(0, 1),
    st.floats(0, 0.2),
)
def test_motors_are_never_asked_for_more_than_they_can_give(
    layout: str, command: list[float], throttle: float, floor: float
) -> None:
    mixer = Craft(name="x", kind="multirotor", motors=layout_motors(layout)).mixer()
    motor = np.zeros(mixer.shape[0])
    lost = _mix(mixer, np.array(command), floor + (1 - floor) * throttle, floor, motor)
    assert floor - 1e-9 <= motor.min() <= motor.max() <= 1 + 1e-9
    if not lost:  # the command arrives whole, whatever the throttle
        with_throttle = np.hstack([mixer, np.ones((mixer.shape[0], 1))])
        np.testing.assert_allclose(
            np.linalg.pinv(with_throttle)[:3] @ motor, np.linalg.pinv(mixer) @ (mixer @ command), atol=1e-9
        )


@pytest.mark.parametrize(("small", "large"), [(3.0, 5.0), (5.0, 8.0)])
def test_larger_craft_turn_slower(small: float, large: float) -> None:
    a, b = (
        airframe_of(Craft(name="x", kind="multirotor", motors=layout_motors("quad"), diameter_in=size)) for size in (small, large)
    )
    assert a.authority_dps2[0] > b.authority_dps2[0]
    assert a.motor_lag_s < b.motor_lag_s
    assert a.rotor_top_hz > b.rotor_top_hz
    other = vary(a, np.random.default_rng(1))
    assert other != a
    assert 0.5 < other.motor_lag_s / a.motor_lag_s < 2
