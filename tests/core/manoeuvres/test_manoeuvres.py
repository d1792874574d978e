"""Snap stops and wash descents on traces whose answer is known."""

import numpy as np
import pytest

from nembrit.core.manoeuvres.detect import hover_throttle, manoeuvres, snap_stops, wash_descents
from nembrit.core.manoeuvres.phases import phases_of, usable_window_s, window_notes
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.response.scores import bounce_back_dps
from nembrit.core.setup.card import Card
from nembrit.core.setup.cards import CARDS
from nembrit.core.simulate.flight import set_point
from nembrit.core.simulate.pilot import Sticks, fly_card
from nembrit.core.types import AXES
from tests.flying import controller

RATE_HZ = 500.0


def seconds(value: float, length_s: float) -> np.ndarray:
    return np.full(round(length_s * RATE_HZ), value)


def log(**channels: np.ndarray) -> Recording:
    return Recording.of(
        {name.replace("__", "."): values for name, values in channels.items()}, sample_rate_hz=RATE_HZ, start_s=10.0
    )


@pytest.mark.parametrize(
    ("held_dps", "held_s", "after_dps", "n_found"),
    [
        (400.0, 0.40, 0.0, 1),
        (-400.0, 0.40, 0.0, 1),
        (400.0, 0.20, 0.0, 0),  # not held long enough
        (400.0, 0.40, 150.0, 0),  # slows down, does not stop
        (100.0, 0.40, 0.0, 0),  # too slow to be a snap
    ],
)
def test_a_snap_stop_is_a_held_fast_rate_that_ends(held_dps: float, held_s: float, after_dps: float, n_found: int) -> None:
    setpoint = np.concatenate((seconds(0, 1), seconds(held_dps, held_s), seconds(after_dps, 2)))
    found = snap_stops(log(setpoint__roll=setpoint), "roll")
    assert len(found) == n_found
    if found:
        assert found[0].start_s == pytest.approx(11 + held_s, abs=1 / RATE_HZ)
        assert (found[0].kind, found[0].axis) == ("snap_stop", "roll")


def test_without_a_set_point_there_are_no_snap_stops() -> None:
    assert snap_stops(log(throttle=seconds(0.3, 3)), "roll") == ()


@pytest.mark.parametrize(
    ("throttle", "length_s", "stick_dps", "n_found"),
    [
        (0.20, 2.0, 0.0, 1),
        (0.20, 1.0, 0.0, 0),  # too short
        (0.20, 2.0, 90.0, 0),  # with stick movement
        (0.29, 2.0, 0.0, 0),  # hardly below hover
        (0.05, 2.0, 0.0, 0),  # a float, not a descent under power
    ],
)
def test_a_wash_descent_is_flat_low_throttle_with_still_sticks(
    throttle: float, length_s: float, stick_dps: float, n_found: int
) -> None:
    trace = np.concatenate((seconds(0.31, 6), seconds(throttle, length_s), seconds(0.31, 3)))
    setpoint = np.concatenate((seconds(0, 6), seconds(stick_dps, length_s), seconds(0, 3)))
    found = wash_descents(log(throttle=trace, setpoint__pitch=setpoint))
    assert len(found) == n_found
    if found:
        assert (found[0].start_s, found[0].end_s) == pytest.approx((16.0, 16.0 + length_s), abs=2 / RATE_HZ)


def test_a_falling_throttle_is_no_flat_descent() -> None:
    trace = np.concatenate((seconds(0.31, 6), np.linspace(0.23, 0.11, round(2 * RATE_HZ)), seconds(0.31, 3)))
    assert wash_descents(log(throttle=trace)) == ()
    assert wash_descents(log(gyro__roll=trace)) == ()


@pytest.mark.parametrize("hover", [0.21, 0.33, 0.47])
def test_hover_is_the_throttle_flown_most(hover: float) -> None:
    trace = np.concatenate((seconds(0.0, 5), seconds(hover, 4), seconds(0.9, 2)))
    assert hover_throttle(trace) == pytest.approx(hover, abs=0.02)
    assert hover_throttle(np.zeros(10)) == 0.0


def _truth(card: Card, sticks: Sticks) -> list[Span]:
    """What the scripted pilot flew. Ends of punches and ramps are chops, stillness between doublets is hover."""
    found = []
    for step, (start_s, end_s) in zip(card.manoeuvres, sticks.steps_s, strict=True):
        parts = {
            "punch": [("punch", 0.0, 0.0), ("chop", 0.0, 0.0)],
            "full_throttle": [("full_throttle", 0.0, 0.0), ("punch", 0.0, 0.0), ("chop", 0.0, 0.0)],
            "chop": [("punch", -0.6, 0.0), ("chop", 0.0, 0.0)],
        }.get(step.kind, [(step.kind, 0.0, 0.0)])
        found += [Span(kind=kind, axis=step.axis, start_s=start_s + a, end_s=end_s + b) for kind, a, b in parts]
    return found


def test_the_manoeuvres_of_every_card_are_found_and_few_others() -> None:
    """Recall 0.97, precision 0.95 (doublets 0.9) over random pilots and cards; starting limits, common practice, no source."""
    n_true, n_hit, n_false, n_found = 0, 0, 0, 0
    rates = controller()
    for seed in range(100, 108):
        for card in CARDS:
            rng = np.random.default_rng(seed)
            sticks = fly_card(card, hover_throttle=rng.uniform(0.25, 0.5), loop_rate_hz=500.0, rng=rng)
            channels = {
                f"setpoint.{axis}": np.round(set_point(sticks.stick[k], rates, axis, 500.0), 1) for k, axis in enumerate(AXES)
            }
            recording = Recording.of({**channels, "throttle": np.round(sticks.throttle, 3)}, sample_rate_hz=500.0)
            found = [span for span in manoeuvres(recording) if span.kind != "ground"]
            truth = _truth(card, sticks)
            also = [span for span in truth if span.kind in ("doublet", "sweep")]
            for true in truth:
                n_true += 1
                n_hit += any(_same(span, true) for span in found)
            for span in found:
                is_real = any(_same(span, true) for true in truth)
                is_rest = span.kind in ("hover", "chop") and any(true.overlap_s(span) > -1.0 for true in also)
                n_found += not is_rest
                n_false += not is_real and not is_rest
    assert n_hit / n_true >= 0.97
    assert 1 - n_false / n_found >= 0.95


def _same(span: Span, true: Span) -> bool:
    shorter_s = min(span.end_s - span.start_s, true.end_s - true.start_s)
    return span.kind == true.kind and span.axis == true.axis and span.overlap_s(true) > 0.4 * shorter_s


@pytest.mark.parametrize(
    ("power", "flights", "window_s"),
    [
        ([(0, 1), (0.4, 10), (0, 1)], 1, (2.5, 10.0)),
        ([(0, 1), (0.4, 5), (0, 1), (0.4, 5), (0, 1)], 1, (2.5, 11.0)),  # a float in the air stays inside
        ([(0, 1), (0.4, 5), (0, 5), (0.4, 8), (0, 1)], 2, (12.5, 18.0)),  # landed in between: the longer flight
        ([(0, 1), (0.4, 10), (0, 0.4), (0.3, 0.3), (0, 1)], 1, (2.5, 10.0)),  # a bounce does not count
        ([(0, 5)], 1, (0.0, 5.0)),  # nothing was flown
    ],
)
def test_phases_part_ground_from_flight(power: list[tuple[float, float]], flights: int, window_s: tuple[float, float]) -> None:
    throttle = np.concatenate([seconds(value, length_s) for value, length_s in power])
    recording = Recording.of({"throttle": throttle}, sample_rate_hz=RATE_HZ)
    found = phases_of(recording)
    assert len(found.flights_s) == flights
    assert usable_window_s(recording) == pytest.approx(window_s, abs=0.01)


def test_a_jolt_near_the_end_is_the_touch_down() -> None:
    throttle = np.concatenate((seconds(0, 1), seconds(0.4, 10), seconds(0, 1)))
    accel = np.full(throttle.size, 9.8)
    accel[round(9.0 * RATE_HZ)] = 60.0
    channels = {"throttle": throttle, "accel.x": 0 * accel, "accel.y": 0 * accel, "accel.z": accel}
    assert usable_window_s(Recording.of(channels, sample_rate_hz=RATE_HZ))[1] == pytest.approx(8.9)


def test_motors_or_a_shaking_gyro_stand_in_for_the_throttle() -> None:
    throttle = np.concatenate((seconds(0, 2), seconds(0.4, 10), seconds(0, 2)))
    motors = {f"motor.{k}": 0.05 + 0.9 * throttle for k in range(1, 5)}
    assert usable_window_s(Recording.of(motors, sample_rate_hz=RATE_HZ)) == pytest.approx((3.5, 11.0), abs=0.05)
    gyro = np.random.default_rng(1).normal(0, 1, throttle.size) * (0.05 + 20 * (throttle > 0))
    found = phases_of(Recording.of({"gyro.roll": gyro}, sample_rate_hz=RATE_HZ))
    assert found.rests_on == "how much the gyro shakes"
    assert found.windows_s[0] == pytest.approx((3.5, 11.0), abs=0.6)


def test_a_throttle_that_contradicts_the_motors_is_doubted_and_not_used() -> None:
    n = round(60 * RATE_HZ)
    flying = (np.arange(n) > 2 * RATE_HZ) & (np.arange(n) < 57 * RATE_HZ)
    current = np.where(np.arange(n) % n < 5 * RATE_HZ, 0.3, 0.0)  # a current that was taken for the throttle
    channels = {"throttle": current, **{f"motor.{k}": np.where(flying, 0.4, 0.0) for k in range(1, 5)}}
    found = phases_of(Recording.of(channels, sample_rate_hz=RATE_HZ))
    assert found.windows_s[0] == pytest.approx((3.5, 56.0), abs=0.1)
    assert "Check the meaning of the throttle column" in found.doubt
    notes = window_notes(Recording.of(channels, sample_rate_hz=RATE_HZ))
    assert [note.code for note in notes] == ["window_doubt"]
    right = {**channels, "throttle": np.where(flying, 0.35, 0.0)}
    assert window_notes(Recording.of(right, sample_rate_hz=RATE_HZ)) == ()


@pytest.mark.parametrize(("start_s", "end_s"), [(-5.0, -1.0), (4.0, 9.0), (900.0, 901.0)])
def test_manoeuvres_beyond_a_window_index_nothing(start_s: float, end_s: float) -> None:
    part = Recording.of({"setpoint.roll": np.ones(2000), "gyro.roll": np.zeros(2000)}, sample_rate_hz=RATE_HZ)
    span = Span(kind="snap_stop", axis="roll", start_s=start_s, end_s=end_s)
    assert bounce_back_dps(part, "roll", [span]) is None
    assert 0 <= span.places(part).start <= span.places(part).stop <= 2000
