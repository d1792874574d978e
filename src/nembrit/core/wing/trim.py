"""Trims from hands-off flying: where the servos stand when the controller holds it, split into axes."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.stats import t as student

from nembrit.core.errors import NotEnoughData
from nembrit.core.records.log import Recording
from nembrit.core.setup.craft import Surface
from nembrit.core.types import BoolArray, FloatArray
from nembrit.core.wing.errors import block_error, hac_error
from nembrit.core.wing.mixing import PAIRS, Servo, split

_HELD, _LEAST_S, _LEVEL_DEG, _LEAST_TOTAL_S = 0.03, 1.2, 5.0, 5.0
UNNAMED = "the modes of this log have no names"
_MOVES = 0.4  # of the usual speed, below which it stands or rolls
_APART_WORDS = ("manual", "direct", "passthrough", "return", "home")
_DEAD_US, _SIGMAS = 10.0, 3.0  # per rad/s
_MEANS, _BLOCK_S = 4.0, 4.0  # samples a second that an error is worked out on, and how long its blocks are
# role → pair, side
_PAIRED = {
    "v_tail_left": ("v_tail", 0), "v_tail_right": ("v_tail", 1), "a_tail_left": ("a_tail", 0), "a_tail_right": ("a_tail", 1),
    "elevon_left": ("elevons", 0), "elevon_right": ("elevons", 1),
}  # fmt: skip
_ALONE = {"aileron": "roll", "aileron_left": "roll", "aileron_right": "roll", "elevator": "pitch", "rudder": "yaw"}


@dataclass(frozen=True, slots=True, kw_only=True)
class AxisTrim:
    """Deflection of one axis in microseconds of its servos, right, nose up and clockwise positive."""

    trim_us: float
    error_us: float
    seconds: float

    @property
    def half_width_us(self) -> float:
        """Of the 95 % interval, by Student's t of blocks of four seconds."""
        return float(student.ppf(0.975, max(1.0, self.seconds / _BLOCK_S - 1))) * self.error_us

    @property
    def interval_us(self) -> tuple[float, float]:
        return self.trim_us - self.half_width_us, self.trim_us + self.half_width_us


@dataclass(frozen=True, slots=True, kw_only=True)
class ServoTrim:
    """Where one servo stands hands off, against its centre."""

    centre_us: float
    trim_us: float
    direction: int | None  # None: neither said nor told by the log


@dataclass(frozen=True, slots=True, kw_only=True)
class Trim:
    """Trims of a flight, with the state in which they hold."""

    axes: dict[str, AxisTrim]
    servos: dict[str, ServoTrim]  # by the servo's number
    throttle: float | None
    airspeed_m_s: float | None
    unknown: tuple[int, ...]  # servos whose direction is not known


def hands_off_mask(recording: Recording) -> BoolArray:
    """Where all recorded sticks are within 3 % of the middle for more than 1.2 s and the bank is below 5°, in the air and with
    the controller at work: in manual nothing is held, and on the way home it turns and climbs by itself.
    """
    sticks = [recording.channels[f"stick.{axis}"] for axis in ("roll", "pitch", "yaw") if recording.has(f"stick.{axis}")]
    if not sticks:
        raise NotEnoughData("no sticks in this log: log the sticks to find hands-off flying")
    with np.errstate(invalid="ignore"):
        still = (np.abs(np.stack(sticks)) < _HELD).all(axis=0)
        bank = recording.channels.get("attitude.roll")
        if bank is not None:
            still &= np.abs(bank) < _LEVEL_DEG
        still &= _is_flown(recording)
        _require_names(recording, still)
    least = round(_LEAST_S * recording.sample_rate_hz)
    edges = np.flatnonzero(np.diff(np.concatenate(([0], still.astype(np.int8), [0]))))
    mask = np.zeros(still.size, dtype=bool)
    for a, b in zip(edges[::2], edges[1::2], strict=True):
        if b - a > least:
            mask[a:b] = True
    return mask


def _require_names(recording: Recording, still: BoolArray) -> None:
    """Refuse trims of a log whose modes are numbers: in one of them it may fly home by itself, in another nothing is held."""
    mode, names = recording.channels.get("mode"), recording.labels.get("mode", ())
    if mode is None or not still.any():
        return
    present = [names[int(k)] for k in np.unique(mode[still & np.isfinite(mode)]) if 0 <= int(k) < len(names)]
    unnamed = [name for name in present if name.startswith("mode ")]
    if unnamed and len(present) > 1:
        raise NotEnoughData(
            f"{UNNAMED} ({', '.join(unnamed)}): which is manual, which flies home? Name them, then trims are judged"
        )


def _is_flown(recording: Recording) -> BoolArray:
    """Where the plane moves as in flight, and no mode of its own flying or of none is on; everywhere where that is not logged."""
    n = recording.channels[next(iter(recording.channels))].size
    flown = np.ones(n, dtype=bool)
    speed = recording.channels.get("airspeed", recording.channels.get("ground_speed"))
    if speed is not None and np.isfinite(speed).any():
        usual = float(np.nanpercentile(speed, 75))
        flown &= ~(speed < _MOVES * usual)
    mode, names = recording.channels.get("mode"), recording.labels.get("mode", ())
    if mode is not None:
        apart = [k for k, name in enumerate(names) if any(word in name.lower() for word in _APART_WORDS)]
        flown &= ~np.isin(mode, apart)
    return flown


def _require_travel(surface: Surface, pulses: FloatArray) -> None:
    """Refuse a servo that stands farther from its centre than it can travel: its unit, centre or travel is wrong."""
    away = float(np.nanmedian(np.abs(pulses - surface.centre_us))) if np.isfinite(pulses).any() else 0.0
    if away > surface.throw_us:
        raise NotEnoughData(
            f"check the unit of servo {surface.servo}: it stands {away:.0f} µs from its centre of {surface.centre_us:.0f} µs, "
            f"and its travel is {surface.throw_us:.0f} µs"
        )


def trim_of(recording: Recording, surfaces: Sequence[Surface]) -> Trim:
    """Mean servo positions while the sticks are let go, split into axes.

    Mirrored pairs are taken apart by definition (`mixing.split`); directions come from the craft, else from the log. The trim
    is quoted with throttle and airspeed, since propeller torque asks for aileron as throttle over airspeed squared. Errors by
    Newey and West, or by blocks. Raises NotEnoughData without servos or sticks, below five seconds hands off, and for a craft
    without surfaces. A trim of 30 s is good to about 2 µs in roll and 6 µs in pitch (p90, measured in the project's trials).
    """
    if not surfaces:
        raise NotEnoughData("the control surfaces are unknown: enter them on the page “Control surfaces”")
    mask = hands_off_mask(recording)
    seconds = float(mask.sum() / recording.sample_rate_hz)
    if seconds < _LEAST_TOTAL_S:
        raise NotEnoughData(f"only {seconds:.0f} s hands off: fly level, hands off, for half a minute")
    known = [one for one in surfaces if recording.has(f"servo.{one.servo}")]
    if not known:
        raise NotEnoughData("no servo outputs in this log: switch on logging of the outputs")
    pulses = {one.servo: recording.channels[f"servo.{one.servo}"] for one in known}
    for one in known:
        _require_travel(one, pulses[one.servo][mask])
    directions = {one.servo: one.direction or direction_of(recording, one, pulses[one.servo]) for one in known}
    axes: dict[str, AxisTrim] = {}
    step = max(1, round(recording.sample_rate_hz / _MEANS))
    for axis, parts in _axes(known, pulses, directions).items():
        values = np.mean([part[mask] for part in parts], axis=0)  # two ailerons are one axis, not twice as much evidence
        values = values[np.isfinite(values)]
        if values.size >= 3:
            axes[axis] = AxisTrim(trim_us=float(values.mean()), error_us=_error(values[::step]), seconds=seconds)
    servos = {
        str(one.servo): ServoTrim(
            centre_us=one.centre_us, trim_us=float(np.nanmean(pulses[one.servo][mask])) - one.centre_us,
            direction=directions[one.servo],
        )
        for one in known
    }  # fmt: skip

    def usual(role: str) -> float | None:
        values = recording.channels.get(role)
        return None if values is None or not np.isfinite(values[mask]).any() else float(np.nanmedian(values[mask]))

    unknown = tuple(servo for servo, direction in directions.items() if direction is None)
    return Trim(axes=axes, servos=servos, throttle=usual("throttle"), airspeed_m_s=usual("airspeed"), unknown=unknown)


def deflections(recording: Recording, surfaces: Sequence[Surface]) -> dict[str, FloatArray]:
    """Deflection of every axis as share of full travel, shape (n,); the mean of several surfaces of one axis."""
    known = [one for one in surfaces if recording.has(f"servo.{one.servo}")]
    pulses = {one.servo: recording.channels[f"servo.{one.servo}"] for one in known}
    directions = {one.servo: one.direction or direction_of(recording, one, pulses[one.servo]) for one in known}
    throws = {axis: [one.throw_us for one in known if axis in _moves(one.role)] for axis in ("roll", "pitch", "yaw")}
    return {
        axis: np.asarray(np.mean(parts, axis=0)) / float(np.mean(throws[axis]))
        for axis, parts in _axes(known, pulses, directions).items()
    }


def _moves(role: str) -> tuple[str, ...]:
    return (_ALONE[role],) if role in _ALONE else PAIRS[_PAIRED[role][0]] if role in _PAIRED else ()


def _error(values: FloatArray) -> float:
    """Newey and West's error, or that of four-second means where it is larger: gusts and swings last longer than lags tell."""
    blocks = block_error(values, round(_BLOCK_S * _MEANS))
    return max(hac_error(values), blocks) if math.isfinite(blocks) else hac_error(values)


def _axes(
    surfaces: Sequence[Surface], pulses: Mapping[int, FloatArray], directions: Mapping[int, int | None]
) -> dict[str, list[FloatArray]]:
    """Deflections in microseconds by axis; two ailerons give two series of one axis."""
    found: dict[str, list[FloatArray]] = {}
    pairs: dict[str, dict[int, FloatArray]] = {}
    for one in surfaces:
        direction = directions[one.servo]
        if direction is None:
            continue
        servo = Servo(centre_us=one.centre_us, throw_us=one.throw_us, direction=direction)
        moved = np.asarray(servo.deflection(pulses[one.servo])) * one.throw_us
        if one.role in _ALONE:
            found.setdefault(_ALONE[one.role], []).append(moved)
        elif one.role in _PAIRED:
            pair, side = _PAIRED[one.role]
            pairs.setdefault(pair, {})[side] = moved
    for pair, sides in pairs.items():
        if len(sides) == 2:
            common, against = split(sides[0], sides[1], pair)
            found.setdefault("pitch", []).append(np.asarray(common))
            found.setdefault(PAIRS[pair][1], []).append(np.asarray(against))
    return found


def direction_of(recording: Recording, surface: Surface, pulse_us: FloatArray) -> int | None:
    """Which way a servo counts, from how it follows the wanted rates; None where the axis was hardly excited.

    Least squares of the pulse on the wanted rates and on what the rates lack of them; the sign of the coefficient that
    the surface's own axis has, where it is beyond three of its errors and 10 µs per rad/s.
    """
    axis, sign = _expected(surface.role)
    wanted = recording.channels.get(f"setpoint.{axis}")
    if axis == "" or wanted is None:
        return None
    columns = [np.radians(wanted)]
    for other in ("roll", "pitch", "yaw"):
        asked, flown = recording.channels.get(f"setpoint.{other}"), recording.channels.get(f"gyro.{other}")
        if asked is not None and other != axis:
            columns.append(np.radians(asked))
        if asked is not None and flown is not None:
            columns.append(np.radians(asked - flown))
    design = np.column_stack([*columns, np.ones(wanted.size)])
    good = np.isfinite(design).all(axis=1) & np.isfinite(pulse_us)
    if good.sum() < 10 * design.shape[1]:
        return None
    design, target = design[good], pulse_us[good]
    solved, *_ = np.linalg.lstsq(design, target, rcond=None)
    residual = target - design @ solved
    n_free = max(1.0, good.sum() / recording.sample_rate_hz - design.shape[1])  # about one free sample a second
    covariance = np.linalg.pinv(design.T @ design / good.sum()) * float(residual @ residual / good.sum()) / n_free
    error = math.sqrt(max(float(covariance[0, 0]), 0.0))
    slope = float(solved[0])
    if abs(slope) < max(_DEAD_US, _SIGMAS * error):
        return None
    return int(math.copysign(1, slope * sign))


def _expected(role: str) -> tuple[str, int]:
    """The axis that excites a surface most, and the sign of its deflection for a positive wanted rate."""
    if role in _ALONE:
        return _ALONE[role], 1
    return {
        **dict.fromkeys(("v_tail_left", "v_tail_right", "a_tail_left", "a_tail_right"), ("pitch", 1)),
        "elevon_left": ("roll", -1), "elevon_right": ("roll", 1),
    }.get(role, ("", 1))  # fmt: skip
