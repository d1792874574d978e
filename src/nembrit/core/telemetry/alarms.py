"""Alarms while flying: a limit, how long it must be passed, and how far back before it may come again."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from nembrit.core.errors import InputError

Value = float | str
# key → what is watched, label, unit, whether low is bad, delay [s], hysteresis (starting values: common practice, no source)
KINDS: dict[str, tuple[str, str, str, bool, float, float]] = {
    "cell_low": ("cell_v", "cell voltage below", "V", True, 3.0, 0.1),
    "current_high": ("battery_current", "current above", "A", False, 2.0, 2.0),
    "temperature_high": ("temperature", "temperature above", "°C", False, 5.0, 3.0),
    "far": ("home_distance", "distance above", "m", False, 1.0, 20.0),
    "high": ("altitude", "height above", "m", False, 1.0, 5.0),
    "link_low": ("link_quality", "link quality below", "%", True, 1.5, 0.1),
    "silent": ("silence_s", "no data for", "s", False, 0.0, 0.5),
    "failsafe": ("failsafe", "mode", "", False, 0.3, 0.5),
    "oscillation": ("oscillation_dps", "sustained oscillation above", "deg/s", False, 3.0, 5.0),
    "energy_home": ("energy_margin", "energy for the way home below", "%", True, 3.0, 0.1),
}
DEFAULTS: dict[str, float] = {
    "cell_low": 3.5, "temperature_high": 80.0, "link_low": 0.5, "silent": 3.0, "failsafe": 0.5, "energy_home": 0.0, "high": 120.0,
    "oscillation": 25.0,
}  # fmt: skip
FAILSAFE_WORDS = ("failsafe", "return", "home", "rescue")


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """One alarm of a craft."""

    key: str
    limit: float
    delay_s: float
    hysteresis: float

    def __post_init__(self) -> None:
        if self.key not in KINDS:
            raise InputError(f"“{self.key[:30]}” is not an alarm; expected one of {', '.join(KINDS)}")
        if not (abs(self.limit) < 1e6 and 0 <= self.delay_s <= 120 and 0 <= self.hysteresis < 1e6):
            raise InputError("an alarm’s delay is 0 to 120 s, its limit and hysteresis below a million")


def rule(key: str, limit: float | None = None, delay_s: float | None = None, hysteresis: float | None = None) -> Rule:
    """An alarm with the usual numbers where none are given. Raises InputError for a key that is none."""
    if key not in KINDS:
        raise InputError(f"“{key[:30]}” is not an alarm; expected one of {', '.join(KINDS)}")
    _, _, _, _, delay, back = KINDS[key]
    usual = DEFAULTS.get(key)
    if limit is None and usual is None:
        raise InputError(f"say a limit for “{KINDS[key][1]}”")
    return Rule(
        key=key, limit=usual if limit is None else limit, delay_s=delay if delay_s is None else delay_s,  # type: ignore[arg-type]
        hysteresis=back if hysteresis is None else hysteresis,
    )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Event:
    """An alarm that began or ended."""

    at_s: float
    key: str
    is_on: bool
    value: float
    words: str


@dataclass(slots=True)
class Alarms:
    """Keeps for each rule since when its limit is passed; feed it values with rising times."""

    rules: Sequence[Rule]
    on: dict[str, float] = field(default_factory=dict)  # key → since when
    _passed: dict[str, float] = field(default_factory=dict)

    def feed(self, now_s: float, values: Mapping[str, Value]) -> list[Event]:
        """What began and what ended with these values; a value that is missing changes nothing."""
        found = []
        for one in self.rules:
            watched, _, _, low_is_bad, _, _ = KINDS[one.key]
            value = _watched(watched, values)
            if value is None:
                continue
            sign = -1.0 if low_is_bad else 1.0
            is_passed = sign * (value - one.limit) > 0
            if one.key in self.on:
                if sign * (value - one.limit) < -one.hysteresis:
                    del self.on[one.key]
                    self._passed.pop(one.key, None)
                    found.append(
                        Event(at_s=now_s, key=one.key, is_on=False, value=value, words=f"Over: {ended_words(one, value)}")
                    )
            elif not is_passed:
                self._passed.pop(one.key, None)
            elif now_s - self._passed.setdefault(one.key, now_s) >= one.delay_s:
                self.on[one.key] = now_s
                found.append(Event(at_s=now_s, key=one.key, is_on=True, value=value, words=words_of(one, value)))
        return found


def _watched(name: str, values: Mapping[str, Value]) -> float | None:
    if name == "failsafe":
        mode = values.get("mode")
        return None if mode is None else float(any(word in str(mode).lower() for word in FAILSAFE_WORDS))
    if name == "temperature":
        known = [value for key, value in values.items() if key.endswith("temperature") and isinstance(value, float)]
        return max(known) if known else None
    value = values.get(name)
    return value if isinstance(value, float) else None


def ended_words(one: Rule, value: float) -> str:
    """What an alarm's end is told by."""
    return {"silent": "data received", "failsafe": "normal mode", "energy_home": "enough for the way home"}.get(
        one.key, words_of(one, value)
    )


def words_of(one: Rule, value: float) -> str:
    """“Cell voltage 3.42 V (limit 3.5 V)”."""
    _, label, unit, _, _, _ = KINDS[one.key]
    if one.key == "failsafe":
        return "Mode changed to failsafe or return"
    if one.key == "silent":
        return f"No data for {value:.0f} s"
    if one.key == "energy_home":
        return "Turn back now: the pack barely covers the way home with its reserve"
    scale = 100.0 if unit == "%" else 1.0
    name = label.removesuffix(" below").removesuffix(" above")
    places = 2 if unit == "V" else 0
    return f"{name[:1].upper()}{name[1:]} {scale * value:.{places}f} {unit} (limit {scale * one.limit:g} {unit})"
