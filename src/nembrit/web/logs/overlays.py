"""Manoeuvres of two flights laid over each other: what was asked and what the craft did, in both."""

from dataclasses import dataclass

import numpy as np

from nembrit.core.types import FloatArray
from nembrit.web.common.charts import Axis, Chart, Line
from nembrit.web.logs.alignment import Pair
from nembrit.web.logs.models import Channel, Segment
from nembrit.web.logs.storage import load_values
from nembrit.web.logs.traces import sample_range

_BEFORE_S, _LENGTH_S, _N_POINTS = 0.3, 1.5, 150
_DOUBTFUL = 0.6  # correlation below which two manoeuvres may not be the same


@dataclass(frozen=True, slots=True, kw_only=True)
class LaidOver:
    """One pair as the page shows it; without a picture where a flight lacks the channel."""

    pair: Pair
    key: str
    chart: Chart | None

    @property
    def lag_ms(self) -> float:
        """By how much the other flight is moved to lie over the first [ms]."""
        return 1000 * self.pair.lag_s

    @property
    def is_doubtful(self) -> bool:
        return self.pair.correlation < _DOUBTFUL


def laid_over(first: Segment, other: Segment, pairs: list[Pair]) -> list[LaidOver]:
    """A picture for every pair, the other flight moved so that the set-points lie over each other."""
    channels = {segment.pk: _channels(segment) for segment in (first, other)}
    return [LaidOver(pair=pair, key=f"pair-{k}", chart=_chart(pair, (first, other), channels)) for k, pair in enumerate(pairs)]


def _chart(pair: Pair, segments: tuple[Segment, Segment], channels: dict[int, dict[str, Channel]]) -> Chart | None:
    roles = ((f"setpoint.{pair.axis}", "set-point"), (f"gyro.{pair.axis}", "gyro")) if pair.axis else (("throttle", "throttle"),)
    starts_s = (pair.first_s, pair.first_s - pair.lag_s)
    t_ms = [round(value, 1) for value in (1000 * (np.linspace(0, _LENGTH_S, _N_POINTS) - _BEFORE_S)).tolist()]
    lines = []
    for place, (segment, start_s) in enumerate(zip(segments, starts_s, strict=True)):
        curves = {role: _curve(channels[segment.pk], role, start_s - _BEFORE_S) for role, _ in roles}
        shown = {role: curve for role, curve in curves.items() if curve is not None}
        if roles[-1][0] not in shown:
            return None
        # the way flown may differ from flight to flight: each is turned to start upward
        way = np.sign(float(next(iter(shown.values()))[:25].mean())) or 1.0 if pair.axis else 1.0
        for role, name in roles:
            if role in shown:
                look = _LOOKS[place, name == "set-point"]
                y = [float(f"{value:.5g}") for value in (way * shown[role]).tolist()]
                label = f"{name} of flight {segment.flight.number}"
                lines.append(Line(label=label, x=t_ms, y=y, look=look, colour=pair.axis or "ink"))
    name = f"{pair.kind.replace('_', ' ')}{f' {pair.axis}' if pair.axis else ''}"
    y_axis = Axis(label="rate", unit="deg/s") if pair.axis else Axis(label="throttle", unit="1", low=0, high=1.05)
    return Chart(title=f"{name} of both flights", x=Axis(label="time", unit="ms"), y=y_axis, lines=lines, is_small=True)


_LOOKS = {(0, True): "setpoint", (0, False): "filtered", (1, True): "before_setpoint", (1, False): "before"}


def _channels(segment: Segment) -> dict[str, Channel]:
    return {
        channel.role: channel
        for channel in Channel.objects.filter(stream__log=segment.log_id).select_related("stream")
        if channel.role
    }


def _curve(channels: dict[str, Channel], role: str, start_s: float) -> FloatArray | None:
    """Length of a picture of one channel, in even steps."""
    channel = channels.get(role)
    if channel is None:
        return None
    times = Channel.objects.select_related("stream").get(stream=channel.stream_id, position=0)
    first, last = sample_range(times, start_s - 0.1, start_s + _LENGTH_S + 0.2)
    t_s, values = load_values(times, first=first, last=last), load_values(channel, first=first, last=last)
    if t_s.size < 4 or not np.isfinite(values).any():
        return None
    return np.interp(start_s + np.linspace(0, _LENGTH_S, _N_POINTS), t_s, np.nan_to_num(values))
