"""Configurations: an ordered list of settings as the tuner sees them, and what changed between two."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nembrit.core.errors import InputError


@dataclass(frozen=True, slots=True)
class Setting:
    """One setting: name and value text exactly as shown."""

    name: str
    value: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SettingChange:
    """One difference between two configurations; None on one side: the setting is absent there."""

    name: str
    before: str | None
    after: str | None

    @property
    def ratio(self) -> float | None:
        """After over before, where both are numbers and before is not 0."""
        before, after = number(self.before), number(self.after)
        return after / before if before and after is not None else None


def number(text: str | None) -> float | None:
    """Value of a setting as a number, or None if it is none.

    >>> number("42"), number("on"), number("1e3 Hz")
    (42.0, None, None)
    """
    try:
        return float(text) if text is not None else None
    except ValueError:
        return None


def settings_text(settings: Sequence[Setting]) -> str:
    """The lines that `pasted.parse_settings` reads back identically."""
    return "".join(f"{setting.name} = {setting.value}\n" for setting in settings)


def diff_settings(before: Sequence[Setting], after: Sequence[Setting]) -> tuple[SettingChange, ...]:
    """What differs, in the order of `before`, then what only `after` has. ``1.0`` and ``1`` are equal."""
    old = {setting.name: setting.value for setting in before}
    new = {setting.name: setting.value for setting in after}
    names = list(old) + [name for name in new if name not in old]
    return tuple(
        SettingChange(name=name, before=old.get(name), after=new.get(name))
        for name in names
        if not _is_same(old.get(name), new.get(name))
    )


def _is_same(before: str | None, after: str | None) -> bool:
    if before is None or after is None:
        return False
    return before == after or (number(before) is not None and number(before) == number(after))


_MOST_STEP = 20.0  # times the present value: nobody means more in one step (common practice, no source)


def check_change(name: str, before: str, after: str) -> None:
    """Refuse a new value that is no number where a number stood, or beyond sense. Raises InputError.

    >>> check_change("d on roll", "35", "24")
    >>> check_change("mode", "fast", "slow")
    """
    old, new = number(before), number(after)
    if old is None:
        return
    if new is None or not math.isfinite(new):
        raise InputError(f"“{name}” is a number, {before} now; “{after[:40]}” is none")
    if old > 0 and not 0 <= new <= _MOST_STEP * old:
        raise InputError(
            f"“{name}” is {before} now; {after[:40]} is out of range: change it in steps, within 0 to {_MOST_STEP * old:g}"
        )


def apply_changes(settings: Sequence[Setting], changes: Mapping[str, str]) -> tuple[Setting, ...]:
    """Settings with new values for some names, same order; raises InputError for an unknown name."""
    known = {setting.name for setting in settings}
    for name in changes:
        if name not in known:
            raise InputError(f"“{name}” is no setting of this configuration")
    return tuple(Setting(setting.name, changes.get(setting.name, setting.value)) for setting in settings)
