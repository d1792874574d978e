"""The components of a test flight, each scored by one function: what is felt in the air, as a number.

What each points at is the table of the trade (common practice, no source); scatter from flight to flight was measured on
simulated flights by the prototype (`docs/methods.md`, section 7), and is None where nobody measured it.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import scipy.signal

from nembrit.core.gaps import filled
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.records.log import Recording
from nembrit.core.response.scores import bounce_back_dps, wash_rms_dps
from nembrit.core.types import AXES, FloatArray

_HOLD_S = 0.6
_LEAST_S = 0.25
_HOVER_HZ, _FLOAT_HZ, _FULL_HZ = (0.5, 5.0), (2.0, 25.0), (8.0, 95.0)

Scored = Callable[[Recording, str, Sequence[Span]], float | None]


@dataclass(frozen=True, slots=True, kw_only=True)
class Component:
    """One component: how it is scored, in which manoeuvres, and what a high score points at."""

    key: str
    label: str
    kinds: tuple[str, ...]
    axes: tuple[str, ...]
    unit: str
    score: Scored
    looks_for: str
    points_at: str
    points_at_near: str = ""  # the same of an axis with little margin, where that is another
    scatter_ratio: float | None = None  # from flight to flight, one standard deviation
    notable: float | None = None  # from here on worth a look (starting value of our own, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class Score:
    """One component of one flight on one axis."""

    key: str
    axis: str
    value: float
    n_spans: int

    @property
    def is_notable(self) -> bool:
        notable = COMPONENTS[self.key].notable
        return notable is not None and self.value >= notable


def _pieces(recording: Recording, axis: str, spans: Sequence[Span], band_hz: tuple[float, float] | None) -> list[FloatArray]:
    """The error of one axis in every span, within a band."""
    if not recording.has(f"setpoint.{axis}", f"gyro.{axis}"):
        return []
    error = recording.channels[f"setpoint.{axis}"] - recording.channels[f"gyro.{axis}"]
    if band_hz is not None:
        if recording.sample_rate_hz < 2.5 * band_hz[1]:
            return []
        sos = scipy.signal.butter(2, band_hz, btype="bandpass", fs=recording.sample_rate_hz, output="sos")
        error = scipy.signal.sosfiltfilt(sos, filled(error))
    found = []
    for span in spans:
        piece = error[span.places(recording)]
        if piece.size >= _LEAST_S * recording.sample_rate_hz and np.isfinite(piece).all():
            found.append(piece)
    return found


def _rms_within(band_hz: tuple[float, float]) -> Scored:
    def score(recording: Recording, axis: str, spans: Sequence[Span]) -> float | None:
        pieces = _pieces(recording, axis, spans, band_hz)
        return float(np.sqrt(np.mean(np.concatenate(pieces) ** 2))) if pieces else None

    return score


def attitude_hold_deg(recording: Recording, axis: str, spans: Sequence[Span]) -> float | None:
    """How far the attitude leaves what was asked within 0.6 s of a throttle jump [deg], mean over `spans`; None without.

    The running integral of set-point less gyro, its largest size.
    """
    jumps = [Span(kind=one.kind, axis=one.axis, start_s=one.start_s, end_s=one.start_s + _HOLD_S) for one in spans]
    drifts = [float(np.abs(np.cumsum(piece)).max() / recording.sample_rate_hz) for piece in _pieces(recording, axis, jumps, None)]
    return float(np.mean(drifts)) if drifts else None


def yaw_shortfall_ratio(recording: Recording, axis: str, spans: Sequence[Span]) -> float | None:
    """What yaw lacks of the rate asked in turns, as a share of it; None without turns in which yaw was asked.

    By regression of gyro on set-point through nought, so that it speaks of the turn and not of noise.
    """
    if not recording.has(f"setpoint.{axis}", f"gyro.{axis}"):
        return None
    asked, given = 0.0, 0.0
    for span in spans:
        part = recording.span(span.start_s, span.end_s)
        r, y = filled(part.channels[f"setpoint.{axis}"]), filled(part.channels[f"gyro.{axis}"])
        asked, given = asked + float(r @ r), given + float(r @ y)
    least = (20.0**2) * recording.sample_rate_hz * _LEAST_S
    return 1 - given / asked if asked > least else None


def _bounce_back(recording: Recording, axis: str, spans: Sequence[Span]) -> float | None:
    return bounce_back_dps(recording, axis, spans)


def _wash(recording: Recording, axis: str, spans: Sequence[Span]) -> float | None:
    return wash_rms_dps(recording, axis, spans)


COMPONENTS: dict[str, Component] = {
    one.key: one
    for one in (
        Component(
            key="hover_wobble", label="hover wobble", kinds=("hover",), axes=AXES, unit="deg/s", score=_rms_within(_HOVER_HZ),
            looks_for="a slow wobble or drift in hover", points_at="I too low, or the centre of gravity", notable=6.0,
        ),
        Component(
            key="bounce_back", label="bounce-back after hard stops", kinds=("snap_stop",), axes=AXES, unit="deg/s",
            score=_bounce_back, looks_for="an overshoot back when a fast rotation stops",
            points_at="P too low, D a little low, or I winding up",
            points_at_near="D a little low, or I winding up; P is not too low, because the margin is small",
            scatter_ratio=0.07, notable=60.0,
        ),
        Component(
            key="punch_hold", label="attitude hold in punches", kinds=("punch",), axes=AXES[:2], unit="deg",
            score=attitude_hold_deg, looks_for="nose or arm dips or rises when the throttle jumps",
            points_at="I too low on that axis", scatter_ratio=0.25, notable=5.0,
        ),
        Component(
            key="chop_hold", label="attitude hold in chops", kinds=("chop",), axes=AXES[:2], unit="deg",
            score=attitude_hold_deg, looks_for="nose or arm dips or rises when the throttle is cut",
            points_at="I too low on that axis", scatter_ratio=0.25, notable=5.0,
        ),
        Component(
            key="wash", label="prop-wash shaking", kinds=("wash_descent",), axes=AXES, unit="deg/s", score=_wash,
            looks_for="wobble while descending through prop wash", points_at="I too high, D too low, or delay",
            scatter_ratio=0.08, notable=25.0,
        ),
        Component(
            key="yaw_shortfall", label="yaw in turns", kinds=("turn",), axes=("yaw",), unit="%", score=yaw_shortfall_ratio,
            looks_for="sloppy turns that slide wide", points_at="yaw P too low, or no yaw authority left", notable=0.12,
        ),
        Component(
            key="float_shimmy", label="shimmy at zero throttle", kinds=("zero_throttle",), axes=AXES[:2], unit="deg/s",
            score=_rms_within(_FLOAT_HZ), looks_for="shimmy when the throttle comes back", points_at="idle too low, or gusts",
            notable=20.0,
        ),
        Component(
            key="full_throttle", label="shake at full throttle", kinds=("full_throttle", "punch"), axes=AXES, unit="deg/s",
            score=_rms_within(_FULL_HZ), looks_for="an oscillation that can be heard at full throttle",
            points_at="P or D too high at high throttle", notable=40.0,
        ),
    )
}  # fmt: skip


def scores_of(recording: Recording, spans: Sequence[Span]) -> tuple[Score, ...]:
    """Every component that was flown, axis by axis; what was not flown is absent."""
    found = []
    for one in COMPONENTS.values():
        for axis in one.axes:
            own = spans_of(one, axis, spans)
            value = one.score(recording, axis, own) if own else None
            if value is not None:
                found.append(Score(key=one.key, axis=axis, value=value, n_spans=len(own)))
    return tuple(found)


def spans_of(component: Component, axis: str, spans: Sequence[Span]) -> list[Span]:
    """The manoeuvres that a component is scored in; those with an axis of their own only on it."""
    return [span for span in spans if span.kind in component.kinds and span.axis in (None, axis, "")]


def span_scores(recording: Recording, span: Span) -> dict[str, float]:
    """Scores of one manoeuvre by itself, by component and axis, for the report."""
    return {f"{one.key}.{one.axis}": one.value for one in scores_of(recording, [span])}
