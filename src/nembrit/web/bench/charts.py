"""Evidence as pictures."""

from typing import Any

from nembrit.web.common.charts import Axis, Band, Chart, Line, Mark, decibels

NOISE_TOP_HZ = 600.0
OWN_MOTION_HZ = 15.0  # below, the craft's own movement would outshine the noise
BANDS = [Band(start=20, end=100, label="motion"), Band(start=100, end=300, label="jitter")]


def own_motion_hz(top_hz: float) -> float | None:
    """Where the noise begins for choosing the scale; a slow log shows little but the craft's own movement."""
    return OWN_MOTION_HZ if top_hz >= 100 else None


def noise_chart(payload: dict[str, Any], axis: str) -> Chart | None:
    """Density of raw and filtered gyro with the bands of the trade; None without a gyro channel."""
    noise = payload["noise"].get(axis, {})
    if not noise:
        return None
    lines, marks = [], []
    for name in ("raw", "filtered"):
        if name in noise:
            level = decibels(noise[name]["psd_dps2_per_hz"])
            lines.append(Line(label=name, x=noise[name]["frequency_hz"], y=level, look=name, colour=axis))
    peaks = (noise.get("raw") or noise["filtered"])["peaks"]
    density = (noise.get("raw") or noise["filtered"])["psd_dps2_per_hz"]
    grid = lines[0].x
    for peak in peaks:
        nearest = min(range(len(grid)), key=lambda k: abs((grid[k] or 0) - peak["frequency_hz"]))
        if grid[nearest] <= NOISE_TOP_HZ and density[nearest] > 0:
            marks.append(
                Mark(x=peak["frequency_hz"], y=decibels([density[nearest]])[0] or 0.0, label=f"{peak['frequency_hz']:.0f} Hz")
            )
    bands = list(BANDS)
    for finding in payload["findings"]:
        if finding["code"] == "loose_mount" and axis != "yaw":
            bands.append(Band(start=42, end=132, label="hump", is_marked=True))
    return Chart(
        title=f"Gyro noise, {axis}",
        x=Axis(label="frequency", unit="Hz", low=0, high=min(NOISE_TOP_HZ, grid[-1] or NOISE_TOP_HZ)),
        y=Axis(label="density", unit="dB re 1 (deg/s)²/Hz", from_x=own_motion_hz(grid[-1] or 0.0)),
        lines=lines,
        bands=bands,
        marks=marks,
    )


def step_chart(payload: dict[str, Any], axis: str) -> Chart | None:
    """Step response with its interval; None where it could not be estimated."""
    step = payload["response"].get(axis)
    if not step:
        return None
    return Chart(
        title=f"Step response, {axis}",
        x=Axis(label="time after the step", unit="ms", low=0, high=300),
        y=Axis(label="share of the step", unit="1", low=-0.1, high=1.5),
        lines=[
            Line(
                label="gyro", x=step["t_ms"], y=step["response"], look="filtered", colour=axis, low=step["low"], high=step["high"]
            )
        ],
        level=1.0,
    )


CHARTS = {"noise": noise_chart, "step": step_chart}
