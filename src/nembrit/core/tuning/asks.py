"""The change of settings that a finding speaks for: the group, and by how much to begin with."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from nembrit.core.types import AXES

# code → group, ratios by term, in words; a first step by a fifth or a quarter is common practice, no source
_ASKS: dict[str, tuple[str, Mapping[str, float], str]] = {
    "p_high": ("pd.{axis}", {"p": 0.8}, "P of {axis} down by a fifth, D as it is"),
    "oscillation": ("pd.{axis}", {"p": 0.8, "d": 0.8}, "P and D of {axis} down by a fifth"),
    "i_low": ("i", {"i": 1.25}, "I up by a quarter"),
    "idle_low": ("idle", {"idle": 1.25}, "idle up by a quarter"),
}
# an oscillation whose terms were logged says which of them feeds it
_FEEDING: dict[str, tuple[str, Mapping[str, float], str]] = {
    "p_high": _ASKS["p_high"],
    "d_noise": ("pd.{axis}", {"d": 0.8}, "D of {axis} down by a fifth, P as it is"),
    "i_high": ("i", {"i": 0.75}, "I of {axis} down by a quarter"),
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


def ask_of(code: str, axis: str | None, causes: Sequence[str] = ()) -> Ask | None:
    """What one finding asks for; None where it is no matter of settings. `causes`: the finding's own, most likely first.

    >>> ask_of("p_high", "pitch").group, ask_of("i_low", None).words, ask_of("propeller", None)
    ('pd.pitch', 'I up by a quarter', None)
    """
    if code not in _ASKS or (axis is not None and axis not in AXES):
        return None
    feeding = _FEEDING.get(causes[0]) if code == "oscillation" and causes else None
    group, terms, words = feeding or _ASKS[code]
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
