"""Live noise of a source that sends its gyro 100 times a second or faster: level by band, and a sustained oscillation."""

from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from scipy import signal

from nembrit.core.types import FloatArray

Value = float | str
LEAST_RATE_HZ = 100.0
AXES = ("roll", "pitch", "yaw")
_WINDOW_S, _EVERY_S = 2.0, 0.5
_EDGES_HZ = (5.0, 20.0, 50.0, 100.0, 200.0, 400.0, 800.0)
_NYQUIST_SHARE = 0.45  # of the rate: nearer to half of it the sender's own filter decides
_MOST_UNEVEN_RATIO = 0.5  # a step this much longer than the usual one is a loss
_MOST_LOST_RATIO = 0.03
_LINE_SHARE = 0.6  # of the power above 5 Hz within one line: an oscillation, not noise (common practice, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class LiveNoise:
    """One axis over the last two seconds."""

    axis: str
    bands: tuple[tuple[float, float, float], ...]  # from [Hz], to [Hz], RMS [deg/s]
    line_hz: float | None  # where one line dominates
    line_dps: float  # its RMS; 0 where none dominates


@dataclass(slots=True)
class Shake:
    """Keeps two seconds of gyro; `noise` is renewed twice a second and empty where the rate does not allow it."""

    noise: tuple[LiveNoise, ...] = ()
    _rows: deque[tuple[float, ...]] = field(default_factory=deque)
    _judged_s: float = -1e9

    def feed(self, now_s: float, values: Mapping[str, Value]) -> None:
        """Take a row; `time` is the sender's own clock, better than `now_s` where there is one."""
        gyro = [values.get(f"gyro.{axis}") for axis in AXES]
        if not any(isinstance(value, float) for value in gyro):
            return
        sent = values.get("time")
        at_s = sent if isinstance(sent, float) else now_s
        if self._rows and not 0 <= at_s - self._rows[-1][0] < _WINDOW_S:
            self._rows.clear()
        self._rows.append((at_s, *(value if isinstance(value, float) else np.nan for value in gyro)))
        while at_s - self._rows[0][0] > _WINDOW_S:
            self._rows.popleft()
        if now_s - self._judged_s >= _EVERY_S:
            self._judged_s = now_s
            self.noise = noise_of(np.array(self._rows))

    @property
    def line_dps(self) -> float:
        """The strongest sustained line of any axis [deg/s RMS]."""
        return max((one.line_dps for one in self.noise), default=0.0)


def noise_of(rows: FloatArray) -> tuple[LiveNoise, ...]:
    """Bands of each axis; `rows` (n, 4): time [s], roll, pitch, yaw [deg/s]. Empty below 100 Hz, for under 1.5 s, or with losses.

    Hann-windowed periodogram; a band's RMS is the root of its summed power. Error: with 2 s some 10 to 20 % in the lowest band.
    """
    if len(rows) < 0.75 * _WINDOW_S * LEAST_RATE_HZ:
        return ()
    steps = np.diff(rows[:, 0])
    usual = float(np.mean(steps))
    if usual <= 0 or 1 / usual < LEAST_RATE_HZ * 0.95:
        return ()
    typical = float(np.median(steps))
    if typical > 0 and float(np.mean(steps > typical * (1 + _MOST_UNEVEN_RATIO))) > _MOST_LOST_RATIO:
        return ()
    return tuple(_axis(axis, rows[:, k + 1], 1 / usual) for k, axis in enumerate(AXES) if np.isfinite(rows[:, k + 1]).all())


def _axis(axis: str, gyro_dps: FloatArray, rate_hz: float) -> LiveNoise:
    frequency_hz, psd = signal.periodogram(gyro_dps, rate_hz, window="hann", detrend="linear")
    power, top_hz = psd * (frequency_hz[1] - frequency_hz[0]), _NYQUIST_SHARE * rate_hz
    edges = [*(edge for edge in _EDGES_HZ if edge < top_hz * 0.95), top_hz]
    bands = tuple(
        (low, high, float(np.sqrt(power[(frequency_hz >= low) & (frequency_hz < high)].sum()))) for low, high in pairwise(edges)
    )
    heard = np.where((frequency_hz >= edges[0]) & (frequency_hz < top_hz), power, 0.0)
    peak = int(heard.argmax())
    line = float(heard[max(0, peak - 2) : peak + 3].sum())
    if heard.sum() <= 0 or line < _LINE_SHARE * heard.sum():
        return LiveNoise(axis=axis, bands=bands, line_hz=None, line_dps=0.0)
    return LiveNoise(axis=axis, bands=bands, line_hz=float(frequency_hz[peak]), line_dps=float(np.sqrt(line)))
