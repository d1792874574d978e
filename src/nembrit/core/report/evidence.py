"""Everything that one flight's recording can tell so far, computed once: what pages and reports show."""

from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.errors import CoreError
from nembrit.core.manoeuvres.detect import manoeuvres
from nembrit.core.manoeuvres.spans import Span
from nembrit.core.noise.spectra import BandLevel, Peak, Spectrum, band_levels, largest_peaks, welch_spectrum
from nembrit.core.progress import Progress, no_progress
from nembrit.core.records.log import Recording
from nembrit.core.response.authority import usable_mask
from nembrit.core.response.step import StepResponse, UncertainStep, step_response
from nembrit.core.trials.metrics import flight_metrics
from nembrit.core.tuning.finding import Finding
from nembrit.core.tuning.findings import History, findings_of
from nembrit.core.tuning.symptoms import Symptoms, symptoms_of
from nembrit.core.types import AXES, BoolArray, FloatArray

VERSION = 15  # rises whenever a number below would come out differently

# what `analyse` reads; other channels need not be loaded for it
ROLES = (
    "gyro_raw.", "gyro.", "setpoint.", "stick.", "throttle", "term_", "command.", "motor.", "motor_rpm.", "accel.",
    "battery_voltage",
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class GyroNoise:
    """Noise of one channel of one axis."""

    spectrum: Spectrum
    levels: tuple[BandLevel, ...]
    peaks: tuple[Peak, ...]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Evidence:
    """Results by axis; what could not be answered stands in `reasons` as ``noise.roll`` or ``response.roll``."""

    sample_rate_hz: float
    window_s: tuple[float, float]
    raw: dict[str, GyroNoise]
    filtered: dict[str, GyroNoise]
    steps: dict[str, StepResponse]
    symptoms: Symptoms
    findings: tuple[Finding, ...]
    metrics: dict[str, float]
    spans: tuple[Span, ...]  # all manoeuvres of the log; those inside the window were scored
    reasons: dict[str, str]
    notes: tuple[str, ...]


def analyse(
    recording: Recording,
    *,
    mixer: FloatArray | None,
    blades: int | None = None,
    history: History | None = None,
    spans: Sequence[Span] | None = None,
    progress: Progress = no_progress,
) -> Evidence:
    """Analyse the usable part of a flight; `mixer` (n_motors, 3) lets lost authority be left out.

    `history` is what the craft's earlier flights showed; findings that compare with it need it.
    `spans` are the manoeuvres as the tuner left them; None: those that detection finds. Never
    raises for data that cannot answer a question: the reason is returned instead, with what to fly.
    """
    raw: dict[str, GyroNoise] = {}
    filtered: dict[str, GyroNoise] = {}
    steps: dict[str, StepResponse] = {}
    least_overshoots: dict[str, float] = {}
    usable: dict[str, BoolArray] = {}
    reasons: dict[str, str] = {}
    notes: list[str] = []
    for number, axis in enumerate(AXES):
        progress(f"noise, {axis}", 2 * number / 7)
        for family, found in (("gyro_raw", raw), ("gyro", filtered)):
            if recording.has(f"{family}.{axis}"):
                try:
                    found[axis] = _noise(recording.channels[f"{family}.{axis}"], recording.sample_rate_hz)
                except CoreError as error:
                    reasons[f"noise.{axis}"] = str(error)
        if axis not in raw and axis not in filtered:
            reasons.setdefault(f"noise.{axis}", f"no gyro channel for {axis} in this log")
        progress(f"response, {axis}", (2 * number + 1) / 7)
        if not recording.has(f"setpoint.{axis}", f"gyro.{axis}"):
            reasons[f"response.{axis}"] = (
                f"the log lacks the set-point or the filtered gyro of {axis}: switch both on before the next flight"
            )
            continue
        usable[axis], mask_notes = usable_mask(recording, axis, mixer=mixer)
        notes += mask_notes
        try:
            steps[axis] = step_response(
                recording.channels[f"setpoint.{axis}"],
                recording.channels[f"gyro.{axis}"],
                usable[axis],
                sample_rate_hz=recording.sample_rate_hz,
            )
            least_overshoots[axis] = steps[axis].least_overshoot_ratio
        except UncertainStep as error:
            reasons[f"response.{axis}"], least_overshoots[axis] = str(error), error.least_overshoot_ratio
        except CoreError as error:
            reasons[f"response.{axis}"] = str(error)
    if spans is None:
        spans = manoeuvres(recording)
    end_s = recording.start_s + recording.duration_s
    inside = [span for span in spans if span.start_s >= recording.start_s and span.end_s <= end_s]
    gyros = raw or filtered
    progress("vibration and faults", 6 / 7)
    symptoms = symptoms_of(
        recording,
        n_motors=0 if mixer is None else mixer.shape[0],
        blades=blades,
        spans=inside,
        overshoots=least_overshoots,
        usable=usable,
    )
    reasons |= {f"finding.{cause}": reason for cause, reason in symptoms.untested.items()}
    metrics = flight_metrics(
        recording, levels={axis: noise.levels for axis, noise in gyros.items()}, usable=usable, steps=steps, spans=inside
    )
    passed = {
        f"filtered_jitter.{axis}": level.rms_dps
        for axis, noise in filtered.items()
        for level in noise.levels
        if axis in raw and level.name == "jitter" and level.rms_dps is not None
    }
    return Evidence(
        sample_rate_hz=recording.sample_rate_hz,
        window_s=(recording.start_s, recording.start_s + recording.duration_s),
        raw=raw,
        filtered=filtered,
        steps=steps,
        symptoms=symptoms,
        findings=findings_of(symptoms, sample_rate_hz=recording.sample_rate_hz, metrics={**metrics, **passed}, history=history),
        metrics=metrics,
        spans=tuple(spans),
        reasons=reasons,
        notes=tuple(dict.fromkeys(notes)),
    )


def _noise(gyro_dps: FloatArray, sample_rate_hz: float) -> GyroNoise:
    spectrum = welch_spectrum(gyro_dps, sample_rate_hz=sample_rate_hz)
    return GyroNoise(spectrum=spectrum, levels=band_levels(spectrum), peaks=largest_peaks(spectrum))
