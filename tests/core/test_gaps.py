"""Gaps: short ones bridged by what the channel itself predicts, long ones left, nothing invented for an analysis to judge."""

import numpy as np
import pytest
import scipy.signal

from nembrit.core.gaps import bridged, filled, short_gaps
from nembrit.core.records.log import Stream, channel
from nembrit.core.records.timebase import clock_notes, clock_of, uniform
from nembrit.core.types import FloatArray

RATE_HZ = 1000.0


def shaking(n: int = 20_000) -> FloatArray:
    """Slow movement with a strong line at 180 Hz and noise of the gyro's own."""
    t_s = np.arange(n) / RATE_HZ
    noise = np.random.default_rng(2).normal(0, 0.3, n)
    return np.asarray(80 * np.sin(2 * np.pi * 1.3 * t_s) + 10 * np.sin(2 * np.pi * 180 * t_s) + noise)


@pytest.mark.parametrize(("length", "most_dps"), [(1, 0.8), (2, 1.0), (5, 1.6)])
def test_a_short_gap_is_bridged_better_than_by_a_straight_line(length: int, most_dps: float) -> None:
    whole = shaking()
    holed = whole.copy()
    for start in range(500, 19_000, 211):
        holed[start : start + length] = np.nan
    short = short_gaps(holed, most=5)
    error = (bridged(holed, short, is_noisy=True) - whole)[short]
    by_line = (bridged(holed, short, is_noisy=False) - whole)[short]
    assert np.sqrt(np.mean(error**2)) < most_dps
    assert np.sqrt(np.mean(error**2)) < 0.25 * np.sqrt(np.mean(by_line**2))


def test_the_spectrum_of_a_bridged_channel_is_that_of_the_whole_one() -> None:
    whole = shaking(60_000)
    holed = whole.copy()
    holed[np.random.default_rng(5).random(whole.size) < 0.01] = np.nan
    found = bridged(holed, short_gaps(holed, most=5), is_noisy=True)
    was, becomes = (scipy.signal.welch(values, RATE_HZ, nperseg=500)[1] for values in (whole, filled(found)))
    assert np.median(np.abs(10 * np.log10(becomes / was))) < 0.3


def stream(kept: np.ndarray, jitter_s: float = 0.0) -> Stream:
    t_s = np.arange(kept.size) / RATE_HZ
    late = np.random.default_rng(1).normal(0, 1, kept.size) * jitter_s
    values = shaking(kept.size)
    channels = tuple(channel(role, values[kept]) for role in ("gyro.roll", "setpoint.roll", "heading"))
    return Stream(t_s=np.sort(t_s + late)[kept], channels=channels, table=0)


@pytest.mark.parametrize("jitter_s", [0.0, 0.00015])
def test_lost_rows_are_found_whatever_the_stamps_jitter(jitter_s: float) -> None:
    kept = np.random.default_rng(3).random(20_000) > 0.01
    kept[[0, -1]] = True
    found = uniform(stream(kept, jitter_s))
    assert found.n_samples == pytest.approx(20_000, abs=8 if jitter_s else 0)
    assert found.sample_rate_hz == pytest.approx(RATE_HZ, rel=1e-4)
    if not jitter_s:
        assert (~found.is_recorded("gyro.roll")).tolist() == (~kept).tolist()


def test_long_gaps_stay_gaps_and_short_ones_are_told_apart() -> None:
    kept = np.ones(20_000, bool)
    kept[5000:5004] = False
    kept[9000:9200] = False
    given = stream(kept)
    found = uniform(given)
    assert np.isfinite(found.channels["gyro.roll"][5000:5004]).all()
    assert np.isnan(found.channels["gyro.roll"][9000:9200]).all()
    assert found.channels["heading"][5002] == found.channels["heading"][4999], "an angle that goes round is held, not drawn"
    assert found.bridged["gyro.roll"].sum() == 4
    assert found.span(8.0, 9.0).bridged == {}
    codes = [note.code for note in clock_notes(clock_of(given.t_s))]
    assert codes == ["gap", "short_gaps"]


def test_what_was_never_recorded_is_nought_and_rows_of_channels_are_filled_one_by_one() -> None:
    assert filled(np.full(3, np.nan)).tolist() == [0.0, 0.0, 0.0]
    rows = np.array([[1.0, np.nan, 3.0], [np.nan, 5.0, np.nan]])
    assert filled(rows).tolist() == [[1.0, 2.0, 3.0], [5.0, 5.0, 5.0]]
