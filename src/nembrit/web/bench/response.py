"""Each axis as a loop, as its page shows it: how near the edge, how it follows, what it rests on."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from nembrit.core.analysis.felt import SYMPTOMS, crossed
from nembrit.core.analysis.loop import Loop
from nembrit.core.analysis.run import FlightResults
from nembrit.core.response.axisloop import AxisLoop
from nembrit.core.response.components import COMPONENTS, Component, Score
from nembrit.core.response.edge import NEAR_PEAK, ZONES, Room, headline, room_of
from nembrit.core.response.tracking import Tracking
from nembrit.core.types import AXES
from nembrit.web.common.charts import Axis, Chart, Line

_COHERENT, _LEAST_HZ, _TOP_HZ = 0.6, 0.5, 200.0
_KEYS = ("bode-size", "bode-phase", "steps")
_DIFFER = {
    "large": "overshoots more in large movements: a motor or the command reached its limit, or I wound up",
    "small": "overshoots more in small movements: play in a mount, or a dead band",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class _Drawn:
    """One axis on the picture of the edge."""

    room: Room

    @property
    def left(self) -> str:
        """Where its mark begins in the picture, in per cent of the way."""
        return f"{100 * self.room.value - 0.6:.2f}"

    @property
    def span(self) -> str:
        """How long its interval is there."""
        return f"{100 * (self.room.high - self.room.low):.2f}"


def page_of(results: FlightResults, chosen: str, felt: list[str]) -> dict[str, Any]:
    """Everything that the page shows of a flight's loops."""
    loop, response = results.loop, results.response
    if loop is None or response is None:
        return {}
    rooms = [room_of(axis, loop.axes[axis]) for axis in AXES if axis in loop.axes]
    axis = chosen if chosen in loop.tracking or chosen in loop.axes else next(iter(loop.tracking), "roll")
    own, tracked = loop.axes.get(axis), loop.tracking.get(axis)
    return {
        "loop": loop,
        "rooms": [_Drawn(room=room) for room in rooms],
        "zones": [{"name": name, "x": 100 * start, "width": 100 * (end - start)} for name, start, end in ZONES],
        "rows": [
            {"axis": each, "own": loop.axes.get(each), "tracking": loop.tracking.get(each), "step": response.steps.get(each)}
            for each in AXES
            if each in loop.axes or each in loop.tracking
        ],
        "rough": [each for each in AXES if each in loop.axes and _is_rough(loop.axes[each])],
        "refused": [(each, reason) for each, reason in loop.reasons.items()],
        "chosen": axis,
        "answering": [each for each in AXES if each in loop.axes or each in loop.tracking],
        "charts": [] if tracked is None and own is None else _charts(results, axis, own, tracked),
        "movements": [
            {"axis": each, "label": f"{word} {sizes.limit_dps:.2g} deg/s", "step": step}
            for each, sizes in loop.by_size.items()
            for word, step in (("up to", sizes.small), ("beyond", sizes.large))
        ],
        "differing": [(each, _DIFFER[sizes.differ]) for each, sizes in loop.by_size.items() if sizes.differ],
        "lacking": any(sizes.small is None or sizes.large is None for sizes in loop.by_size.values()),
        "headline": headline(rooms, is_whole=len(rooms) >= len(loop.tracking)),
        "first": next(iter(loop.axes.values()), None),
        "scores": [
            {"component": one, "by_axis": by_axis, "points_at": _points_at(one, by_axis, loop)}
            for one in COMPONENTS.values()
            if (by_axis := {score.axis: score for score in loop.scores if score.key == one.key})
        ],
        "unflown": [one.label for one in COMPONENTS.values() if not any(score.key == one.key for score in loop.scores)],
        "swings": loop.oscillations,
        "axes": AXES,
        "symptoms": list(SYMPTOMS.values()),
        "felt": felt,
        "crossed": crossed(results, felt),
    }


def _points_at(one: Component, by_axis: dict[str, Score], loop: Loop) -> str:
    """What a high score points at; another thing where a notable axis has little margin."""
    notable = [axis for axis, score in by_axis.items() if score.is_notable and axis in loop.axes]
    is_near = any(loop.axes[axis].sensitivity_peak.value > NEAR_PEAK for axis in notable)
    return (one.points_at_near if is_near else "") or one.points_at


def _is_rough(own: AxisLoop) -> bool:
    """Whether more than the settling time is left open, which depends on where a flat end crosses a line."""
    return any(yes for name, yes in own.rough.items() if name != "settling_time_s")


def _charts(results: FlightResults, axis: str, own: AxisLoop | None, tracked: Tracking | None) -> list[tuple[str, Chart]]:
    charts = [*_bode(axis, own, tracked), _steps(results, axis, own)]
    return [(key, chart) for key, chart in zip(_KEYS, charts, strict=True) if chart.lines]


def _steps(results: FlightResults, axis: str, own: AxisLoop | None) -> Chart:
    """Small and large movements apart with their bands, and the step of the refined model."""
    lines: list[Line] = []
    sizes = results.loop.by_size.get(axis) if results.loop else None
    if sizes is not None:
        for step, label, look in ((sizes.small, "small movements", "before"), (sizes.large, "large movements", "after")):
            if step is not None:
                x, y, low, high = (values.tolist() for values in (1000 * step.t_s, step.response, step.low, step.high))
                lines.append(Line(label=label, x=x, y=y, look=look, low=low, high=high))
    if own is not None:
        lines.append(Line(label="model", x=(1000 * own.step_t_s).tolist(), y=own.step.tolist(), look="third"))
    return Chart(
        title=f"Step response, {axis}",
        x=Axis(label="time after the step", unit="ms", low=0, high=300),
        y=Axis(label="response to a unit step", unit="1", low=-0.1, high=1.5),
        lines=lines,
        level=1.0,
    )


def _bode(axis: str, own: AxisLoop | None, tracked: Tracking | None) -> list[Chart]:
    x = Axis(label="frequency", unit="Hz", low=np.log10(_LEAST_HZ), high=np.log10(_TOP_HZ), is_log=True)
    sizes: list[Line] = []
    phases: list[Line] = []
    if tracked is not None and tracked.frequency_hz.size:
        # drawn only where set-point and gyro belong together
        good = (tracked.coherence >= _COHERENT) & (tracked.frequency_hz >= _LEAST_HZ)
        x_of = [round(float(value), 4) for value in np.log10(tracked.frequency_hz)]
        error_db = 8.686 * 2 * tracked.random_error
        error_deg = np.degrees(2 * tracked.random_error)
        parts = ((sizes, tracked.amplitude_db, error_db), (phases, tracked.phase_deg, error_deg))
        for lines, values, error in parts:
            low, high = _only(values - error, good), _only(values + error, good)
            lines.append(Line(label="measured", x=x_of, y=_only(values, good), look="filtered", colour=axis, low=low, high=high))
    if own is not None:
        keep = (own.frequency_hz >= _LEAST_HZ) & (own.frequency_hz <= _TOP_HZ)
        x_of = [round(float(value), 4) for value in np.log10(own.frequency_hz[keep])]
        everywhere = np.ones(int(keep.sum()), bool)
        for lines, closed, opened in ((sizes, own.closed_db, own.open_db), (phases, own.closed_deg, own.open_deg)):
            lines.append(Line(label="closed loop, model", x=x_of, y=_only(closed[keep], everywhere), look="third"))
            lines.append(Line(label="open loop, model", x=x_of, y=_only(opened[keep], everywhere), look="second"))
    size, phase = Axis(label="size", unit="dB", low=-40, high=30), Axis(label="phase", unit="°", low=-360, high=40)
    return [
        Chart(title=f"Frequency response, {axis}: size", x=x, y=size, lines=sizes, level=0.0),
        Chart(title=f"Frequency response, {axis}: phase", x=x, y=phase, lines=phases, level=-180.0),
    ]


def _only(values: Any, good: Any) -> list[float | None]:
    return [round(float(value), 3) if use else None for value, use in zip(values.tolist(), good.tolist(), strict=True)]
