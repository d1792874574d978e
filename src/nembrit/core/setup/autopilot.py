"""What a plane's settings say about its controller, as ratios to numbers that suit the airframe."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import Setting, number
from nembrit.core.setup.namemap import MEANINGS, NameMap

SOUND_COURSE = 1.2  # degrees of bank for a degree of course error
_LEAST_RETURN_M, _MOST_RETURN_M = 20.0, 400.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Autopilot:
    """Ratios to sound numbers, and what it does when it is to come home."""

    forward: Mapping[str, float] = field(default_factory=dict)  # by axis; absent: sound
    proportional: Mapping[str, float] = field(default_factory=dict)
    navigation: float = 1.0
    shown: Mapping[str, float] = field(default_factory=dict)  # by axis: what a sound forward gain is called by the tuner
    return_height_m: float = 80.0
    circle_m: float = 55.0
    lands: bool = False


def autopilot_from_settings(settings: Sequence[Setting], names: NameMap, *, sound: Mapping[str, float]) -> Autopilot:
    """The controller that a plane's mapped settings describe.

    `sound`: what suits the airframe, in SI, by meaning (feed-forward and P as share of full deflection per deg/s). A gain whose
    scale is not known is taken as sound: a ratio cannot be told from a number alone. Raises InputError for a mapped value that
    is no number.
    """
    forward: dict[str, float] = {}
    proportional: dict[str, float] = {}
    shown: dict[str, float] = {}
    single: dict[str, float] = {}
    for setting in settings:
        meaning = names.get(setting.name)
        if meaning is None or meaning.key not in MEANINGS or not _is_ours(meaning.key):
            continue
        value = number(setting.value)
        if value is None or not 0 <= value < 1e9:
            raise InputError(
                f"“{setting.name} = {setting.value}” should be a number of 0 or more: it stands for {MEANINGS[meaning.key]}"
            )
        axis, term = meaning.key.split(".")[-2:]
        fitting = sound.get(meaning.key)
        ratio = 1.0 if meaning.scale is None or not fitting else value * meaning.scale / fitting
        if meaning.key.startswith("gain.rate."):
            (forward if term == "f" else proportional)[axis] = ratio
            if term == "f":
                shown[axis] = value if meaning.scale is None or not fitting else fitting / meaning.scale
        elif meaning.scale is not None:
            single[meaning.key] = value * meaning.scale
    return Autopilot(
        forward=forward, proportional=proportional, shown=shown,
        navigation=single.get("gain.navigation.roll.p", SOUND_COURSE) / SOUND_COURSE,
        return_height_m=min(_MOST_RETURN_M, max(_LEAST_RETURN_M, single.get("return.height_m", 80.0))),
    )  # fmt: skip


def _is_ours(key: str) -> bool:
    return key in ("gain.navigation.roll.p", "return.height_m") or (
        key.startswith(("gain.rate.roll.", "gain.rate.pitch.")) and key[-1] in "pf"
    )
