"""The link lost on purpose: how soon the plane reacted, what it did, and when it obeyed again."""

import numpy as np

from nembrit.core.errors import NotEnoughData
from nembrit.core.records.log import Recording
from nembrit.core.types import BoolArray, FloatArray
from nembrit.core.wing.checks.criteria import CheckResult, Measured
from nembrit.core.wing.track import Track, stretches

WORDS = ("failsafe", "fail safe", "lost")
_GONE, _BACK = 0.03, 0.10  # shares of link quality
_LEAST_S = 0.8
_CLOSED, _OPEN = 0.05, 0.15
_WATCHED_S = 30.0
_HEIGHT_ERROR_M = 2.0  # of a barometer over half a minute


def failsafe_of(recording: Recording, track: Track) -> CheckResult:
    """What happened around the first loss of the link in the air.

    The link is lost where its quality stays below 3 % for 0.8 s, or where the mode says so. The plane reacts where the mode
    changes or the throttle closes; it obeys again where the mode changes once the quality is above 10 %. Times are known to one
    sample. Raises NotEnoughData without link quality or modes, and where the link was never lost in the air. Thresholds: common
    practice, no source.
    """
    lost = _lost(recording, track)
    if lost is None:
        raise NotEnoughData("neither link quality nor a mode named failsafe in this log: switch on logging of the link quality")
    runs = stretches(np.asarray(lost & track.in_the_air), max(2, round(_LEAST_S * track.rate_hz)))
    if not runs:
        raise NotEnoughData("the link was never lost in the air: fly the card “Failsafe”, or note what the bench test showed")
    run = runs[0]
    sample_s = 1 / track.rate_hz
    reacted, did = _reaction(track, run)
    back = _return_of_link(recording, track, run)
    obeyed = _obeyed(track, run, back)
    measured = {
        "reacts_s": _time(reacted, run.start, sample_s, "it did not react"),
        "obeys_s": Measured(value=None, words="the link did not come back in this log")
        if back is None
        else _time(obeyed, back, sample_s, "the mode never changed again"),
        "sinks_m": _sunk(track, run, back),
    }
    at_s = float(track.t_s[run.start])
    shown = measured["reacts_s"].value
    headline = f"Link lost at {at_s:.0f} s: " + (
        f"it {did} after {shown:.1f} s"
        if shown is not None
        else f"it did not react for {(run.stop - run.start) * sample_s:.0f} s"
    )
    return CheckResult(key="failsafe", at_s=at_s, measured=measured, headline=headline)


def was_lost_at(recording: Recording, at_s: float) -> bool:
    """Whether the link was lost within the two seconds before; False where its quality was not logged."""
    quality = recording.channels.get("link_quality")
    if quality is None:
        return False
    place = round((at_s - recording.start_s) * recording.sample_rate_hz)
    own = quality[max(0, place - round(2 * recording.sample_rate_hz)) : place + 1]
    return bool(own.size and np.nan_to_num(own, nan=1.0).min() < _GONE)


def _lost(recording: Recording, track: Track) -> BoolArray | None:
    quality = _quality(recording, track)
    if quality is not None:
        with np.errstate(invalid="ignore"):
            return np.asarray(quality < _GONE)
    named = track.where_mode(*WORDS)
    return named if named.any() else None


def _quality(recording: Recording, track: Track) -> FloatArray | None:
    """Link quality at the samples of a track; the worst of what lies in each."""
    values = recording.channels.get("link_quality")
    if values is None or not np.isfinite(values).any():
        return None
    step = max(1, round(recording.sample_rate_hz / track.rate_hz))
    n = min(track.t_s.size, values.size // step)
    rows = np.where(np.isfinite(values), values, np.inf)[: n * step].reshape(n, step).min(axis=1)
    found = np.full(track.t_s.size, np.nan)
    found[:n] = np.where(np.isfinite(rows), rows, np.nan)
    return found


def _reaction(track: Track, run: slice) -> tuple[int | None, str]:
    """Where it reacted, and what it did, in words."""
    until = min(track.t_s.size, run.start + round(_WATCHED_S * track.rate_hz), run.stop + round(2 * track.rate_hz))
    changed = _mode_change(track, run.start, until)
    closed = _closing(track, run.start, until)
    if changed is None and closed is None:
        return None, ""
    if changed is None or (closed is not None and closed < changed):
        return closed, "closed the throttle"
    assert track.mode is not None
    name = track.modes[int(track.mode[changed])] if np.isfinite(track.mode[changed]) else "another mode"
    return changed, f"changed to “{name}”"


def _mode_change(track: Track, start: int, until: int) -> int | None:
    if track.mode is None:
        return None
    before = track.mode[max(0, start - 1)]
    changed = np.flatnonzero((track.mode[start:until] != before) & np.isfinite(track.mode[start:until]))
    return start + int(changed[0]) if changed.size else None


def _closing(track: Track, start: int, until: int) -> int | None:
    if track.throttle is None or not track.throttle[max(0, start - 1)] >= _OPEN:
        return None
    with np.errstate(invalid="ignore"):
        closed = np.flatnonzero(track.throttle[start:until] < _CLOSED)
    return start + int(closed[0]) if closed.size else None


def _return_of_link(recording: Recording, track: Track, run: slice) -> int | None:
    quality = _quality(recording, track)
    if quality is None:
        return run.stop if run.stop < track.t_s.size else None
    with np.errstate(invalid="ignore"):
        good = np.flatnonzero(quality[run.start :] > _BACK)
    return run.start + int(good[0]) if good.size else None


def _obeyed(track: Track, run: slice, back: int | None) -> int | None:
    if back is None or track.mode is None:
        return None
    if track.mode[back] == track.mode[max(0, run.start - 1)]:  # it never left its mode, so nothing is to be taken back
        return back
    return _mode_change(track, back, min(track.t_s.size, back + round(2 * _WATCHED_S * track.rate_hz)))


def _time(place: int | None, start: int, sample_s: float, otherwise: str) -> Measured:
    if place is None:
        return Measured(value=None, words=otherwise)
    return Measured(value=(place - start) * sample_s, error=sample_s)


def _sunk(track: Track, run: slice, back: int | None) -> Measured:
    if track.height_m is None or not np.isfinite(track.height_m[run]).any():
        return Measured(value=None, words="height not logged")
    until = back if back is not None else run.stop
    height = track.height_m[run.start : max(until, run.start + 1)]
    began = float(track.height_m[run.start]) if np.isfinite(track.height_m[run.start]) else float(height[np.isfinite(height)][0])
    return Measured(value=max(0.0, began - float(np.nanmin(height))), error=_HEIGHT_ERROR_M)
