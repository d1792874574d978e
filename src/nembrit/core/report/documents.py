"""Core results as documented JSON; the one place that turns seconds into ms and ratios into per cent."""

from collections.abc import Sequence
from typing import Any

from nembrit.core.analysis.loop import Loop
from nembrit.core.analysis.motors import Motors
from nembrit.core.analysis.noise import AxisNoise, GyroNoise
from nembrit.core.analysis.run import FlightResults
from nembrit.core.causes.finding import Finding
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.noise.bands import BandLevel
from nembrit.core.noise.lines import Line
from nembrit.core.noise.spikes import Spikes
from nembrit.core.noise.vibration import Vibration
from nembrit.core.records.log import FlightLog, QualityNote, Recording
from nembrit.core.records.questions import matters
from nembrit.core.records.timebase import clock_of
from nembrit.core.report.response import response_part, rounded
from nembrit.core.report.wing import wing_notes, wing_part
from nembrit.core.response.components import span_scores
from nembrit.core.setup.controller import ShownGains
from nembrit.core.trials.verdict import Comparison, MetricVerdict
from nembrit.core.types import AXES


def _pair(interval: Sequence[float | None] | None, factor: float = 1.0) -> list[float | None] | None:
    return None if interval is None else [rounded(None if edge is None else edge * factor) for edge in interval]


def log_document(
    log: FlightLog,
    *,
    file: str,
    sha256: str,
    window_s: tuple[float, float],
    kind: str = "multirotor",
    notes: Sequence[QualityNote] | None = None,
) -> dict[str, Any]:
    """The `log` part of the report, with the notes that matter for a kind of craft; the log's own, unless given."""
    stream = log.main
    return {
        "file": file,
        "sha256": sha256,
        "format": log.format_key,
        "sample_rate_hz": rounded(clock_of(stream.t_s).sample_rate_hz),
        "duration_s": rounded(float(stream.t_s[-1] - stream.t_s[0])),
        "rows_read": log.rows_read,
        "rows_dropped": log.rows_dropped,
        "channels": [
            {
                "column": channel.name,
                "role": channel.role,
                "unit": channel.unit,
                "scale": channel.factor,  # of the numbers as written
                "confidence": channel.confidence,
            }
            for channel in stream.channels
        ],
        "window_s": _pair([edge - float(stream.t_s[0]) for edge in window_s]),
        "quality": [
            {
                "code": note.code,
                "severity": note.severity,
                "start_s": rounded(note.start_s),
                "end_s": rounded(note.end_s),
                "column": note.column,
                "detail": note.detail,
            }
            for note in (log.quality if notes is None else notes)
            if matters(note.code, kind, note.column)
        ],
    }


def report_document(
    results: FlightResults,
    log_part: dict[str, Any],
    *,
    spans: Sequence[Span],
    window_start_s: float,
    shown_gains: ShownGains | None = None,
    recording: Recording | None = None,
) -> dict[str, Any]:
    """The report `nembrit.report/1`; what could not be estimated is null with a reason in `notes`.

    `window_start_s` is where the usable part begins on the log's own clock; `shown_gains` are the tuner's numbers by axis;
    `recording` is the usable part, for the scores of single manoeuvres.
    """
    zero_s = window_start_s - (log_part.get("window_s") or [0.0])[0]  # the log's first sample
    noise, response, motors, judgement = results.noise, results.response, results.motors, results.judgement
    reasons = _reasons(results)
    if results.wing is not None:
        return {
            "schema": "nembrit.report/1",
            "log": log_part,
            "noise": {
                axis: _noise_part(own, motors, axis, zero_s) for axis, own in (noise.axes if noise else {}).items() if own.shown
            },
            "vibration": _vibration_part(motors.vibration if motors else None),
            "wing": wing_part(results.wing),
            "findings": [_finding_part(finding) for finding in (judgement.findings if judgement else ())],
            "notes": [
                *(f"{key}: {reason}" for key, reason in reasons.items() if key.startswith("noise")),
                *wing_notes(results.wing),
            ],
        }
    return {
        "schema": "nembrit.report/1",
        "log": log_part,
        "noise": {
            axis: _noise_part(own, motors, axis, zero_s) for axis, own in (noise.axes if noise else {}).items() if own.shown
        },
        "vibration": _vibration_part(motors.vibration if motors else None),
        "response": {
            axis: response_part(response.steps.get(axis) if response else None, results.loop, axis, shown_gains) for axis in AXES
        },
        "manoeuvres": [_span_part(span, zero_s, scores) for span, scores in _scored(spans, recording)],
        "findings": [_finding_part(finding) for finding in (judgement.findings if judgement else ())],
        "notes": [
            *(f"{key}: {reason}" for key, reason in reasons.items()),
            *(response.notes if response else ()),
            *_loop_notes(results.loop),
            *_unmeasured(results),
        ],
    }


def _loop_notes(loop: Loop | None) -> list[str]:
    """Why margins are missing or rough, axis by axis."""
    if loop is None:
        return []
    return [f"response.{axis}.margins: {reason}" for axis, reason in loop.reasons.items()] + [
        f"response.{axis}: {note}" for axis, own in loop.axes.items() for note in own.notes
    ]


def _reasons(results: FlightResults) -> dict[str, str]:
    """Why parts are missing, under the names of the report's parts."""
    noise, response, judgement = results.noise, results.response, results.judgement
    found = {f"noise.{axis}": own.reason for axis, own in (noise.axes if noise else {}).items() if own.reason}
    found |= {f"response.{axis}": reason for axis, reason in (response.reasons if response else {}).items()}
    return found | {f"finding.{cause}": reason for cause, reason in (judgement.untested if judgement else {}).items()}


def _unmeasured(results: FlightResults) -> list[str]:
    """Signs without a confidence, and why."""
    findings = results.judgement.findings if results.judgement else ()
    signs = sorted({finding.code for finding in findings if finding.confidence is None})
    return [f"findings.{code}.confidence: a single rule; how often it is right was not measured" for code in signs]


def _scored(spans: Sequence[Span], recording: Recording | None) -> list[tuple[Span, dict[str, float]]]:
    """Each manoeuvre with its own scores, where the flight itself is at hand and the manoeuvre lies within its window."""
    if recording is None:
        return [(span, {}) for span in spans]
    end_s = recording.start_s + recording.duration_s
    return [
        (span, span_scores(recording, span) if recording.start_s <= span.start_s and span.end_s <= end_s else {})
        for span in spans
    ]


def _span_part(span: Span, zero_s: float, scores: dict[str, float]) -> dict[str, Any]:
    return {
        "kind": span.kind,
        "start_s": rounded(span.start_s - zero_s),
        "end_s": rounded(span.end_s - zero_s),
        "axis": span.axis,
        "score": {name: rounded(value) for name, value in scores.items()},
    }


def _noise_part(own: AxisNoise, motors: Motors | None, axis: str, zero_s: float) -> dict[str, Any]:
    return {
        "bands": _bands(own.raw),
        "bands_filtered": _bands(own.filtered),
        "lines": [_named_line(line) for line in own.lines],
        "spikes": _spikes_part(motors.spikes.get(axis) if motors else None, zero_s=zero_s),
    }


def _named_line(line: Line) -> dict[str, Any]:
    return {
        "kind": line.kind,
        "frequency_hz": rounded(line.frequency_hz),
        "frequency_low_hz": rounded(line.low_hz),
        "frequency_high_hz": rounded(line.high_hz),
        "frequency_error_hz": rounded(line.error_hz),
        "level_db": rounded(line.level_db),
        "confidence": rounded(line.confidence, 3),
    }


def _spikes_part(spikes: Spikes | None, *, zero_s: float = 0.0) -> dict[str, Any] | None:
    """Spikes of one axis; null where the raw gyro is not recorded."""
    if spikes is None:
        return None
    return {
        "count": len(spikes.times_s),
        "times_s": [rounded(time_s - zero_s, 7) for time_s in spikes.times_s[:500]],
        "coincident_ratio": rounded(spikes.coincident_ratio),
        "verdict": spikes.verdict,
    }


def _vibration_part(vibration: Vibration | None) -> dict[str, Any] | None:
    if vibration is None:
        return None
    return {
        "accel_rms_m_s2": {axis: rounded(vibration.accel_rms_m_s2.get(axis)) for axis in "xyz"},
        "axis_separation_ratio": rounded(vibration.axis_separation),
        "command_peak_hz": {axis: rounded(vibration.command_peak_hz.get(axis)) for axis in AXES},
    }


def _bands(noise: GyroNoise | None) -> dict[str, Any] | None:
    return None if noise is None else {level.name: _band(level) for level in noise.levels}


def _band(level: BandLevel) -> dict[str, Any]:
    return {
        "low_hz": level.low_hz,
        "high_hz": rounded(level.high_hz),
        "rms_dps": rounded(level.rms_dps),
        "rms_interval_dps": _pair(level.rms_interval_dps),
        "floor_dps2_per_hz": rounded(level.floor_dps2_per_hz),
    }


def _finding_part(finding: Finding) -> dict[str, Any]:
    return {
        "code": finding.code,
        "axis": finding.axis,
        "motor": finding.motor,
        "severity": finding.severity,
        "confidence": finding.confidence,
        "summary": finding.summary,
        "evidence": {key: rounded(value) for key, value in finding.evidence.items()},
        "causes": [{"cause": cause, "likelihood": rounded(finding.likelihood.get(cause), 3)} for cause in finding.causes],
        "proof": finding.proof,
    }


def comparison_document(comparison: Comparison) -> dict[str, Any]:
    """The comparison `nembrit.comparison/1`."""
    return {
        "schema": "nembrit.comparison/1",
        "metrics": [_verdict_part(metric) for metric in comparison.metrics],
        "notes": list(comparison.notes),
    }


def _verdict_part(metric: MetricVerdict) -> dict[str, Any]:
    def shown(value: float | None) -> float | None:
        return None if value is None else rounded(value * metric.kind.factor)

    return {
        "name": metric.name,
        "unit": metric.kind.unit,
        "primary": metric.is_primary,
        "before_mean": shown(metric.before_mean),
        "after_mean": shown(metric.after_mean),
        "change_pct": rounded(metric.change_pct),
        "change_interval_pct": _pair(metric.change_interval_pct),
        "p_value": rounded(metric.p_value),
        "p_value_adjusted": rounded(metric.p_value_adjusted),
        "verdict": metric.verdict,
        "smallest_detectable_pct": rounded(metric.smallest_detectable_pct),
        "flights_needed": metric.flights_needed,
    }
