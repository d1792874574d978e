"""How near the edge a loop is: gain margin, phase margin, sensitivity peak, from its sampled open-loop response."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.types import ComplexArray, FloatArray

MOST_GAIN_MARGIN_DB = 20.0  # beyond this only that it is larger can be said


@dataclass(frozen=True, slots=True, kw_only=True)
class Margins:
    """Of one loop; what the response's frequencies do not reach is None."""

    gain_margin_db: float | None  # None: the phase never turns round within the frequencies given
    phase_margin_deg: float | None
    sensitivity_peak: float
    crossover_hz: float | None  # where the phase margin is read
    turning_hz: float | None  # where the gain margin is read
    peak_hz: float  # of the sensitivity: where a loop that goes too far swings


def margins(frequency_hz: FloatArray, loop: ComplexArray) -> Margins:
    """Margins of a sampled open loop L, frequencies rising.

    The phase margin is the least of all crossings of |L| = 1; the gain margin the least above 1 of all crossings of
    −180°, both between samples by straight lines in log frequency; the sensitivity peak is max |1 / (1 + L)| with a
    parabola through its sample's neighbours. K. J. Åström & R. M. Murray, Feedback Systems (2008), chapter 9.

    >>> w = np.geomspace(0.01, 100, 4000)
    >>> s = 1j * w
    >>> found = margins(w / (2 * np.pi), 4 / (s + 1) ** 3)  # gain margin 2, phase margin 27.14°, Ms 3
    >>> round(found.gain_margin_db, 2), round(found.phase_margin_deg, 2), round(found.sensitivity_peak, 2)
    (6.02, 27.14, 3.0)
    """
    log_f = np.log(frequency_hz)
    log_size = np.log(np.maximum(np.abs(loop), 1e-300))
    phase = np.unwrap(np.angle(loop))
    phase += 2 * np.pi * np.round((-np.pi / 2 - phase[0]) / (2 * np.pi))  # begins near an integrator's −90°
    crossings = _crossings(log_size)
    leads = [(float(np.pi + _between(phase, k, share)), k, share) for k, share in crossings]
    nearest = min(leads, key=lambda one: abs(one[0]), default=None)
    turns = [(float(-_between(log_size, k, share)), k, share) for k, share in _crossings(phase + np.pi)]
    above = min((one for one in turns if one[0] > 0), default=None)
    sensitivity = 1 / np.abs(1 + loop)
    top = int(sensitivity.argmax())
    return Margins(
        gain_margin_db=None if above is None else above[0] * 20 / float(np.log(10)),
        phase_margin_deg=None if nearest is None else float(np.degrees(nearest[0])),
        sensitivity_peak=_peak(sensitivity, top),
        crossover_hz=None if nearest is None else float(np.exp(_between(log_f, nearest[1], nearest[2]))),
        turning_hz=None if above is None else float(np.exp(_between(log_f, above[1], above[2]))),
        peak_hz=float(frequency_hz[top]),
    )


def _crossings(values: FloatArray) -> list[tuple[int, float]]:
    """Where values change their sign: the sample before, and how far towards the next."""
    at = np.flatnonzero((values[:-1] >= 0) != (values[1:] >= 0))
    return [(int(k), float(values[k] / (values[k] - values[k + 1]))) for k in at]


def _between(values: FloatArray, k: int, share: float) -> float:
    return float(values[k] + share * (values[k + 1] - values[k]))


def _peak(values: FloatArray, top: int) -> float:
    if not 0 < top < values.size - 1:
        return float(values[top])
    before, here, after = values[top - 1 : top + 2]
    bend = before - 2 * here + after
    return float(here if bend >= 0 else here - (after - before) ** 2 / (8 * bend))
