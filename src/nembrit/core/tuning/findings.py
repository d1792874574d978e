"""Findings of one flight: ranked causes first, then single signs, and what could not be tested."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from nembrit.core.tuning import rules
from nembrit.core.tuning.causes import BY_CODE, Cause
from nembrit.core.tuning.finding import Finding
from nembrit.core.tuning.ranking import CLEAN, Ranking, rank
from nembrit.core.tuning.symptoms import Symptoms
from nembrit.core.types import AXES

ACT, WATCH, HINT = 0.8, 0.25, 0.1  # likelihood from which a cause calls for action, is worth a look, or is mentioned
MOST_SURE = 0.98  # more than this has not been shown on any flight that was not fitted to
_MOSTLY, _LOUD_SWING_DB = 0.6, 12.0
_LEAST_ROUGHNESS = 0.01  # of the motors' range: less does not heat them, whatever D passes on
_SURE_PROPELLER = 4.0  # without recorded speeds a milder lead only names the roughest motor
_CAUTION = "Gains and filters would only mask this: cure the mechanics first."
_SAFETY = "Propellers off for any work on the bench."


@dataclass(frozen=True, slots=True, kw_only=True)
class History:
    """What this craft's earlier flights showed, oldest first."""

    metrics: Mapping[str, Sequence[float]] = field(default_factory=dict)
    spike_axes: tuple[str, ...] = ()


def findings_of(
    symptoms: Symptoms, *, sample_rate_hz: float, metrics: Mapping[str, float], history: History | None = None
) -> tuple[Finding, ...]:
    """All findings, most important first; the first one's first cause is the verdict."""
    ranking = rank(symptoms.values)
    ranked = [_ranked(BY_CODE[code], likelihood, symptoms, ranking) for code, likelihood in _by_likelihood(ranking)]
    extra = _single(symptoms, sample_rate_hz, metrics)
    if history is not None:
        extra += _compared(ranked, metrics, history)
    named = {finding.code for finding in ranked}
    if ranked and ranked[0].severity == "act":
        # a loud fault has secondary symptoms: single signs of it are no news
        extra = [finding for finding in extra if finding.severity == "info" or not named & set(finding.causes)]
    plain, hints = [one for one in ranked if one.severity != "info"], [one for one in ranked if one.severity == "info"]
    signs, notes = [one for one in extra if one.severity == "watch"], [one for one in extra if one.severity != "watch"]
    return (*plain, *signs, *hints, *notes)


def _compared(ranked: list[Finding], metrics: Mapping[str, float], history: History) -> list[Finding]:
    """What only the craft's own history shows."""
    found = []
    for axis in AXES:
        name = f"motion_noise.{axis}"
        if name in metrics:
            found.append(rules.sensor_worse(axis, metrics[name], history.metrics.get(name, ())))
    spiky = next((finding.axis for finding in ranked if finding.code == "electrical_spikes"), None)
    found.append(rules.spikes_moved(spiky, history.spike_axes))
    return [finding for finding in found if finding is not None]


def _by_likelihood(ranking: Ranking) -> list[tuple[str, float]]:
    found = [(code, value) for code, value in ranking.likelihood.items() if code != CLEAN and value >= HINT]
    return sorted(found, key=lambda pair: -pair[1])


def _ranked(cause: Cause, likelihood: float, symptoms: Symptoms, ranking: Ranking) -> Finding:
    axis, motor, highlight, conclusion, evidence = _words(cause.code, symptoms)
    severity = "act" if likelihood >= ACT else "watch" if likelihood >= WATCH else "info"
    if cause.code == "propeller" and symptoms.values.get("turn_is_recorded") == 0.0:
        severity = "watch" if severity == "act" and symptoms.values["turn_over_median"] < _SURE_PROPELLER else severity
    if severity == "info":
        conclusion = (
            f": {cause.name}? Probably not ({likelihood:.0%} likely); the first thing to look at if something feels wrong."
        )
    if cause.code == "d_noise" and symptoms.values["output_roughness"] < _LEAST_ROUGHNESS:
        severity = "watch" if severity == "act" else severity
    others = {code: value for code, value in ranking.likelihood.items() if code not in (CLEAN, cause.code) and value >= 0.05}
    caution = "" if cause.kind == "tune" else f"{_CAUTION} {_SAFETY}"
    return Finding(
        code=cause.code,
        kind=cause.kind,
        severity=severity,
        confidence=round(min(likelihood, MOST_SURE), 3),
        axis=axis,
        motor=motor,
        highlight=highlight,
        conclusion=conclusion,
        evidence=evidence,
        causes=(cause.code, *sorted(others, key=lambda code: -others[code])),
        likelihood={cause.code: likelihood, **others},
        look_alikes=cause.look_alikes,
        proof=cause.proof,
        caution=caution,
    )


def _words(code: str, s: Symptoms) -> tuple[str | None, int | None, str, str, dict[str, float]]:
    """Axis, motor, what was measured, what it means, and the numbers."""
    v = s.values
    if code == "loose_mount":
        loud = max((s.humps[axis] for axis in AXES[:2] if axis in s.humps), key=lambda hump: hump.excess_db)
        numbers = {"excess_db": loud.excess_db, "peak_hz": loud.peak_hz, "width_hz": loud.width_hz}
        text = f"A hump of {loud.excess_db:.1f} dB around {loud.peak_hz:.0f} Hz"
        return None, None, text, "in roll and pitch: the flight controller or its tray probably sits loose.", numbers
    if code == "frame_resonance" and s.resonance:
        axis, line = s.resonance
        numbers = {"peak_hz": line.frequency_hz, "level_db": line.level_db, "width_hz": line.width_hz}
        error = "" if line.error_hz is None else f" ± {max(1, round(line.error_hz))}"
        text = f"A line of {line.level_db:.1f} dB that stays at {line.frequency_hz:.0f}{error} Hz"
        return axis, None, text, f"at every throttle, strongest in {axis}: a part of the frame rings.", numbers
    if code == "propeller" and s.turning:
        numbers = {"over_median": s.turning.over_median, "over_second": s.turning.over_second}
        text = f"Motor {s.turning.motor} shakes {s.turning.over_median:.1f} times as much as its neighbours once per turn"
        return None, s.turning.motor, text, ": its propeller is probably bent, chipped or off centre.", numbers
    if code == "bearing" and s.rough:
        numbers = {"over_second": s.rough.over_second}
        text = f"Motor {s.rough.motor} is {s.rough.over_second:.0f} times as rough as the next at high frequencies"
        return None, s.rough.motor, text, ", away from its lines: a bearing is probably worn.", numbers
    if code == "electrical_spikes":
        axis, spikes = max(s.spikes.items(), key=lambda pair: len(pair[1].times_s))
        share = spikes.coincident_ratio or 0.0
        numbers = {"count": float(len(spikes.times_s)), "coincident_ratio": share}
        text = f"{len(spikes.times_s)} spikes on {axis}, {share:.0%} of them just when a motor jumps"
        return axis, None, text, f" (by chance: {spikes.chance_ratio or 0.0:.0%}): electrical, not mechanical.", numbers
    if code == "noisy_axis":
        text = f"The quietest moments of {s.noisy_axis} are {v['noisy_axis_db']:.0f} dB louder than those of the next axis"
        return s.noisy_axis, None, text, ": this axis of the gyro is noisy by itself.", {"level_db": v["noisy_axis_db"]}
    if code == "d_noise":
        numbers = {"output_roughness": v["output_roughness"], "d_over_p": v["d_over_p"]}
        text = (
            f"Motors move by {100 * v['output_roughness']:.1f} % above 60 Hz, and D brings {v['d_over_p']:.0f} times what P does"
        )
        return None, None, text, ": D passes noise on, which only heats the motors.", numbers
    if code == "p_high" and s.overshoot_axis and (v.get("overshoot_ratio", 0.0) > 0.25 or not s.oscillations):
        text = f"{s.overshoot_axis.capitalize()} overshoots every step by {100 * v['overshoot_ratio']:.0f} % or more"
        meaning = ": the loop is near its limit, P is too high."
        return s.overshoot_axis, None, text, meaning, {"overshoot_ratio": v["overshoot_ratio"]}
    if code == "p_high" and v.get("lost_share", 0.0) > _MOSTLY and v.get("oscillation_db", 0.0) < _LOUD_SWING_DB:
        text = f"The motors were at their limits for {v['lost_share']:.0%} of the flight at middle throttle"
        return None, None, text, ": the loop asks for more than they can give, P is too high.", {"lost_share": v["lost_share"]}
    if code == "p_high":
        axis = max(s.oscillations, key=lambda name: s.oscillations[name][0])
        level, frequency = s.oscillations[axis]
        text = f"{axis.capitalize()} swings at {frequency:.0f} Hz, {level:.0f} dB above its surroundings"
        return axis, None, text, ": the loop is near its limit, P is too high.", {"level_db": level, "frequency_hz": frequency}
    if code == "filters_low":
        text = f"The filters hold the gyro back by {v['chain_delay_ms']:.1f} ms"
        return None, None, text, ": that delay costs more than the noise it saves.", {"delay_ms": v["chain_delay_ms"]}
    if code == "idle_low":
        more = " or more" if v["idle_lag_ratio"] >= 10 else ""
        text = f"At zero throttle the motors answer {v['idle_lag_ratio']:.1f} times{more} slower than in flight"
        meaning = ": they turn too slowly to grip; the idle is too low."
        return None, None, text, meaning, {"idle_lag_ratio": v["idle_lag_ratio"]}
    text = f"I works at {v['integral_ratio']:.2f} of P a second"
    return (
        None,
        None,
        text,
        ": it takes many seconds to put the nose back after a change of throttle.",
        {"ratio": v["integral_ratio"]},
    )


def _single(symptoms: Symptoms, sample_rate_hz: float, metrics: Mapping[str, float]) -> list[Finding]:
    v = symptoms.values
    found = [rules.slow_log(sample_rate_hz), rules.idle_low(None if "idle_lag_ratio" in v else v.get("idle_ratio"))]
    found.append(rules.wash({axis: metrics[name] for axis in AXES if (name := f"wash_rms.{axis}") in metrics}))
    found.append(
        rules.filters_open(metrics.get("jitter_noise.roll"), metrics.get("filtered_jitter.roll"), v.get("output_roughness"))
    )
    if symptoms.vibration is not None:
        found += [rules.overlap(symptoms.vibration), rules.command_peak(symptoms.vibration)]
    if symptoms.frames is not None:
        found += [rules.swing_kind(symptoms.frames, axis, swing) for axis, swing in symptoms.oscillations.items()]
    return [finding for finding in found if finding is not None]
