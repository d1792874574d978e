"""One clock read on another by moments that were picked on both, as of a video and a log."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.errors import InputError

PICKED_S = 0.04  # how well a moment is picked: about one frame
_APART_S = 2.0
_MOST_DRIFT = 0.01  # no camera runs off by more


@dataclass(frozen=True, slots=True, kw_only=True)
class ClockLine:
    """log = offset_s + rate × video; `error_s` is the half-width of the 95 % interval between and near the moments."""

    offset_s: float
    rate: float
    error_s: float

    def log_s(self, video_s: float) -> float:
        return self.offset_s + self.rate * video_s


def line_up(pairs: Sequence[tuple[float, float]]) -> ClockLine:
    """Line two clocks up by one or two moments, as (time in the video, time in the log) [s].

    One moment gives the offset and takes the clocks to run alike. Two give the drift, too. Each is picked to about one frame
    (0.04 s). Raises InputError for no or more than two moments, for two within two seconds, and where the clocks would run
    apart by more than 1 %: then one moment is wrong, or the video was cut or sped up.

    >>> line_up([(2.0, 12.5)]).log_s(4.0)
    14.5
    >>> round(line_up([(0.0, 10.0), (100.0, 110.1)]).rate, 4)
    1.001
    """
    if not 1 <= len(pairs) <= 2:
        raise InputError("pick one or two moments")
    if len(pairs) == 1:
        ((video_s, log_s),) = pairs
        return ClockLine(offset_s=log_s - video_s, rate=1.0, error_s=PICKED_S)
    (video_a, log_a), (video_b, log_b) = sorted(pairs)
    if video_b - video_a < _APART_S:
        raise InputError("the two moments are less than two seconds apart: pick the second one later")
    rate = (log_b - log_a) / (video_b - video_a)
    if abs(rate - 1) > _MOST_DRIFT:
        raise InputError(
            f"between the two moments {video_b - video_a:.2f} s pass in the video and {log_b - log_a:.2f} s in the log: "
            "pick them again, or use a video that was not cut or sped up"
        )
    return ClockLine(offset_s=log_a - rate * video_a, rate=rate, error_s=PICKED_S)
