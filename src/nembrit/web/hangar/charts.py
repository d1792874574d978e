"""Pictures of the hangar."""

from collections.abc import Mapping, Sequence

from nembrit.web.common.charts import Axis, Chart, Line

_LOOKS = {"roll": "filtered", "pitch": "filtered", "yaw": "setpoint"}


def rate_chart(curves: Mapping[str, Sequence[tuple[float, float]]]) -> Chart | None:
    """Rate over stick for every axis; None where no stick rates are known."""
    if not curves:
        return None
    lines = [
        Line(label=axis, x=[100 * stick for stick, _ in points], y=[rate for _, rate in points], look=_LOOKS[axis], colour=axis)
        for axis, points in curves.items()
    ]
    return Chart(
        title="Stick rates",
        x=Axis(label="stick", unit="%", low=0, high=100),
        y=Axis(label="rate", unit="deg/s", low=0),
        lines=lines,
    )
