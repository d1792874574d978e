"""The change of settings that a finding speaks for: the group, and by how much to begin with."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from nembrit.core.types import AXES

# code → group, ratios by term, in words; a first step by a fifth or a quarter is common practice, no source
_ASKS: dict[str, tuple[str, Mapping[str, float], str]] = {
    "p_high": ("pd.{axis}", {"p": 0.8}, "P of {axis} down by a fifth, D as it is"),
    "oscillation": ("pd.{axis}", {"p": 0.8, "d": 0.8}, "P and D of {axis} down by a fifth"),
    "swing_consistent": ("pd.{axis}", {"p": 0.9}, "P of {axis} down by a tenth, D as it is"),
    "d_noise": ("d_filters", {}, "a lower D low-pass"),
    "filters_low": ("gyro_filters", {}, "faster gyro filters"),
    "filters_open": ("gyro_filters", {}, "gyro filters that keep more out"),
    "i_low": ("i", {"i": 1.25}, "I up by a quarter"),
    "idle_low": ("idle", {"idle": 1.25}, "idle up by a quarter"),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Ask:
    """What a finding asks for. `ratios` are by axis and term; empty where a chain has to be chosen."""

    code: str
    group: str
    words: str
    axis: str = ""
    ratios: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    idle_ratio: float | None = None


def ask_of(code: str, axis: str | None) -> Ask | None:
    """What one finding asks for; None where it is no matter of settings.

    >>> ask_of("p_high", "pitch").group, ask_of("i_low", None).words, ask_of("propeller", None)
    ('pd.pitch', 'I up by a quarter', None)
    """
    if code not in _ASKS or (axis is not None and axis not in AXES):
        return None
    group, terms, words = _ASKS[code]
    place = axis or "roll"
    gains = {term: ratio for term, ratio in terms.items() if term != "idle"}
    axes = [axis] if axis else list(AXES[:2])
    return Ask(
        code=code,
        group=group.format(axis=place),
        words=words.format(axis=place),
        axis=place,
        ratios=dict.fromkeys([place] if group.startswith("pd.") else axes, gains) if gains else {},
        idle_ratio=terms.get("idle"),
    )
