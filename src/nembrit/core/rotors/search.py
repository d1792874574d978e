"""How fast the motors turn, found from the lines that move with their commands."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.spectra.frames import Frames
from nembrit.core.spectra.levels import folded, whitened
from nembrit.core.types import FloatArray

# all numbers are starting values of our own trials on simulated craft, no source
_ORDERS = ((1, 1.0), (2, 0.4), (3, 0.4), (4, 0.4))  # order and its say; the first tells a turn from a blade
_EXPONENTS = (0.65, 0.8, 1.0)
_LEAST_EXPONENT, _MOST_EXPONENT = 0.5, 1.2
_FULL_HZ = np.geomspace(50.0, 900.0, 240)  # turns a second at full command
_OWN_MOTION_HZ = 40.0
_IDLE = 0.08
_LEAST_TRAVEL = 0.1  # of the mean command: a throttle that never moves cannot tell moving lines from fixed ones
_SAME = 0.12  # speeds within 12 % are one answer
_COARSE_FRAMES, _FINE_FRAMES = 300, 600
_LEAST_LEVEL, _SURE_LEVEL, _LEAD = 0.15, 0.22, 1.1


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeedLaw:
    """Turns a second = full_hz × command^exponent × voltage / median voltage."""

    full_hz: float
    exponent: float
    level: float  # mean natural log of power by which the orders stand out


def speed_law(frames: Frames) -> SpeedLaw | None:
    """Find the law by which motor commands make moving lines; None where no law stands out, or two do.

    Every motor's own command is turned into its speed, and the level at its orders 1 to 4, folded at half the log
    rate, is averaged over motors, gyro axes and accelerometer axes. A coarse search weighs frames by how rare their
    throttle is, so that a fixed line at hover cannot pass for a moving one; the best law of each exponent is then
    refined on all frames with the level read between bins.

    Returns
    -------
    SpeedLaw or None
        None if the level stays below 0.15, or below 0.22 while another speed does within a tenth as well.

    Notes
    -----
    Source of order tracking: Brandt, Noise and Vibration Analysis. How right it is: `docs/accuracy.md`.
    """
    if frames.motors is None:
        return None
    mean = frames.motors.mean(axis=1)
    turning = mean > _IDLE
    if not turning.any() or float(np.ptp(mean[turning])) < _LEAST_TRAVEL:
        return None
    volts = relative_volts(frames)
    search = _Search(
        level=_moving_level(frames), commands=np.maximum(frames.motors, 0), volts=volts, bin_hz=frames.bin_hz,
        sample_rate_hz=frames.sample_rate_hz,
    )  # fmt: skip
    usual = float(np.median(mean[turning]))
    return _found(search, _rarity(mean), np.where(mean > 1.5 * _IDLE, 1.0, 0.0), usual)


def _found(search: "_Search", rarity: FloatArray, plain: FloatArray, usual: float) -> SpeedLaw | None:
    n_coarse, n_fine = max(4, rarity.size // _COARSE_FRAMES), max(2, rarity.size // _FINE_FRAMES)
    coarse, fine = search.every(n_coarse), search.every(n_fine)
    tried = [
        (coarse.score(float(full_hz), exponent, rarity[::n_coarse]), float(full_hz), exponent)
        for exponent in _EXPONENTS
        for full_hz in _FULL_HZ
    ]

    def apart(law: tuple[float, float, float]) -> float:
        return abs(float(np.log(law[1] * usual ** law[2] / (best[1] * usual ** best[2]))))

    best = max(tried)
    rival = max(law[0] for law in tried if apart(law) > _SAME)
    near = [[law for law in tried if law[2] == exponent and apart(law) <= _SAME] for exponent in _EXPONENTS]
    level, full_hz, exponent = max(_refined(fine, max(laws), plain[::n_fine], usual) for laws in near if laws)
    if level < _LEAST_LEVEL or (level < _SURE_LEVEL and best[0] < _LEAD * rival):
        return None
    return SpeedLaw(full_hz=full_hz, exponent=exponent, level=level)


def _refined(
    search: "_Search", start: tuple[float, float, float], weight: FloatArray, usual: float
) -> tuple[float, float, float]:
    """Level, full speed and exponent of the best law near a start: a grid that narrows, turned about the usual throttle."""
    _, full_hz, exponent = start
    level, bend, step = -np.inf, 0.05, 0.016
    for _ in range(5):
        usual_hz = full_hz * usual**exponent
        laws = [
            (usual_hz / usual**e * (1 + step * k), e)
            for e in np.clip(exponent + bend * np.arange(-2, 3), _LEAST_EXPONENT, _MOST_EXPONENT).tolist()
            for k in range(-3, 4)
        ]
        level, full_hz, exponent = max((search.score(*law, weight), *law) for law in laws)
        bend, step = bend / 2, step / 2
    return level, full_hz, exponent


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Search:
    """What laws are tried on; rows are frames."""

    level: FloatArray  # (n_frames, n_bins)
    commands: FloatArray  # (n_frames, n_motors)
    volts: FloatArray  # (n_frames,) over their median
    bin_hz: float
    sample_rate_hz: float

    def every(self, n: int) -> "_Search":
        """Every n-th frame; they overlap by three quarters."""
        return _Search(
            level=self.level[::n], commands=self.commands[::n], volts=self.volts[::n], bin_hz=self.bin_hz,
            sample_rate_hz=self.sample_rate_hz,
        )  # fmt: skip

    def score(self, full_hz: float, exponent: float, weight: FloatArray) -> float:
        """Weighted level at the orders of every motor, between bins."""
        first_hz = self.commands**exponent * (full_hz * self.volts[:, None])
        rows = np.arange(self.level.shape[0])[:, None]
        total = np.zeros(rows.size)
        for order, say in _ORDERS:
            at = np.clip(folded(first_hz * order, self.sample_rate_hz) / self.bin_hz, 0, self.level.shape[1] - 1.001)
            below = at.astype(np.int32)
            part = at - below
            total += say * (self.level[rows, below] * (1 - part) + self.level[rows, below + 1] * part).mean(axis=1)
        return float(weight @ total) / float(weight.sum()) / sum(say for _, say in _ORDERS)


def relative_volts(frames: Frames) -> FloatArray:
    """Pack voltage of every frame over its median; ones where it is not recorded."""
    if frames.voltage is not None and float(np.median(frames.voltage)) > 2:
        return np.asarray(frames.voltage / float(np.median(frames.voltage)))
    return np.ones(frames.t_s.size)


def _rarity(mean: FloatArray) -> FloatArray:
    """Weight of every frame: the rarer its throttle, the more; none at idle."""
    counts, edges = np.histogram(mean, bins=20)
    return np.where(mean > _IDLE, 1 / np.maximum(counts[np.clip(np.digitize(mean, edges) - 1, 0, 19)], 1), 0.0)


def _moving_level(frames: Frames) -> FloatArray:
    """Whitened level of all sensors together without what stays at its frequency, shape (n_frames, n_bins)."""
    level = np.mean([whitened(power, bin_hz=frames.bin_hz) for power in frames.power.values()], axis=0)
    drive = frames.drive()
    if drive is None:
        return np.asarray(level - np.median(level, axis=0))
    # fixed lines stay in the median over time; every third of the drive counts the same
    order = np.argsort(drive[0])
    thirds = [np.median(level[part], axis=0) for part in np.array_split(order, 3)]
    return np.asarray(level - np.median(thirds, axis=0))
