"""Name maps: what each setting's name means, kept apart from the numbers so that any firmware's work.

A meaning is a dotted word (`MEANINGS` explains them); a scale turns the number as shown into SI.
"""

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from nembrit.core.errors import InputError
from nembrit.core.types import AXES


@dataclass(frozen=True, slots=True)
class Meaning:
    """What one setting stands for; `scale` is SI per unit shown, None while unknown."""

    key: str
    scale: float | None = None


NameMap = Mapping[str, Meaning]

GAIN_UNITS = {"p": "share per deg/s", "i": "share per deg", "d": "share per deg/s²", "f": "share per deg/s²"}


def _meanings() -> dict[str, str]:
    table = {}
    for axis in AXES:
        for term in "pidf":
            table[f"gain.rate.{axis}.{term}"] = f"{'feed-forward' if term == 'f' else term.upper()} gain, rate loop, {axis}"
    for place, label in (("chip", "gyro chip"), ("gyro", "gyro"), ("d_term", "D term"), ("setpoint", "set-point")):
        table[f"filter.{place}.low.cutoff_hz"] = f"{label} low-pass cutoff [Hz], second order, 0 = off"
        table[f"filter.{place}.low_1.cutoff_hz"] = f"{label} low-pass cutoff [Hz], first order, 0 = off"
    for slot in ("notch", "notch_2"):
        table[f"filter.gyro.{slot}.centre_hz"] = f"gyro {slot.replace('_', ' ')} centre [Hz], 0 = off"
        table[f"filter.gyro.{slot}.q"] = f"gyro {slot.replace('_', ' ')} Q"
    table["filter.gyro.rotor.orders"] = "motor-tracking notches: how many orders, 0 = off"
    table["filter.gyro.rotor.q"] = "motor-tracking notches: Q"
    table["filter.gyro.rotor.lowest_hz"] = "motor-tracking notches: lowest centre [Hz]"
    for axis in AXES:
        table[f"rates.{axis}.full_dps"] = f"stick rate at full stick, {axis} [deg/s]"
        table[f"rates.{axis}.half_dps"] = f"stick rate at half stick, {axis} [deg/s]"
    table |= {
        "gain.navigation.roll.p": "navigation: bank for a course error [deg per deg]",
        "return.height_m": "height of a return home [m]",
        "idle": "lowest motor output in flight [share]",
        "output_rate_hz": "motor output updates [Hz]",
        "output_limit": "largest command of one axis [share]",
        "integral_limit": "largest I term [share]",
        "loop_rate_hz": "control loop rate [Hz]",
        "trim": "servo centre or trim",
        "other": "anything else: changed alone, one at a time",
    }
    return table


MEANINGS: dict[str, str] = _meanings()

# the groups of a change slip, in the words of the trade
GROUPS: dict[str, str] = {
    "gyro_filters": "Gyro filters",
    "d_filters": "D filters",
    "pd.roll": "P with D, roll",
    "pd.pitch": "P with D, pitch",
    "pd.yaw": "P with D, yaw",
    "i": "I",
    "feed_forward": "Feed-forward",
    "stick_rates": "Stick rates",
    "idle": "Idle",
    "output_rate": "Output rate",
    "limits": "Limits",
    "trim": "Trim",
    "navigation": "Navigation",
    "start": "Starting values",
    "hardware": "One hardware part",
    "other": "One other setting",
}

# what starting values may change together: all that makes a craft flyable
START_GROUPS = ("gyro_filters", "d_filters", "pd.roll", "pd.pitch", "pd.yaw", "i", "feed_forward", "stick_rates", "idle")

_GROUP_PATTERNS = (
    (r"filter\.(chip|gyro)\..*", "gyro_filters"),
    (r"filter\.d_term\..*", "d_filters"),
    (r"gain\.navigation\..*|return\..*", "navigation"),
    (r"gain\.\w+\.roll\.[pd]", "pd.roll"),
    (r"gain\.\w+\.pitch\.[pd]", "pd.pitch"),
    (r"gain\.\w+\.yaw\.[pd]", "pd.yaw"),
    (r"gain\.\w+\.\w+\.i", "i"),
    (r"gain\.\w+\.\w+\.f|filter\.setpoint\..*", "feed_forward"),
    (r"rates\..*", "stick_rates"),
    (r"idle", "idle"),
    (r"output_rate_hz", "output_rate"),
    (r"(output|integral)_limit", "limits"),
    (r"trim", "trim"),
)


def group_of(meaning_key: str | None) -> str:
    """Slip group that a meaning belongs to; everything unknown is ``other``.

    >>> group_of("gain.rate.roll.d"), group_of("filter.gyro.notch.q"), group_of(None)
    ('pd.roll', 'gyro_filters', 'other')
    """
    return next((group for pattern, group in _GROUP_PATTERNS if re.fullmatch(pattern, meaning_key or "")), "other")


_TERM_WORDS = {
    "p": "p", "prop": "p", "proportional": "p", "i": "i", "integ": "i", "integral": "i", "integrator": "i",
    "d": "d", "deriv": "d", "diff": "d", "derivative": "d", "differential": "d",
    "f": "f", "ff": "f", "feedforward": "f", "forward": "f",
}  # fmt: skip
_LOW_WORDS = {"lowpass", "low", "smooth", "cutoff", "lpf", "hz"}
_RATE_WORDS = {"rate", "hz", "khz", "frequency", "freq", "update"}
_KIND_WORDS = {"type", "order", "kind", "mode", "enabled", "enable", "count"}  # what a filter is, not where it cuts off
_SERVO_WORDS = {"servo", "surface", "aileron", "elevator", "rudder", "elevon", "tail"}
_CENTRE_WORDS = {"centre", "center", "middle", "mid", "neutral", "trim"}
_NAVIGATION_WORDS = {"navigation", "nav", "course", "track", "line"}
_WORD_BREAK = re.compile(r"[^a-z0-9]+|(?<=[a-z])(?=[0-9])")


def propose_map(names: Iterable[str], values: Mapping[str, float | None] | None = None) -> dict[str, Meaning]:
    """Guess what names mean from their words; names that say nothing known are left out, scales that are not sure left open.

    >>> {name: meaning.key for name, meaning in propose_map(["p on roll", "smooth d hz", "beep volume"]).items()}
    {'p on roll': 'gain.rate.roll.p', 'smooth d hz': 'filter.d_term.low.cutoff_hz'}
    >>> sorted({meaning.key for meaning in propose_map(["servo middle 1", "servo middle 2", "follow course"]).values()})
    ['gain.navigation.roll.p', 'trim']
    >>> propose_map(["idle"], {"idle": 5.5})["idle"].scale
    0.01
    """
    found: dict[str, Meaning] = {}
    for name in names:
        key = _guess(_WORD_BREAK.split(re.sub(r"(?<=[a-z])(?=[A-Z])", " ", name).lower()))
        if key and (key == "trim" or key not in {meaning.key for meaning in found.values()}):  # a plane has several servos
            found[name] = Meaning(key, _scale(key, name, (values or {}).get(name)))
    return found


_SHARES = ("idle", "output_limit", "integral_limit")


def _scale(key: str, name: str, value: float | None) -> float | None:
    """The scale that a setting most likely has; None where its number does not tell."""
    if key.startswith("gain."):
        return None
    if key.endswith("_rate_hz") and ("khz" in name.lower() or (value is not None and 0 < value <= 64)):
        return 1000.0  # no loop runs at less than a hundred turns a second: these are kHz
    if key not in _SHARES:
        return 1.0
    if "%" in name or "percent" in name.lower() or (value is not None and 1 < value <= 100):
        return 0.01
    return 1.0 if value is not None and 0 < value < 0.3 else None


# meaning → from what on a value is beyond sense, and its unit
_MOST = (
    (r"filter\..*_hz|output_rate_hz|loop_rate_hz", 100_000.0, "Hz"),
    (r"rates\..*", 6_000.0, "deg/s"),
    (r"filter\..*\.q", 100.0, ""),
)


def check_sense(name: str, meaning: Meaning, value: float | None) -> None:
    """Refuse a scale that makes a setting's number mean what cannot be. Raises InputError.

    >>> check_sense("idle", Meaning("idle", 0.01), 5.5)
    """
    if meaning.scale is None or value is None:
        return
    found = value * meaning.scale
    if meaning.key in _SHARES and not 0 <= found <= 1:
        raise InputError(
            f"“{name} = {value:g}” with the scale {meaning.scale:g} would be {100 * found:g} % of full: a share goes from 0 to "
            f"100 %. If {value:g} is a per cent, its scale is 0.01"
        )
    for pattern, most, unit in _MOST:
        if re.fullmatch(pattern, meaning.key) and not 0 <= found <= most:
            raise InputError(f"“{name} = {value:g}” with the scale {meaning.scale:g} would be {found:g} {unit}: out of range")


def _guess(words: list[str]) -> str | None:
    axis = next((axis for axis in AXES if axis in words), None)
    if axis and any(word in words for word in ("stick", "rate", "rates")) and {"full", "max"} & set(words):
        return f"rates.{axis}.full_dps"
    if axis and "stick" in words and {"half", "middle"} & set(words):
        return f"rates.{axis}.half_dps"
    term = next((_TERM_WORDS[word] for word in words if word in _TERM_WORDS), None)
    if axis and term:
        return f"gain.rate.{axis}.{term}"
    if _SERVO_WORDS & set(words) and _CENTRE_WORDS & set(words):
        return "trim"
    if _NAVIGATION_WORDS & set(words) and not axis and (term == "p" or {"gain", "follow", "strength"} & set(words)):
        return "gain.navigation.roll.p"
    if {"home", "return"} & set(words) and {"height", "altitude"} & set(words):
        return "return.height_m"
    if _RATE_WORDS & set(words) and not axis and "gyro" not in words:
        if {"loop", "pid", "control"} & set(words):
            return "loop_rate_hz"
        if {"motor", "motors", "output", "esc"} & set(words):
            return "output_rate_hz"
    if _KIND_WORDS & set(words):
        return None
    if "notch" in words and "gyro" in words:
        return "filter.gyro.notch.q" if "q" in words else "filter.gyro.notch.centre_hz"
    if _LOW_WORDS & set(words):
        if "gyro" in words:
            return "filter.gyro.low.cutoff_hz"
        if term == "d" or "dterm" in words:
            return "filter.d_term.low.cutoff_hz"
    return "idle" if "idle" in words else None
