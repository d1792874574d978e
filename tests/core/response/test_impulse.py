"""What a prior does to an impulse response, and what rounds of regularisation undo of it."""

import numpy as np
import pytest
import scipy.signal

from nembrit.core.response.impulse import _problem

RATE_HZ, N_TAPS = 250.0, 100


def answered(gain: float, late: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A slow stick, what a lag of 30 ms with a delay makes of it without any noise, and the true impulse response."""
    pole = np.exp(-1 / (RATE_HZ * 0.03))
    stick = 60 * scipy.signal.lfilter(*scipy.signal.butter(2, 4, fs=RATE_HZ), np.random.default_rng(7).normal(size=3000))
    ahead = np.append(np.zeros(late), gain * (1 - pole))
    pulse = np.zeros(N_TAPS)
    pulse[0] = 1.0
    return stick, *(np.asarray(scipy.signal.lfilter(ahead, [1, -pole], one)) for one in (stick, pulse))


@pytest.mark.parametrize(("gain", "late"), [(1.0, 2), (1.0, 8), (0.3, 8), (3.0, 4)])
def test_rounds_undo_what_the_prior_took(gain: float, late: int) -> None:
    # without noise the whole difference is the prior's: a prior as tight as a noisy flight would choose it
    stick, answer, true = answered(gain, late)
    problem = _problem(stick, answer, np.ones(stick.size, bool), N_TAPS)
    at_hz = np.array([1.0, 2.0, 4.0])
    turn = np.exp(-2j * np.pi * at_hz[:, None] * np.arange(N_TAPS) / RATE_HZ)
    off = [np.abs(np.log((turn @ problem.solve(0.95, 1e-5 * gain**2, times=times)) / (turn @ true))) for times in (1, 3)]
    assert off[0].max() > 0.009
    assert off[1].sum() < 0.95 * off[0].sum(), off
