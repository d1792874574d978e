"""What a change of one group of settings is usually judged by, and what could go wrong with it."""

from dataclasses import dataclass

from nembrit.core.trials.plan import Limit

_METRICS = {
    "hardware": "motion_noise.roll",
    "gyro_filters": "step_delay.roll",
    "d_filters": "motor_roughness",
    "i": "wash_rms.roll",
}
# what a gain is usually paid for with
_HARMS = {
    "hardware": (("overshoot.{axis}", 0.03),),
    "gyro_filters": (("motor_roughness", 0.15), ("overshoot.{axis}", 0.03), ("motion_noise.{axis}", 0.15)),
    "d_filters": (("overshoot.{axis}", 0.03), ("bounce_back.{axis}", 0.15)),
    "pd": (("overshoot.{axis}", 0.03), ("bounce_back.{axis}", 0.15), ("motor_roughness", 0.15)),
}
# what changes of a plane are judged by, and the card that shows it
_OF_WINGS = {
    "trim": ("held_trim.roll", "wing_trim"), "navigation": ("off_line", "wing_tracks"), "hardware": ("pull", "wing_tracks"),
    "feed_forward": ("rate_delay.{axis}", "wing_gains"), "pd": ("rate_peak.{axis}", "wing_gains"),
    "i": ("held_trim.roll", "wing_trim"),
}  # fmt: skip
_WING_RISK = "High up, hands ready, the switch back under the thumb."


@dataclass(frozen=True, slots=True, kw_only=True)
class Suggestion:
    """What a new slip starts with (common practice, no source)."""

    metric: str
    direction: str = "lower"
    card_key: str = "response"
    risk: str = "Buzz, shaking or hot motors: land at once and undo."
    limits: tuple[Limit, ...] = ()  # what must not get worse in exchange


def suggestion_for(group: str, kind: str = "multirotor") -> Suggestion:
    """For a slip group such as ``pd.roll``; gains of an axis are judged by how that axis follows.

    >>> suggestion_for("pd.pitch").metric, suggestion_for("d_filters").metric
    ('tracking_error.pitch', 'motor_roughness')
    """
    axis = group.split(".")[1] if group.startswith("pd.") else "roll"
    metric = _METRICS.get(group, f"tracking_error.{axis}")
    if kind == "fixed_wing":
        name, card_key = _OF_WINGS.get(group.split(".")[0], _OF_WINGS["navigation"])
        return Suggestion(metric=name.format(axis=axis if axis != "yaw" else "roll"), card_key=card_key, risk=_WING_RISK)
    harms = [(name.format(axis=axis), most) for name, most in _HARMS.get(group.split(".")[0], _HARMS["pd"])]
    return Suggestion(metric=metric, limits=tuple(Limit(metric=name, most=most) for name, most in harms if name != metric))
