"""The frequency of a resonance, from densities drawn by their own law: exponential about a known shape."""

import numpy as np
import pytest

from nembrit.core.noise.resonance import resonance_near

FREQUENCY_HZ = np.arange(257) * 3.90625


def shape(centre_hz: float, height: float, half_width_hz: float) -> np.ndarray:
    """Density of a driven resonance over a flat floor (velocity of one degree of freedom: any text on vibration)."""
    ratio = np.maximum(FREQUENCY_HZ, 1.0) / centre_hz
    return 1 + height / (1 + (centre_hz * (ratio - 1 / ratio) / 2 / half_width_hz) ** 2)


def frames(seed: int, density: np.ndarray, n: int = 400, loudness: np.ndarray | None = None) -> np.ndarray:
    loud = np.ones(n) if loudness is None else loudness
    return np.random.default_rng(seed).exponential(1.0, (n, FREQUENCY_HZ.size)) * density * loud[:, None]


@pytest.mark.parametrize("half_width_hz", [4.0, 6.0, 9.0])
@pytest.mark.parametrize("height", [1.0, 4.0])
@pytest.mark.parametrize("centre_hz", [128.3, 182.0, 305.7])
def test_intervals_hold_the_true_frequency(centre_hz: float, height: float, half_width_hz: float) -> None:
    nothing = np.zeros((400, FREQUENCY_HZ.size), bool)
    held, errors = 0, []
    for seed in range(20):
        found = resonance_near(frames(seed, shape(centre_hz, height, half_width_hz)), nothing, FREQUENCY_HZ, centre_hz + 1.5)
        assert found
        held += abs(found.frequency_hz - centre_hz) <= found.error_hz
        errors.append(found.frequency_hz - centre_hz)
    assert held >= 17  # of twenty; 95 % are stated
    assert abs(np.mean(errors)) < 0.25 + 0.1 * half_width_hz / height


def test_a_line_that_sweeps_through_loud_frames_does_not_bend_the_peak() -> None:
    """The lower half of the resonance is masked while the craft is loud, so plain means put the peak far too high."""
    centre_hz, loudness = 182.0, np.where(np.arange(400) < 200, 30.0, 1.0)
    power = frames(3, shape(centre_hz, 3.0, 6.0), loudness=loudness)
    mask = np.zeros(power.shape, bool)
    mask[:200, (FREQUENCY_HZ > 140) & (FREQUENCY_HZ < 184)] = True
    near = np.abs(FREQUENCY_HZ - centre_hz) < 20
    plain = np.nanmean(np.where(mask, np.nan, power), axis=0)
    assert FREQUENCY_HZ[near][np.argmax(plain[near])] > centre_hz + 3
    found = resonance_near(power, mask, FREQUENCY_HZ, centre_hz)
    assert found
    assert abs(found.frequency_hz - centre_hz) <= min(found.error_hz, 1.5)


def test_an_interval_narrows_with_the_flight() -> None:
    density = shape(200.0, 2.0, 6.0)
    widths = []
    for n in (60, 240, 960):
        nothing = np.zeros((n, FREQUENCY_HZ.size), bool)
        found = resonance_near(frames(7, density, n), nothing, FREQUENCY_HZ, 200.0)
        assert found
        widths.append(found.error_hz)
    assert widths == sorted(widths, reverse=True)


@pytest.mark.parametrize("case", ["all masked", "beyond the log", "silent"])
def test_what_cannot_be_fitted_is_not(case: str) -> None:
    power = frames(1, np.ones(FREQUENCY_HZ.size)) * (0 if case == "silent" else 1)
    mask = np.full(power.shape, case == "all masked")
    assert resonance_near(power, mask, FREQUENCY_HZ, 2000.0 if case == "beyond the log" else 200.0) is None
