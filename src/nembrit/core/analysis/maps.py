"""Where the noise sits: density laid out over throttle, motor speed and time, ready to be drawn."""

import itertools
from dataclasses import dataclass

import numpy as np

from nembrit.core.analysis.analysis import Analysis
from nembrit.core.analysis.flight import Flight
from nembrit.core.errors import CoreError, NotEnoughData
from nembrit.core.noise.lines import Line, noise_lines
from nembrit.core.noise.maps import noise_map, spectrogram
from nembrit.core.rotors.track import RotorTrack
from nembrit.core.spectra.frames import Frames, frames_of, frames_with
from nembrit.core.types import AXES, FloatArray, IntArray

TOP_HZ = 640.0
FAMILIES = ("gyro_raw", "gyro", "b/gyro_raw")
OVERS = ("throttle", "speed", "time")
NOTHING_DB = -128  # where no row was flown
_LOWEST_DB = -120.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class DrawnMap:
    """One map in whole decibels; rows from `edges[n]` to `edges[n + 1]`."""

    drive: str  # throttle, motor command, motor speed or time
    edges: FloatArray  # (n_rows + 1,) in shares, turns a second or seconds
    db: IntArray  # (n_rows, n_bins), dB re 1 (deg/s)²/Hz; NOTHING_DB where a row was flown for too short a time
    seconds: FloatArray  # (n_rows,) how long each row was flown; empty over time
    track_hz: FloatArray  # (n_rows,) median once-per-turn frequency; NaN or empty where motor speeds are not known


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RoleMaps:
    """All maps of one gyro channel, and the lines named in it."""

    bin_hz: float
    lines: tuple[Line, ...]
    over: dict[str, DrawnMap]  # by throttle, speed, time
    reasons: dict[str, str]  # why one of them is missing


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Maps:
    """Maps by gyro channel; `reason` says why there are none."""

    roles: dict[str, RoleMaps]
    reason: str = ""
    has_recorded_speeds: bool | None = None  # None: motor speeds are not known
    full_hz: float | None = None  # turns a second at full command, where estimated


def _run(flight: Flight) -> Maps:
    if flight.frames is None:
        return Maps(roles={}, reason=flight.reasons["frames"])
    found: dict[str, RoleMaps] = {}
    for family in FAMILIES:
        roles = [role for axis in AXES if flight.recording.has(role := f"{family}.{axis}")]
        frames = _frames_with(flight, family, roles)
        if frames is not None:
            found |= {role: _maps_of(flight, frames, role) for role in roles}
    track = flight.track
    return Maps(
        roles=found,
        has_recorded_speeds=track.is_recorded if track else None,
        full_hz=track.full_hz if track else None,
    )


def _frames_with(flight: Flight, family: str, roles: list[str]) -> Frames | None:
    if flight.frames is None or not roles:
        return None
    if all(role in flight.frames.power for role in roles):
        return flight.frames
    alike = frames_with(flight.frames, flight.recording, roles)
    if alike is not None:
        return alike
    try:
        return frames_of(flight.recording, (family,))
    except CoreError:
        return None


def _maps_of(flight: Flight, frames: Frames, role: str) -> RoleMaps:
    is_alike = flight.frames is not None and np.array_equal(frames.t_s, flight.frames.t_s)
    track = flight.track if is_alike else None
    if frames is flight.frames:
        lines = flight.lines[role]
    else:
        lines = flight.lines_of(frames, role) if is_alike else noise_lines(frames, role, None, blades=flight.blades)
    over: dict[str, DrawnMap] = {}
    reasons: dict[str, str] = {}
    for name in OVERS:
        try:
            over[name] = _drawn(frames, role, name, track)
        except NotEnoughData as error:
            reasons[name] = str(error)
    return RoleMaps(bin_hz=frames.bin_hz, lines=lines, over=over, reasons=reasons)


def _drawn(frames: Frames, role: str, over: str, track: RotorTrack | None) -> DrawnMap:
    top = int(np.searchsorted(frames.frequency_hz, TOP_HZ)) + 1
    nothing = np.empty(0)
    if over == "time":
        shown = spectrogram(frames, role)
        step_s = (shown.t_s[-1] - shown.t_s[0]) / max(1, shown.t_s.size - 1)
        edges = np.concatenate((shown.t_s, [shown.t_s[-1] + step_s]))
        return DrawnMap(drive="time", edges=edges, db=_decibels(shown.density[:, :top]), seconds=nothing, track_hz=nothing)
    found = noise_map(frames, role, track=track, by_speed=over == "speed")
    used = np.flatnonzero(found.seconds > 0)
    rows = slice(int(used[0]), int(used[-1]) + 1)
    edges = found.edges[rows.start : rows.stop + 1]
    drive = frames.drive()
    values = track.mean_hz if track is not None and over == "speed" else drive[0] if drive else None
    return DrawnMap(
        drive=found.drive,
        edges=edges,
        db=_decibels(found.density[rows, :top]),
        seconds=found.seconds[rows],
        track_hz=nothing if track is None or values is None else _turning(track, values, edges),
    )


def _turning(track: RotorTrack, drive: FloatArray, edges: FloatArray) -> FloatArray:
    """Median once-per-turn frequency in every row with three frames or more."""
    inside = [(drive >= low) & (drive < high) for low, high in itertools.pairwise(edges)]
    return np.array([float(np.median(track.mean_hz[own])) if own.sum() >= 3 else np.nan for own in inside])


def _decibels(density: FloatArray) -> IntArray:
    with np.errstate(divide="ignore", invalid="ignore"):
        level = np.rint(np.maximum(10 * np.log10(density), _LOWEST_DB))
    return np.where(np.isfinite(density), level, NOTHING_DB).astype(np.int64)


MAPS = Analysis(key="maps", version=1, result=Maps, run=_run, in_words="maps of the noise")
