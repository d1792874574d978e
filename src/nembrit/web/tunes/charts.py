"""Before and after on the same scales."""

from nembrit.core.trials.overlay import Overlay
from nembrit.web.bench.charts import BANDS, NOISE_TOP_HZ, own_motion_hz
from nembrit.web.common.charts import Axis, Chart, Line, decibels
from nembrit.web.tunes.models import Slip
from nembrit.web.tunes.trials import curves_of


def slip_chart(slip: Slip, kind: str, axis: str) -> Chart | None:
    """Mean of the flights before and after; the area goes from the lowest to the highest flight."""
    curves = curves_of(slip, kind, axis)
    sides = [(name, side) for name, side in (("before", curves.before), ("after", curves.after)) if side]
    if not sides:
        return None
    lines = [_line(name, side, in_db=kind == "noise") for name, side in sides]
    if kind == "step":
        lines += _predicted(slip, axis)
    if kind == "noise":
        top_hz = min(NOISE_TOP_HZ, float(sides[0][1].x[-1]))
        return Chart(
            title=f"Gyro noise before and after, {axis}",
            x=Axis(label="frequency", unit="Hz", low=0, high=top_hz),
            y=Axis(label="density", unit="dB re 1 (deg/s)²/Hz", from_x=own_motion_hz(top_hz)),
            lines=lines,
            bands=list(BANDS),
        )
    return Chart(
        title=f"Step response before and after, {axis}",
        x=Axis(label="time after the step", unit="ms", low=0, high=300),
        y=Axis(label="response to a unit step", unit="1", low=-0.1, high=1.5),
        lines=lines,
        level=1.0,
    )


def _predicted(slip: Slip, axis: str) -> list[Line]:
    step = slip.prediction.get("steps", {}).get(axis)
    if not step:
        return []
    low, high = ([y + sign * half for y, half in zip(step["y"], step["half"], strict=True)] for sign in (-1, 1))
    return [Line(label="predicted", x=step["t_ms"], y=step["y"], look="fourth", low=low, high=high)]


def _line(name: str, side: Overlay, *, in_db: bool) -> Line:
    curves = [values.tolist() for values in (side.mean, side.low, side.high)]
    mean, low, high = (decibels(curve) for curve in curves) if in_db else curves
    return Line(label=f"{name} ({side.n_curves})", x=side.x.tolist(), y=mean, look=name, low=low, high=high)
