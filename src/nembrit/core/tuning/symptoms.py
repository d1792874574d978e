"""Symptoms: the numbers of one flight that speak for or against each cause, measured once.

A symptom that cannot be measured (no channel, no such manoeuvre) is absent, and `untested` says what to do.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from nembrit.core.errors import CoreError, NotEnoughData
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.noise.frames import Frames, frames_of
from nembrit.core.noise.hump import Hump, hump_of
from nembrit.core.noise.lines import Line, noise_lines
from nembrit.core.noise.motors import MotorShares, once_per_turn, once_per_turn_estimated, rough_noise
from nembrit.core.noise.rotors import RotorTrack, cleaned_density, commanded_track, order_mask, rotor_track
from nembrit.core.noise.spectra import Spectrum, welch_spectrum
from nembrit.core.noise.spikes import Spikes, spikes_of
from nembrit.core.noise.vibration import Vibration, vibration_of
from nembrit.core.records.log import Recording
from nembrit.core.response.authority import lost_share
from nembrit.core.response.loop import chain_delay_s, idle_ratio, integral_over_proportional, oscillation
from nembrit.core.response.spool import spool_ratio
from nembrit.core.types import AXES, BoolArray, FloatArray

_NARROW_HZ = 30.0
_RESONANCE_FROM_HZ = 60.0
_D_HIGH_HZ, _D_MIDDLE_HZ = (200.0, 400.0), (60.0, 150.0)
_MOSTLY_LOST = 0.75  # of the flying at middle throttle
_ACT_HZ = 60.0  # motors and D term: above this only heat comes of it


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Symptoms:
    """Everything that the causes are judged by; `values` are the numbers, the rest says where they come from."""

    values: dict[str, float] = field(default_factory=dict)
    untested: dict[str, str] = field(default_factory=dict)  # cause → what is missing and how to get it
    frames: Frames | None = None
    track: RotorTrack | None = None
    lines: dict[str, tuple[Line, ...]] = field(default_factory=dict)  # by gyro role
    humps: dict[str, Hump] = field(default_factory=dict)
    spikes: dict[str, Spikes] = field(default_factory=dict)
    turning: MotorShares | None = None
    rough: MotorShares | None = None
    vibration: Vibration | None = None
    oscillations: dict[str, tuple[float, float]] = field(default_factory=dict)  # axis → dB, Hz
    overshoot_axis: str | None = None  # roll or pitch, whichever overshoots more
    noisy_axis: str | None = None
    resonance: tuple[str, Line] | None = None


def symptoms_of(
    recording: Recording,
    *,
    n_motors: int,
    blades: int | None = None,
    spans: Sequence[Span] = (),
    overshoots: Mapping[str, float] | None = None,
    usable: Mapping[str, BoolArray] | None = None,
) -> Symptoms:
    """Measure all symptoms of the usable part of a flight; never raises for data that cannot answer.

    `overshoots` are the lower ends of the step responses' intervals by axis, where they were worked out already, and
    `usable` is where each axis had authority at middle throttle.
    """
    values: dict[str, float] = {}
    untested: dict[str, str] = {}
    try:
        frames = frames_of(recording)
    except CoreError as error:
        noise = ("loose_mount", "frame_resonance", "propeller", "bearing", "noisy_axis")
        frames = None
        untested |= dict.fromkeys(noise, str(error))
    spikes = {axis: found for axis in AXES if (found := spikes_of(recording, axis)) is not None}
    _spike_values(spikes, values, untested)
    oscillations = _loop_values(recording, spans, usable or {}, values, untested)
    _command_values(recording, values, untested)
    known = {axis: ratio for axis, ratio in (overshoots or {}).items() if axis in AXES[:2]}
    past = max(known, key=known.__getitem__, default=None)
    if past is not None:
        values["overshoot_ratio"] = known[past]
    if frames is None:
        return Symptoms(values=values, untested=untested, spikes=spikes, oscillations=oscillations, overshoot_axis=past)
    track = rotor_track(frames)
    roles = [role for role in frames.power if role.startswith("gyro")]
    lines = {role: noise_lines(frames, role, track, blades=blades) for role in roles}
    mask = None if track is None else order_mask(frames, track)
    densities = {role: cleaned_density(frames, role, mask, frames.is_calm) for role in roles}
    humps = _humps(frames, densities)
    if {"roll", "pitch"} <= humps.keys():
        values["hump_weaker_db"] = min(humps[axis].excess_db for axis in AXES[:2])
        values["hump_stronger_db"] = max(humps[axis].excess_db for axis in AXES[:2])
        values["hump_width_hz"] = max(humps[axis].width_hz for axis in AXES[:2])
    else:
        untested["loose_mount"] = "needs the gyro of roll and pitch, logged at 640 Hz or more"
    resonance = None
    if track is None and commanded_track(frames) is None:
        untested["frame_resonance"] = "needs motor speeds, or a throttle ramp, to tell lines that stay from lines that move"
    else:
        steady = densities if mask is not None else {role: _steady_density(frames, role) for role in roles}
        resonance = _resonance(frames, lines, steady, values)
    turning, rough = _motors(recording, frames, track, n_motors, values, untested)
    noisy = _noisy_axis(frames, roles, values, untested)
    return Symptoms(
        values=values,
        untested=untested,
        frames=frames,
        track=track,
        lines=lines,
        humps=humps,
        spikes=spikes,
        turning=turning,
        rough=rough,
        vibration=vibration_of(recording, frames),
        oscillations=oscillations,
        overshoot_axis=past,
        noisy_axis=noisy,
        resonance=resonance,
    )


def _spike_values(spikes: Mapping[str, Spikes], values: dict[str, float], untested: dict[str, str]) -> None:
    if not spikes:
        untested["electrical_spikes"] = "needs the raw gyro: switch it on in the recorder"
        return
    worst = max(spikes.values(), key=lambda found: len(found.times_s))
    values["spike_count"] = float(len(worst.times_s))
    if worst.times_s and worst.coincident_ratio is None:
        untested["electrical_spikes"] = "spikes are there; motor commands would show whether they belong together"
    told = worst.coincident_ratio is not None and worst.p_value is not None and worst.p_value < 0.01
    values["spike_coincident"] = float(len(worst.times_s) * (worst.coincident_ratio or 0.0)) if told else 0.0


def _humps(frames: Frames, densities: Mapping[str, FloatArray]) -> dict[str, Hump]:
    found = {}
    for role, density in densities.items():
        spectrum = Spectrum(
            frequency_hz=frames.frequency_hz, psd_dps2_per_hz=density, n_segments=frames.t_s.size, n_effective=frames.t_s.size / 3
        )
        if (hump := hump_of(spectrum)) is not None:
            found[role.split(".")[-1]] = hump
    return found


def _steady_density(frames: Frames, role: str) -> FloatArray:
    """The middle one of the densities at low, middle and high throttle: a motor's line is in one of them only."""
    drive = frames.drive()
    thirds = np.array_split(np.argsort(drive[0] if drive else frames.t_s), 3)
    return np.asarray(
        np.median([cleaned_density(frames, role, None, np.isin(np.arange(frames.t_s.size), part)) for part in thirds], axis=0)
    )


def _resonance(
    frames: Frames, lines: Mapping[str, tuple[Line, ...]], densities: Mapping[str, FloatArray], values: dict[str, float]
) -> tuple[str, Line] | None:
    """The strongest narrow line of roll or pitch that stays put, its level and what it amounts to in hover."""
    best: tuple[float, float, str, Line] | None = None
    for role, found in lines.items():
        for line in found:
            is_narrow = line.width_hz < _NARROW_HZ and line.frequency_hz >= _RESONANCE_FROM_HZ
            if line.kind not in ("resonance", "unknown") or not is_narrow or role.endswith("yaw"):
                continue
            near = np.abs(frames.frequency_hz - line.frequency_hz)
            around = (near > 20) & (near <= 60)
            floor = float(np.median(densities[role][around]))
            excess = np.clip(densities[role][near <= 12] - floor, 0, None)
            rms = float(np.sqrt(excess.sum() * frames.bin_hz))
            level_db = 10 * np.log10(max(float(densities[role][near <= 5].max()), 1e-12) / max(floor, 1e-12))
            if best is None or rms > best[1]:
                best = (level_db, rms, role, line)
    values["resonance_db"], values["resonance_rms_dps"] = (best[0], best[1]) if best else (0.0, 0.0)
    return (best[2].split(".")[-1], best[3]) if best else None


def _motors(
    recording: Recording,
    frames: Frames,
    track: RotorTrack | None,
    n_motors: int,
    values: dict[str, float],
    untested: dict[str, str],
) -> tuple[MotorShares | None, MotorShares | None]:
    track = track or commanded_track(frames)
    if track is None or track.hz.shape[1] < max(3, n_motors):
        missing = "needs every motor's command, and a throttle that moves; motor speeds make it sure"
        untested["propeller"] = untested["bearing"] = missing
        return None, None
    turning = None
    if track.is_relative:
        untested["propeller"] = "no lines show how fast the motors turn: record their speeds"
    else:
        turning = once_per_turn(recording, track.hz.shape[1]) if track.is_recorded else once_per_turn_estimated(frames, track)
    if turning is None:
        untested.setdefault("propeller", "the motors never turned at speeds far enough apart: fly snaps in roll and yaw")
    else:
        values["turn_over_median"] = turning.over_median
        values["turn_over_second"] = turning.over_second
        values["turn_is_recorded"] = float(track.is_recorded)
    rough = rough_noise(frames, track)
    if rough is None:
        untested["bearing"] = "needs the gyro at 1 kHz or more, and a throttle that moves"
    else:
        values["rough_over_second"] = rough.over_second
        values["rough_level"] = max(value for value in rough.values if np.isfinite(value))
    return turning, rough


def _noisy_axis(frames: Frames, roles: list[str], values: dict[str, float], untested: dict[str, str]) -> str | None:
    top = frames.frequency_hz >= 0.3 * frames.sample_rate_hz
    if len(roles) < 3 or frames.is_low.sum() < 6 or not top.any():
        untested["noisy_axis"] = "needs all three gyro axes and a throttle that moves"
        return None
    quiet = {}
    for role in roles:
        power = frames.power[role][frames.is_low][:, top].mean(axis=1)
        quiet[role.split(".")[-1]] = 10 * np.log10(max(float(np.quantile(power, 0.15)), 1e-12))
    ranked = sorted(quiet, key=lambda axis: -quiet[axis])
    values["noisy_axis_db"] = quiet[ranked[0]] - quiet[ranked[1]]
    return ranked[0]


def _loop_values(
    recording: Recording,
    spans: Sequence[Span],
    usable: Mapping[str, BoolArray],
    values: dict[str, float],
    untested: dict[str, str],
) -> dict[str, tuple[float, float]]:
    everywhere = np.ones(recording.n_samples, bool)
    found = {axis: swing for axis in AXES[:2] if (swing := oscillation(recording, axis, everywhere)) is not None}
    if found:
        values["oscillation_db"], values["oscillation_hz"] = max(found.values())
    else:
        untested["p_high"] = "needs set-point and gyro at 300 Hz or more"
    delays = [delay for axis in AXES[:2] if (delay := chain_delay_s(recording, axis)) is not None]
    if delays:
        values["chain_delay_ms"] = 1000 * max(delays)
    else:
        untested["filters_low"] = "needs the raw and the filtered gyro: switch both on"
    lost = [share for axis in AXES[:2] if axis in usable and (share := lost_share(recording, usable[axis])) is not None]
    if lost:
        values["lost_share"] = max(lost)
    ratios = [r for axis in AXES[:2] if (r := integral_over_proportional(recording, axis, usable.get(axis))) is not None]
    if ratios:
        values["integral_ratio"] = max(ratios)
    else:
        untested["i_low"] = "needs the P and the I term in the log, and flying within the motors' limits"
    idles = [idle for axis in AXES[:2] if (idle := idle_ratio(recording, axis, list(spans))) is not None]
    if idles and min(n for _, n in idles) >= 2:
        values["idle_ratio"] = max(ratio for ratio, _ in idles)
    if (lag := spool_ratio(recording, spans)) is not None:
        values["idle_lag_ratio"] = lag
    else:
        untested["idle_low"] = "needs motor speeds and a float at zero throttle: fly the full card"
    if values.get("lost_share", 0.0) > _MOSTLY_LOST:
        untested |= dict.fromkeys(("i_low", "idle_low"), "motors were at their limits for most of the flight; cure that first")
    return found


def _command_values(recording: Recording, values: dict[str, float], untested: dict[str, str]) -> None:
    motors = [role for n in range(1, 9) if recording.has(role := f"motor.{n}")]
    rough = [level for role in motors if (level := _rms_above(recording, role)) is not None]
    if rough:
        values["output_roughness"] = float(np.mean(rough))
    pairs = [
        (d, p)
        for axis in AXES[:2]
        if (d := _rms_above(recording, f"term_d.{axis}")) is not None
        and (p := _rms_above(recording, f"term_p.{axis}")) is not None
    ]
    if pairs and min(p for _, p in pairs) > 0:
        values["d_over_p"] = max(d / p for d, p in pairs)
    opened = [level for axis in AXES[:2] if (level := _d_filter_db(recording, axis)) is not None]
    if opened:
        values["d_filter_db"] = max(opened)
    if not (rough and pairs):
        untested["d_noise"] = "needs the motor commands and the P and D terms, at 500 Hz or more"


def _d_filter_db(recording: Recording, axis: str) -> float | None:
    """What the D term's filters leave of 200 to 400 Hz against 60 to 150 Hz [dB]: power of the term over that of the filtered
    gyro's derivative, band against band, so that the noise's own shape does not count."""
    roles = (f"term_d.{axis}", f"gyro.{axis}")
    if not recording.has(*roles) or recording.sample_rate_hz < 2 * _D_HIGH_HZ[1]:
        return None
    try:
        term, gyro = (
            welch_spectrum(recording.channels[role], sample_rate_hz=recording.sample_rate_hz, segment_s=0.25) for role in roles
        )
    except NotEnoughData:
        return None
    passed = []
    for low_hz, high_hz in (_D_HIGH_HZ, _D_MIDDLE_HZ):
        band = (term.frequency_hz >= low_hz) & (term.frequency_hz <= high_hz)
        slope = gyro.psd_dps2_per_hz[band] @ gyro.frequency_hz[band] ** 2
        passed.append(float(term.psd_dps2_per_hz[band].sum() / max(float(slope), 1e-30)))
    return 10 * float(np.log10(passed[0] / passed[1])) if min(passed) > 0 else None


def _rms_above(recording: Recording, role: str) -> float | None:
    if not recording.has(role) or recording.sample_rate_hz < 500:
        return None
    try:
        spectrum = welch_spectrum(recording.channels[role], sample_rate_hz=recording.sample_rate_hz, segment_s=0.25)
    except NotEnoughData:
        return None
    above = spectrum.frequency_hz >= _ACT_HZ
    return float(np.sqrt(spectrum.psd_dps2_per_hz[above].sum() * spectrum.bin_hz))
