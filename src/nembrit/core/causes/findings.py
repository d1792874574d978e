"""Findings of one flight: ranked causes first, then single signs, and what could not be tested."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from nembrit.core.causes import signs
from nembrit.core.causes.cause import TUNE, Cause
from nembrit.core.causes.finding import Finding, Reading
from nembrit.core.causes.ranking import CLEAN, Ranking, rank
from nembrit.core.causes.sight import Sight
from nembrit.core.causes.symptoms import Symptoms
from nembrit.core.causes.table import BY_CODE, CAUSES
from nembrit.core.causes.weights import fitted_weights
from nembrit.core.types import AXES

_FAR = 1.0  # beyond the usual range, in widths of it
ACT, WATCH, HINT = 0.8, 0.25, 0.1  # likelihood from which a cause calls for action, is worth a look, or is mentioned
# more than this has not been shown: of findings stated at 98 %, 25 of 29 were right in a simulated world that the fit never saw
MOST_SURE = 0.9
_CAUTION = "Gains and filters would only mask this: fix the mechanics first."
_SAFETY = "Propellers off for any work on the bench."


@dataclass(frozen=True, slots=True, kw_only=True)
class History:
    """What this craft's earlier flights showed, oldest first."""

    metrics: Mapping[str, Sequence[float]] = field(default_factory=dict)
    spike_axes: tuple[str, ...] = ()


def findings_of(
    sight: Sight, symptoms: Symptoms, *, metrics: Mapping[str, float], history: History | None = None
) -> tuple[Finding, ...]:
    """All findings, most important first; the first one's first cause is the verdict.

    `metrics` are the flight's own (`trials.metrics`), and `filtered_jitter.<axis>` what the filters let through.
    """
    ranking = rank(symptoms.values)
    ranked = [_ranked(BY_CODE[code], likelihood, symptoms, ranking) for code, likelihood in _by_likelihood(ranking)]
    extra = _single(symptoms, sight, metrics)
    if history is not None:
        extra += _compared(ranked, metrics, history)
    if not [finding for finding in ranked if finding.severity != "info"]:
        # a low margin is a matter of gains, and explains itself
        low = signs.margin_low({axis: own.loop.sensitivity_peak.low for axis, own in sight.loops.items() if own.loop is not None})
        extra += [low] if low else _unexplained(symptoms.values)
    named = {finding.code for finding in ranked}
    if ranked and ranked[0].severity == "act":
        # a loud fault has secondary symptoms: single signs of it are no news
        extra = [finding for finding in extra if finding.severity != "watch" or not named & set(finding.causes)]
    plain, hints = [one for one in ranked if one.severity != "info"], [one for one in ranked if one.severity == "info"]
    watched, notes = [one for one in extra if one.severity == "watch"], [one for one in extra if one.severity == "info"]
    stops = [one for one in extra if one.severity == "stop"]
    return (*stops, *plain, *watched, *hints, *notes)


def _compared(ranked: list[Finding], metrics: Mapping[str, float], history: History) -> list[Finding]:
    """What only the craft's own history shows."""
    found = []
    for axis in AXES:
        name = f"motion_noise.{axis}"
        if name in metrics:
            found.append(signs.sensor_worse(axis, metrics[name], history.metrics.get(name, ())))
    spiky = next((finding.axis for finding in ranked if finding.code == "electrical_spikes"), None)
    found.append(signs.spikes_moved(spiky, history.spike_axes))
    return [finding for finding in found if finding is not None]


def _by_likelihood(ranking: Ranking) -> list[tuple[str, float]]:
    known = {code: value for code, value in ranking.likelihood.items() if code != CLEAN and code not in ranking.unjudged}
    found = [(code, value) for code, value in known.items() if value >= HINT]
    return sorted(found, key=lambda pair: -pair[1])


def _ranked(cause: Cause, likelihood: float, symptoms: Symptoms, ranking: Ranking) -> Finding:
    words = cause.words(symptoms.values, symptoms.seen.get(cause.code))
    severity = "act" if likelihood >= ACT else "watch" if likelihood >= WATCH else "info"
    conclusion = words.conclusion
    if severity == "info":
        conclusion = (
            f": {cause.name}? Probably not ({likelihood:.0%} likely); the first thing to look at if something feels wrong."
        )
    if severity == "act" and cause.is_only_a_sign(symptoms.values):
        severity = "watch"
    untold = (CLEAN, cause.code, *ranking.unjudged)
    others = {code: value for code, value in ranking.likelihood.items() if code not in untold and value >= 0.05}
    caution = "" if cause.kind == TUNE else f"{_CAUTION} {_SAFETY}"
    return Finding(
        code=cause.code,
        kind=cause.kind,
        severity=severity,
        confidence=round(min(likelihood, MOST_SURE), 3),
        axis=words.axis,
        motor=words.motor,
        highlight=words.highlight,
        conclusion=conclusion,
        evidence=words.evidence,
        causes=(cause.code, *sorted(others, key=lambda code: -others[code])),
        likelihood={cause.code: likelihood, **others},
        look_alikes=cause.look_alikes,
        proof=cause.proof,
        caution=caution,
        readings=_readings(cause, symptoms.values),
        title=cause.title or cause.name,
        is_about_motors=cause.is_about_motors,
        marks_order=cause.marks_order,
        marks_hz=cause.marks_hz,
    )


def _unexplained(values: Mapping[str, float]) -> list[Finding]:
    """A number far beyond what sound craft show, where no cause is likely: something vibrates that none of them explains."""
    found: list[tuple[float, Reading]] = []
    for cause in CAUSES:
        for reading in _readings(cause, values):
            if reading.low is None or reading.high is None or reading.high <= reading.low:
                continue
            found.append(((reading.value - reading.high) / (reading.high - reading.low), reading))
    beyond, far = max(found, key=lambda pair: pair[0], default=(0.0, None))
    if far is None or beyond < _FAR:
        return []
    unit = f" {far.unit}" if far.unit else ""
    return [
        Finding(
            code="unexplained", severity="info", confidence=None,
            highlight=f"{far.label.capitalize()}: {far.value:.3g}{unit}, normal is up to {far.high:.3g}",
            conclusion=": unusual, and no known cause explains it.", evidence={"value": far.value},
            proof="Fly the same card again. If it stays, compare with an earlier flight of this craft.",
        )
    ]  # fmt: skip


def _readings(cause: Cause, values: Mapping[str, float]) -> tuple[Reading, ...]:
    """The numbers that spoke for and against a cause."""
    usual = fitted_weights().usual
    found = []
    for shown in cause.shows:
        if shown.name not in values:
            continue
        low, high = (shown.scale * end for end in usual[shown.name]) if shown.name in usual else (None, None)
        found.append(
            Reading(label=shown.label, unit=shown.unit, value=float(shown.scale * values[shown.name]), low=low, high=high)
        )
    return tuple(found)


def _single(symptoms: Symptoms, sight: Sight, metrics: Mapping[str, float]) -> list[Finding]:
    v = symptoms.values
    jitter, passed = metrics.get("jitter_noise.roll"), metrics.get("filtered_jitter.roll")
    found = [
        signs.slow_log(sight.recording.sample_rate_hz),
        signs.idle_low(None if "idle_lag_ratio" in v else v.get("idle_ratio")),
        signs.wash({axis: metrics[name] for axis in AXES if (name := f"wash_rms.{axis}") in metrics}),
        signs.filters_open(jitter, passed, v.get("output_roughness")),
    ]
    found += [signs.oscillating(swing) for swing in sight.swings]
    if sight.vibration is not None:
        found.append(signs.overlap(sight.vibration))
    if sight.frames is not None:
        found += [signs.swing_kind(sight.frames, axis, swing) for axis, swing in sight.oscillations.items()]
    return [finding for finding in found if finding is not None]
