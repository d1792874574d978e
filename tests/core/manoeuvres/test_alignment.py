"""Logs of one flight lined up, and manoeuvres of two flights."""

import numpy as np
import pytest

from nembrit.core.errors import NotEnoughData
from nembrit.core.manoeuvres.alignment import align, align_manoeuvres
from nembrit.core.manoeuvres.detect import manoeuvres
from nembrit.core.records.log import Recording
from tests.flying import flown

ROLES = ["throttle", *(f"stick.{axis}" for axis in ("roll", "pitch", "yaw"))]


def first(seed: int = 1) -> Recording:
    return Recording.of({role: flown(seed).channels[role] for role in ROLES}, sample_rate_hz=2000.0)


def other(rate_hz: float, offset_s: float, skew_ppm: float, seed: int = 1) -> Recording:
    """What a second recorder with its own clock wrote of the same sticks."""
    own_s = np.arange(int(28 * rate_hz)) / rate_hz
    page_s = own_s * (1 + skew_ppm * 1e-6) + offset_s
    own_s, page_s = own_s[(page_s > 0) & (page_s < 29.9)], page_s[(page_s > 0) & (page_s < 29.9)]
    flight = flown(seed)
    channels = {role: np.round(np.interp(page_s, flight.t_s, flight.channels[role]), 3) for role in ROLES}
    return Recording.of(channels, sample_rate_hz=rate_hz, start_s=float(own_s[0]))


@pytest.mark.parametrize(
    ("rate_hz", "offset_s", "skew_ppm", "within_s"),
    [  # acceptance: 0.1 ms from 500 Hz on, 0.5 ms at 50 to 100 Hz (methods.md, section 9: own prototype, no source)
        (1000.0, 3.2345, 40.0, 1e-4), (500.0, -1.7, -150.0, 1e-4), (100.0, 7.34567, 80.0, 5e-4), (50.0, 0.4, 20.0, 5e-4),
    ],
)  # fmt: skip
@pytest.mark.parametrize("seed", [1, 5])
def test_offset_and_skew_of_a_second_recorder_are_found(
    rate_hz: float, offset_s: float, skew_ppm: float, within_s: float, seed: int
) -> None:
    found = align(first(seed), other(rate_hz, offset_s, skew_ppm, seed))
    for own_s in (5.0, 14.0, 20.0):
        assert found.to_first(own_s) == pytest.approx(own_s * (1 + skew_ppm * 1e-6) + offset_s, abs=within_s)
    assert found.correlation > 0.98
    assert found.certainty_ratio > 0.5
    low_s, high_s = found.offset_interval_s
    assert low_s <= found.offset_s <= high_s


def test_the_faster_log_may_be_either() -> None:
    slow, fast = other(100.0, 2.0, 50.0), first()
    there, back = align(fast, slow), align(slow, fast)
    assert back.to_first(there.to_first(10.0)) == pytest.approx(10.0, abs=2e-5)


def test_another_flight_does_not_look_like_the_same_one() -> None:
    assert align(first(1), other(100.0, 0.0, 0.0, seed=5)).correlation < 0.9


@pytest.mark.parametrize(
    ("second", "message"),
    [
        (Recording.of({"altitude": np.arange(3000.0)}, sample_rate_hz=100.0), "the two logs share no moving channel"),
        (Recording.of({"throttle": np.zeros(3000)}, sample_rate_hz=100.0), "the two logs share no moving channel"),
        (Recording.of({"throttle": np.sin(np.arange(300.0))}, sample_rate_hz=100.0), "needs 10 s in both logs"),
    ],
)
def test_without_enough_in_common_it_says_why(second: Recording, message: str) -> None:
    with pytest.raises(NotEnoughData, match=message):
        align(first(), second)


def test_manoeuvres_of_two_flights_of_a_card_are_paired_in_order() -> None:
    logs = [Recording.of(flown(seed).channels, sample_rate_hz=2000.0) for seed in (1, 5)]
    pairs = align_manoeuvres(logs[0], manoeuvres(logs[0]), logs[1], manoeuvres(logs[1]))
    stops = [pair for pair in pairs if pair.first.kind == "snap_stop"]
    assert [pair.first.axis for pair in stops] == ["roll", "roll", "pitch", "pitch", "yaw", "yaw"]
    for pair in stops:
        assert pair.correlation > 0.85
        # both stops come to rest at the same moment once laid over each other
        assert pair.first.start_s == pytest.approx(pair.other.start_s + pair.lag_s, abs=0.12)
