"""What a change of one group of settings is usually judged by, and what could go wrong with it."""

from dataclasses import dataclass

_METRICS = {
    "hardware": "motion_noise.roll",
    "gyro_filters": "step_delay.roll",
    "d_filters": "motor_roughness",
    "i": "wash_rms.roll",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Suggestion:
    """What a new slip starts with (common practice, no source)."""

    metric: str
    direction: str = "lower"
    card_key: str = "response"
    risk: str = "Buzz, shaking or hot motors: land at once and undo."


def suggestion_for(group: str) -> Suggestion:
    """For a slip group such as ``pd.roll``; gains of an axis are judged by how that axis follows.

    >>> suggestion_for("pd.pitch").metric, suggestion_for("d_filters").metric
    ('tracking_error.pitch', 'motor_roughness')
    """
    axis = group.split(".")[1] if group.startswith("pd.") else "roll"
    return Suggestion(metric=_METRICS.get(group, f"tracking_error.{axis}"))
