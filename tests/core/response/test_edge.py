"""How near the edge: zones, what is said of them, and when nothing should be moved."""

from dataclasses import replace

import pytest

from nembrit.core.response.edge import Room, headline, room_of
from nembrit.core.response.estimate import Estimate
from nembrit.core.tuning.best import best_gains, best_term, left_open, limits_for
from tests.core.tuning.trying import BASE, bench


def room(axis: str, value: float, half: float = 0.01, *, lively_at: str = "") -> Room:
    return Room(
        axis=axis,
        value=value,
        low=value - half,
        high=min(1.0, value + half),
        swing_hz=21.0,
        is_rough=half > 0.1,
        lively_at=lively_at,
    )


@pytest.mark.parametrize(
    ("rooms", "says"),
    [
        ([], "Stability margin unknown"),
        ([room("roll", 0.49), room("pitch", 0.9)], "close to oscillation, at 21 Hz"),
        ([room("roll", 0.52), room("pitch", 0.9)], "Roll is under-damped"),
        ([room("roll", 0.54, 0.07)], "Roll is under-damped, and its margin may be too low"),
        ([room("roll", 0.63), room("pitch", 0.9)], "Every axis has a good stability margin"),
        ([room("roll", 0.7, lively_at="high")], "Every axis has a good stability margin"),
        ([room("roll", 0.6, 0.2)], "stability margin is uncertain: low"),
        ([room("roll", 0.45, 0.25)], "Roll is close to oscillation"),  # open, and most likely too near
        ([room("roll", 0.3, 0.12)], "Roll is close to oscillation"),  # rough, and surely too near
        ([room("roll", 0.85, 0.15)], "Every axis has a good stability margin"),  # rough, and surely sound
    ],
)
def test_what_is_said_of_the_edge(rooms: list[Room], says: str) -> None:
    assert says in headline(rooms, is_whole=True)


def test_axes_that_could_not_be_told_are_not_called_safe() -> None:
    assert "has the lowest margin of the axes" in headline([room("yaw", 0.9)], is_whole=False)


def test_the_room_is_the_sensitivity_peak_turned_round() -> None:
    own = bench().loop.axes["roll"]
    found = room_of("roll", own)
    assert (found.value, found.low, found.high) == pytest.approx(
        (1 / own.sensitivity_peak.value, 1 / own.sensitivity_peak.high, 1 / own.sensitivity_peak.low)
    )
    lively = [
        replace(
            part, sensitivity_peak=Estimate(value=1.8, low=1.61, high=2.0) if part.gain.part == "high" else part.sensitivity_peak
        )
        for part in own.by_throttle
    ]
    assert {part.gain.part for part in lively} >= {"high"}
    assert room_of("roll", replace(own, by_throttle=tuple(lively))).lively_at == "high"
    assert found.lively_at == ""


@pytest.mark.parametrize(
    ("peak", "is_open"),
    [
        (Estimate(value=1.6, low=1.1, high=2.1), True),
        (Estimate(value=1.6, low=1.45, high=1.75), False),  # sure enough to be told
        (Estimate(value=2.1, low=1.2, high=3.0), False),  # most likely too near: led back
        (Estimate(value=2.2, low=1.61, high=2.8), False),  # rough, and surely beyond
        (Estimate(value=1.3, low=1.02, high=1.58), False),  # rough, and surely within
    ],
)
def test_gains_stay_as_flown_where_the_flight_leaves_the_peak_open(peak: Estimate, is_open: bool) -> None:
    own, limits = replace(bench().loop.axes["roll"], sensitivity_peak=peak), limits_for("usual", 5.0)
    assert bool(left_open(own, limits)) == is_open
    found = best_gains(own, "roll", limits, motor_ratio=lambda p, d: 1.0, flown=BASE)
    term = best_term(own, "roll", "i", limits, flown=BASE)
    assert bool(found.left_open) == bool(term.left_open) == is_open
    if is_open:
        assert (found.p, found.d, found.is_change, term.ratio, term.is_change) == (1.0, 1.0, False, 1.0, False)
        assert "1.1 to 2.1" in found.left_open
    if peak.low > limits.sensitivity_peak:
        assert found.breaks
        assert found.is_change
