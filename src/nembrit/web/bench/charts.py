"""Evidence as pictures."""

from nembrit.core.analysis.run import FlightResults
from nembrit.web.common.charts import Axis, Band, Chart, Line, Mark, decibels

NOISE_TOP_HZ = 600.0
OWN_MOTION_HZ = 15.0  # below, the craft's own movement would outshine the noise
BANDS = [Band(start=20, end=100, label="motion"), Band(start=100, end=300, label="jitter")]


def own_motion_hz(top_hz: float) -> float | None:
    """Where the noise begins for choosing the scale; a slow log shows little but the craft's own movement."""
    return OWN_MOTION_HZ if top_hz >= 100 else None


def noise_chart(results: FlightResults, axis: str) -> Chart | None:
    """Density of raw and filtered gyro with the bands of the trade; None without a gyro channel."""
    noise = results.noise.axes[axis] if results.noise else None
    if noise is None or noise.shown is None:
        return None
    lines, marks = [], []
    for name, found in (("raw", noise.raw), ("filtered", noise.filtered)):
        if found:
            x = [float(f"{value:.6g}") for value in found.spectrum.frequency_hz.tolist()]
            lines.append(Line(label=name, x=x, y=decibels(found.spectrum.psd_dps2_per_hz.tolist()), look=name, colour=axis))
    spectrum = noise.shown.spectrum
    top_hz = float(spectrum.frequency_hz[-1])
    for peak in noise.shown.peaks:
        nearest = int(abs(spectrum.frequency_hz - peak.frequency_hz).argmin())
        density = float(spectrum.psd_dps2_per_hz[nearest])
        if spectrum.frequency_hz[nearest] <= NOISE_TOP_HZ and density > 0:
            marks.append(Mark(x=peak.frequency_hz, y=decibels([density])[0] or 0.0, label=f"{peak.frequency_hz:.0f} Hz"))
    bands = list(BANDS)
    for finding in results.judgement.findings if results.judgement else ():
        if finding.marks_hz is not None and axis != "yaw":
            bands.append(Band(start=finding.marks_hz[0], end=finding.marks_hz[1], label="hump", is_marked=True))
    return Chart(
        title=f"Gyro noise, {axis}",
        x=Axis(label="frequency", unit="Hz", low=0, high=min(NOISE_TOP_HZ, top_hz or NOISE_TOP_HZ)),
        y=Axis(label="density", unit="dB re 1 (deg/s)²/Hz", from_x=own_motion_hz(top_hz)),
        lines=lines,
        bands=bands,
        marks=marks,
    )


def step_chart(results: FlightResults, axis: str) -> Chart | None:
    """Step response with its interval; None where it could not be estimated."""
    step = results.response.steps.get(axis) if results.response else None
    if step is None:
        return None
    t_ms = [float(f"{1000 * value:.6g}") for value in step.t_s.tolist()]
    line = Line(
        label="gyro", x=t_ms, y=step.response.tolist(), look="filtered", colour=axis,
        low=step.low.tolist(), high=step.high.tolist(),
    )  # fmt: skip
    return Chart(
        title=f"Step response, {axis}",
        x=Axis(label="time after the step", unit="ms", low=0, high=300),
        y=Axis(label="response to a unit step", unit="1", low=-0.1, high=1.5),
        lines=[line],
        level=1.0,
    )


CHARTS = {"noise": noise_chart, "step": step_chart}
NEEDED = {"noise": ("noise", "judgement"), "step": ("response",)}  # results that each picture is drawn from
