"""What a filter chain leaves of the noise, and what that does to the motors."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from nembrit.core.filters.stated import fixed_response, rotor_response
from nembrit.core.noise.rows import NoiseRows
from nembrit.core.setup.controller import AxisGains, Controller, Filter
from nembrit.core.types import ComplexArray, FloatArray

MOTORS_FROM_HZ = 60.0  # as `noise.roughness`: above this only heat comes of it
BANDS_HZ = {"motion": (20.0, 100.0), "jitter": (100.0, 300.0), "above": (300.0, math.inf)}
_LEAST_POWER = 0.01  # −20 dB: a filter that takes more cannot be taken out again


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Incoming:
    """Noise before the filters: as recorded, or made up for from the filtered gyro."""

    rows: NoiseRows
    power: dict[str, FloatArray]  # axis → (n_rows, n_bins)
    notes: tuple[str, ...]
    turning: dict[object, FloatArray] = field(default_factory=dict)  # what following notches let through, by their settings

    def through(self, controller: Controller) -> FloatArray:
        """|H|² of the gyro filters in every row, shape (n_rows, n_bins), or (n_bins,) where none follows the motors."""
        hz, rate_hz = self.rows.frequency_hz, controller.loop_rate_hz
        fixed = np.abs(fixed_response(controller.gyro, hz, rate_hz)) ** 2
        following = tuple(one for one in controller.gyro if one.kind == "rotor_notch")
        if not following or not self.rows.rotor_hz.shape[1]:
            return np.asarray(fixed)
        if (following, rate_hz) not in self.turning:
            self.turning[following, rate_hz] = _following(following, self.rows, rate_hz)
        return np.asarray(fixed * self.turning[following, rate_hz])


def _following(filters: tuple[Filter, ...], rows: NoiseRows, rate_hz: float) -> FloatArray:
    return np.stack([np.abs(rotor_response(filters, rows.frequency_hz, rate_hz, turning)) ** 2 for turning in rows.rotor_hz])


def incoming(rows: NoiseRows, flown: Controller) -> Incoming:
    """The raw gyro's noise; where that is not recorded, the filtered gyro's divided by the flown chain.

    Where that chain takes more than 20 dB, what was there before cannot be told, and is taken as what is left of it 20 dB up.
    """
    power: dict[str, FloatArray] = {}
    lacking: list[str] = []
    made = Incoming(rows=rows, power=power, notes=())
    for axis in dict.fromkeys((*rows.raw, *rows.filtered)):
        if axis in rows.raw:
            power[axis] = rows.raw[axis]
            continue
        lacking.append(axis)
        power[axis] = rows.filtered[axis] / np.maximum(made.through(flown), _LEAST_POWER)
    notes = []
    if lacking:
        notes.append(
            f"no raw gyro of {' and '.join(lacking)}: the noise is estimated from the filtered gyro, which is "
            "uncertain where the filters remove more than 20 dB; log the raw gyro"
        )
    if not rows.rotor_hz.shape[1]:
        notes.append("motor speeds are unknown, so motor-tracking notches are left out; log the motor speeds")
    return replace(made, notes=tuple(notes))


_SLOW_LOG, _ABOVE_FOLDED = 0.9, 6.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Residual:
    """Noise behind the gyro filters, and at the motors."""

    frequency_hz: FloatArray
    density: dict[str, FloatArray]  # axis → (n_bins,) (deg/s)²/Hz behind the gyro filters
    rows: dict[str, FloatArray]  # axis → (n_rows, n_bins)
    bands_dps: dict[str, dict[str, float]]  # axis → band → RMS
    motor_rms: float | None  # by the model: share of full range, above 60 Hz; None without gains
    by_axis: dict[str, float]  # each axis's part of it


def residual(
    noise: Incoming, flown: Controller, new: Controller, *, mixer: FloatArray, gains: Mapping[str, AxisGains],
    sensitivity: Mapping[str, FloatArray] | None = None,
) -> Residual:  # fmt: skip
    """What is left behind the chain of `new`, row by row of like motor speed.

    `gains` are the real ones [SI] with the change in them. `sensitivity` is by axis |S_new / S_flown|² on the noise's
    frequencies: the raw gyro was measured in the loop, which the change moves. The chip's filter counts as the quotient of
    new and flown. Motors: Σ over axes of mixer² · |P + D·jω·F|² · density, its integral above 60 Hz; axes taken as unlike.
    """
    rows, hz = noise.rows, noise.rows.frequency_hz
    chip = _chip_power(flown, new, hz)
    through = noise.through(new) * chip
    by_row = {
        axis: power * through * (1.0 if sensitivity is None or axis not in sensitivity else sensitivity[axis])
        for axis, power in noise.power.items()
    }
    density = {axis: rows.share @ values for axis, values in by_row.items()}
    bin_hz = float(hz[1] - hz[0])
    by_axis = {}
    weights = motor_weights(mixer)
    for axis, values in density.items():
        if axis in gains:
            made = np.abs(command_of(gains[axis], new, hz)) ** 2 * values
            by_axis[axis] = math.sqrt(weights[axis] * float(made[hz >= MOTORS_FROM_HZ].sum()) * bin_hz)
    return Residual(
        frequency_hz=hz,
        density=density,
        rows=by_row,
        bands_dps={axis: bands_of(hz, values) for axis, values in density.items()},
        motor_rms=math.sqrt(sum(value**2 for value in by_axis.values())) if by_axis else None,
        by_axis=by_axis,
    )


def _chip_power(flown: Controller, new: Controller, frequency_hz: FloatArray) -> FloatArray:
    if flown.chip == new.chip:
        return np.ones(frequency_hz.size)
    before, after = (np.abs(fixed_response(one.chip, frequency_hz, one.loop_rate_hz)) ** 2 for one in (flown, new))
    return np.asarray(after / np.maximum(before, _LEAST_POWER))


def command_of(gains: AxisGains, controller: Controller, frequency_hz: FloatArray) -> ComplexArray:
    """What P and D make of the filtered gyro [share per deg/s], the derivative as the last difference."""
    rate_hz = controller.loop_rate_hz
    slope = (1 - np.exp(-2j * np.pi * frequency_hz / rate_hz)) * rate_hz
    return np.asarray(gains.p + gains.d * slope * fixed_response(controller.d_term, frequency_hz, rate_hz))


def motor_weights(mixer: FloatArray) -> dict[str, float]:
    """Mean over motors of the mixer's square, by axis; rows of `mixer` are motors, columns roll, pitch, yaw."""
    return {axis: float(np.mean(mixer[:, k] ** 2)) for k, axis in enumerate(("roll", "pitch", "yaw"))}


def bands_of(frequency_hz: FloatArray, density: FloatArray) -> dict[str, float]:
    """RMS in the three bands of the trade [unit of the root of density times Hz]; a band beyond the log is left out."""
    bin_hz = float(frequency_hz[1] - frequency_hz[0])
    found = {}
    for name, (low, high) in BANDS_HZ.items():
        inside = (frequency_hz >= low) & (frequency_hz < high)
        if inside.any():
            found[name] = math.sqrt(float(density[inside].sum()) * bin_hz)
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """How well the flown chain's own prediction meets the logged filtered gyro, and where that could not be said."""

    error_db: dict[str, dict[str, float]]  # axis → band → [dB], + is too much
    folded: dict[str, tuple[str, ...]]  # axis → bands in which noise from above half the log rate hides the rest


def check_of(noise: Incoming, flown: Controller) -> Check:
    """Predicted against logged filtered gyro by axis and band; only where both gyros were recorded.

    A log slower than the control loop folds noise from above half its rate down, into the raw gyro more than into the filtered
    one. What comes down is about as dense as the raw spectrum's top tenth: only frequencies that stand 6 times above that are
    compared, and a band that has less than half of its power there is not judged (the factors are our own, no source).
    """
    found: dict[str, dict[str, float]] = {}
    folded: dict[str, tuple[str, ...]] = {}
    rows, hz = noise.rows, noise.rows.frequency_hz
    through = noise.through(flown)
    is_slow = 2 * float(hz[-1]) < _SLOW_LOG * flown.loop_rate_hz
    for axis in rows.raw:
        if axis not in rows.filtered:
            continue
        raw = rows.share @ rows.raw[axis]
        clear = raw >= _ABOVE_FOLDED * float(np.median(raw[hz >= 0.9 * hz[-1]])) if is_slow else np.ones(hz.size, bool)
        whole, part = bands_of(hz, raw), bands_of(hz, np.where(clear, raw, 0.0))
        told = bands_of(hz, np.where(clear, rows.share @ (rows.raw[axis] * through), 0.0))
        measured = bands_of(hz, np.where(clear, rows.share @ rows.filtered[axis], 0.0))
        judged = [band for band in told if measured.get(band) and told[band] and part[band] ** 2 >= 0.5 * whole[band] ** 2]
        found[axis] = {band: 20 * math.log10(told[band] / measured[band]) for band in judged}
        if hidden := tuple(band for band in told if band not in judged):
            folded[axis] = hidden
    return Check(error_db=found, folded=folded)


def folded_sentence(check: Check, axis: str) -> str:
    """Why bands of an axis could not be checked; "" where all could."""
    hidden = check.folded.get(axis, ())
    if not hidden:
        return ""
    return (
        f"Not checked for {axis}: the {' and '.join(hidden)} band. The log is slower than the control loop, so noise from above "
        "half its rate folds down into it. Log at the loop's rate to check it"
    )
