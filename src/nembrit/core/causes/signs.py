"""Rules beside the ranked causes: one sign each, judged alone, never above `watch`.

Their thresholds are common practice or starting values of a prototype, no source; each says which.
"""

from collections.abc import Mapping, Sequence

import numpy as np

from nembrit.core.causes.finding import Finding
from nembrit.core.noise.vibration import Vibration
from nembrit.core.response.oscillation import Oscillation
from nembrit.core.spectra.frames import Frames
from nembrit.core.types import AXES

_ENOUGH_RATE_HZ = 1000.0
_LEAST_SEPARATION = 2.0
_OPEN_SHARE, _OPEN_ROUGHNESS, _ADDS_SHARE = 0.8, 0.03, 1.1
_WASH_DPS = 25.0
_IDLE_RATIO = 3.0
_WORSE_RATIO, _WORSE_DEVIATIONS = 1.3, 4.0
_SWING_DB = 8.0
_MOST_PEAK = 2.0  # leaves 29° of phase margin and 6 dB of gain margin (Åström & Murray, Feedback Systems, 2008, chapter 9)
_ERRATIC, _CONSISTENT = 8.0, 4.0


_FEEDS = {"p": "P drives it", "i": "I drives it", "d": "D drives it", "mechanical": "something knocks"}
_LOWER = {"p": "Lower P", "i": "Lower I", "d": "Lower D"}


def oscillating(swing: Oscillation) -> Finding | None:
    """A swing that could burn a motor; milder ones are told on the page of the response."""
    if swing.severity != "stop":
        return None
    cure = _LOWER.get(swing.kind, "Find what knocks")
    return Finding(
        code="oscillation", kind="mechanical" if swing.kind == "mechanical" else "tune", severity="stop", confidence=None,
        axis=swing.axis,
        highlight=f"{swing.axis.capitalize()} oscillated at {swing.frequency_hz:.0f} Hz for {swing.end_s - swing.start_s:.0f} s",
        conclusion=f", by {swing.amplitude_dps:.0f} deg/s: {_FEEDS.get(swing.kind, 'no terms logged')}. It heats the motors.",
        evidence={"frequency_hz": swing.frequency_hz, "amplitude_dps": swing.amplitude_dps},
        causes={"p": ("p_high", "filters_low"), "d": ("d_noise", "filters_low"), "i": ("i_high",)}.get(swing.kind, ()),
        proof=f"{cure} before the next flight; hover low over soft ground for ten seconds, land, and touch the motors.",
        caution="Do not fly it like this.",
    )  # fmt: skip


def check_unit(reason: str) -> Finding:
    """A channel whose numbers no craft can have: nothing rests on it until its unit is right."""
    what, _, numbers = reason.partition(": ")
    return Finding(
        code="check_unit", kind="log", severity="watch", confidence=None,
        highlight=f"{what[:1].upper()}{what[1:]}", conclusion=f": {numbers}. It is left out of every result.", evidence={},
        proof="Open “Check the meanings” on the page of the log and say what the numbers are in.",
    )  # fmt: skip


def slow_log(sample_rate_hz: float) -> Finding | None:
    """A log slower than 1 kHz hides half of what motors and blades do, and folds it down (sampling theorem)."""
    if sample_rate_hz >= _ENOUGH_RATE_HZ:
        return None
    half = sample_rate_hz / 2
    return Finding(
        code="log_rate_low", kind="log", severity="info", confidence=1.0,
        highlight=f"The log was written at {sample_rate_hz:.0f} Hz",
        conclusion=f": nothing above {half:.0f} Hz can be measured, and strong lines above it appear at false, lower "
            f"frequencies.",
        evidence={"sample_rate_hz": sample_rate_hz}, proof="Record at 2 kHz or the loop's own rate and fly the card again.",
    )  # fmt: skip


def overlap(vibration: Vibration) -> Finding | None:
    """Accelerometer z must stand apart from x and y in hover; overlap means vibration (common practice)."""
    value = vibration.axis_separation
    if value is None or not np.isfinite(value) or value >= _LEAST_SEPARATION:
        return None
    return Finding(
        code="vibration", kind="mechanical", severity="watch", confidence=None,
        highlight=f"The accelerometer’s z is only {value:.1f} spreads away from x and y in hover",
        conclusion=": the craft shakes more than it should.",
        evidence={"axis_separation": value}, causes=("loose_mount", "propeller", "bearing"),
        is_about_motors=True,
        proof="Balance or change the propellers, tighten every part, hover again: the traces must separate.",
    )  # fmt: skip


def filters_open(raw_dps: float | None, filtered_dps: float | None, roughness: float | None) -> Finding | None:
    """Filters that let nearly all noise above 100 Hz through to rough motors (starting values of a prototype)."""
    if not raw_dps or filtered_dps is None or roughness is None:
        return None
    share = filtered_dps / raw_dps
    if share < _OPEN_SHARE or roughness < _OPEN_ROUGHNESS:
        return None
    adds = share > _ADDS_SHARE
    return Finding(
        code="filters_open", kind="tune", severity="watch", confidence=None,
        highlight=f"{100 * share:.0f} % of the noise of 100 to 300 Hz passes the filters; motors move by {100 * roughness:.1f} %",
        conclusion=f": {'they add noise themselves' if adds else 'the cutoffs are too high for this much noise'}.",
        evidence={"passed_ratio": share, "output_roughness": roughness}, causes=("filters_open", "d_noise"),
        proof=(
            "Hover for some seconds without the filters that follow the motors, land and touch the motors: "
            "the filtered gyro must become quieter than the raw one."
            if adds
            else "Lower the gyro filter step by step; watch delay and motor temperature."
        ),
    )  # fmt: skip


def wash(wash_dps: Mapping[str, float]) -> Finding | None:
    """Shaking while sinking through the own wash (starting value of a prototype)."""
    loud = {axis: value for axis, value in wash_dps.items() if value > _WASH_DPS}
    if not loud:
        return None
    axis, value = max(loud.items(), key=lambda pair: pair[1])
    return Finding(
        code="wash", kind="aerodynamic", severity="watch", confidence=None, axis=axis,
        highlight=f"{value:.0f} deg/s of prop-wash shaking on {axis}",
        conclusion=": air turbulence is part of it; D, filter delay and I set how much.",
        evidence={"wash_rms_dps": value}, causes=("wash", "i_low", "filters_low"),
        proof="Descend with forward speed: if it stays, it is not prop wash.",
    )  # fmt: skip


def margin_low(peaks: Mapping[str, float]) -> Finding | None:
    """A loop whose sensitivity peak is surely above 2, by the lower ends of the axes' intervals."""
    axis = max((one for one in AXES[:2] if one in peaks), key=peaks.__getitem__, default=None)
    if axis is None or peaks[axis] <= _MOST_PEAK:
        return None
    return Finding(
        code="margin_low", title="low margin", kind="tune", severity="watch", confidence=None, axis=axis,
        highlight=f"{axis.capitalize()} is close to oscillation",
        conclusion=f": its sensitivity peak is {peaks[axis]:.1f} or more, and 2 is the limit.",
        evidence={"sensitivity_peak_low": peaks[axis]}, causes=("p_high", "filters_low"),
        proof="Fly the same card with a lower P: the peak must fall.",
    )  # fmt: skip


def idle_low(ratio: float | None) -> Finding | None:
    """Shimmy at zero throttle well above hover, where motor speeds do not tell (weak: wind does the same)."""
    if ratio is None or ratio < _IDLE_RATIO:
        return None
    return Finding(
        code="idle_low", kind="tune", severity="watch", confidence=None,
        highlight=f"{ratio:.1f} times the hover error at zero throttle",
        conclusion=": the idle may be too low, or gusts hit the floats.",
        evidence={"idle_ratio": ratio}, causes=("idle_low", "gust"),
        proof="Three floats in calm air; then three more with a higher idle.",
    )  # fmt: skip


def sensor_worse(axis: str, now_dps: float, earlier_dps: Sequence[float]) -> Finding | None:
    """Noise floor of an axis against the craft's own history: beyond 1.3 times its median and four robust deviations."""
    if len(earlier_dps) < 4:
        return None
    usual = float(np.median(earlier_dps))
    spread = 1.4826 * float(np.median(np.abs(np.asarray(earlier_dps) - usual)))
    if now_dps < max(_WORSE_RATIO * usual, usual + _WORSE_DEVIATIONS * spread):
        return None
    return Finding(
        code="sensor_worse", kind="electrical", severity="watch", confidence=None, axis=axis,
        highlight=f"Motion noise of {axis} is {now_dps:.1f} deg/s; {usual:.1f} was usual in {len(earlier_dps)} flights before",
        conclusion=": something changed in the craft or its gyro.",
        evidence={"now_dps": now_dps, "usual_dps": usual}, causes=("loose_mount", "sensor", "propeller"),
        proof="Check what was changed; fly the same card again in calm air.",
    )  # fmt: skip


def spikes_moved(axis: str | None, earlier_axes: Sequence[str]) -> Finding | None:
    """Spikes on another axis than before: after a swap of boards the fault may have moved (common practice)."""
    if axis is None or not earlier_axes or axis in earlier_axes:
        return None
    return Finding(
        code="spikes_moved", kind="electrical", severity="info", confidence=None, axis=axis,
        highlight=f"The spikes are on {axis} now; they were on {earlier_axes[-1]} before",
        conclusion=": the fault moved with the change, so wiring or supply is more likely than the chip.",
        evidence={}, causes=("wiring", "supply", "board"),
        proof="Add the capacitor or repair the wiring before you swap another board; check every axis again.",
    )  # fmt: skip


def swing_kind(frames: Frames, axis: str, swing: tuple[float, float]) -> Finding | None:
    """Whether a swing comes and goes (mechanical) or is always there (gains), from its power frame by frame.

    The 90th percentile over the median of the power within 15 % of the swing's frequency: above 8 erratic, below 4
    consistent (plain noise has 3.3, the ratio of the exponential's percentiles; starting values).
    """
    role = next((name for name in frames.power if name.startswith("gyro") and name.endswith(axis)), None)
    level_db, frequency_hz = swing
    if role is None or level_db < _SWING_DB:
        return None
    near = np.abs(frames.frequency_hz - frequency_hz) <= max(0.15 * frequency_hz, frames.bin_hz)
    power = frames.power[role][frames.is_calm][:, near].sum(axis=1)
    spread = float(np.quantile(power, 0.9) / max(float(np.median(power)), 1e-12))
    if _CONSISTENT <= spread <= _ERRATIC:
        return None
    erratic = spread > _ERRATIC
    return Finding(
        code="swing_erratic" if erratic else "swing_consistent", kind="mechanical" if erratic else "tune",
        severity="info", confidence=None, axis=axis,
        highlight=f"The {frequency_hz:.0f} Hz oscillation of {axis} " + ("comes and goes" if erratic else
            "is there all the time"),
        conclusion=": an erratic oscillation is mostly mechanical." if erratic else ": a constant oscillation mostly "
            "comes from gains.",
        evidence={"spread_ratio": spread, "frequency_hz": frequency_hz},
        causes=("loose_mount",) if erratic else ("p_high", "filters_low"),
        proof="Tighten every part and fly again." if erratic else "Fly again with a lower P.",
    )  # fmt: skip
