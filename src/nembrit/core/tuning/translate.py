"""A chosen chain or gain in the tuner's own names and numbers: what to write on a slip."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nembrit.core.setup.configuration import Setting, number
from nembrit.core.setup.controller import Controller, Filter
from nembrit.core.setup.namemap import MEANINGS, NameMap, group_of


@dataclass(frozen=True, slots=True, kw_only=True)
class Written:
    """New values by setting's name, and what no setting of this craft can say."""

    values: dict[str, str]
    missing: tuple[str, ...]

    def of_group(self, settings: Sequence[Setting], names: NameMap, group: str) -> dict[str, str]:
        """The values of one slip group."""
        return {
            one.name: self.values[one.name]
            for one in settings
            if one.name in self.values and (meaning := names.get(one.name)) and group_of(meaning.key) == group
        }


def chain_values(settings: Sequence[Setting], names: NameMap, chains: Controller) -> Written:
    """Settings that make the chains of `chains`; those that are right already are left out."""
    wanted: dict[str, float] = {}
    for place in ("chip", "gyro", "d_term"):
        wanted |= _low_passes(place, getattr(chains, place))
    wanted |= _notches(chains.gyro)
    return _written(settings, names, wanted)


def gain_values(settings: Sequence[Setting], names: NameMap, ratios: Mapping[str, Mapping[str, float]]) -> Written:
    """Gains at ratios to those that the settings hold, by axis and term, in the numbers as shown."""
    by_key = {meaning.key: name for name, meaning in names.items()}
    present = {one.name: one.value for one in settings}
    values, missing = {}, []
    for axis, terms in ratios.items():
        for term, ratio in terms.items():
            name = by_key.get(key := f"gain.rate.{axis}.{term}")
            shown = number(present.get(name, "")) if name else None
            if name is None or shown is None:
                missing.append(MEANINGS[key])
            elif (text := like(present[name], shown * ratio)) != present[name]:
                values[name] = text
    return Written(values=values, missing=tuple(missing))


def _low_passes(place: str, filters: Sequence[Filter]) -> dict[str, float]:
    found = {f"filter.{place}.low.cutoff_hz": 0.0, f"filter.{place}.low_1.cutoff_hz": 0.0}
    for one in filters:
        if one.kind in ("lowpass_1", "lowpass_2"):
            found[f"filter.{place}.low{'_1' if one.kind == 'lowpass_1' else ''}.cutoff_hz"] = one.frequency_hz
    return found


def _notches(filters: Sequence[Filter]) -> dict[str, float]:
    found = {"filter.gyro.notch.centre_hz": 0.0, "filter.gyro.notch_2.centre_hz": 0.0, "filter.gyro.rotor.orders": 0.0}
    slots = iter(("notch", "notch_2"))
    for one in filters:
        if one.kind == "notch":
            slot = next(slots, "notch_3")
            found |= {f"filter.gyro.{slot}.centre_hz": one.frequency_hz, f"filter.gyro.{slot}.q": one.q}
        elif one.kind == "rotor_notch":
            found |= {
                "filter.gyro.rotor.orders": float(max(one.orders)), "filter.gyro.rotor.q": one.q,
                "filter.gyro.rotor.lowest_hz": one.frequency_hz,
            }  # fmt: skip
    return found


def _written(settings: Sequence[Setting], names: NameMap, wanted: Mapping[str, float]) -> Written:
    present = {one.name: one.value for one in settings}
    by_key = {meaning.key: (name, meaning.scale) for name, meaning in names.items() if name in present}
    values, missing = {}, []
    for key, value in wanted.items():
        name, scale = by_key.get(key, ("", None))
        if not name or not scale:
            if value:  # what is off need not be said
                missing.append(MEANINGS.get(key, "a third notch"))
            continue
        was = number(present[name])
        text = like(present[name], value / scale)
        if was is None or abs(was * scale - value) > 0.004 * max(abs(value), 1.0):
            values[name] = text
    return Written(values=values, missing=tuple(missing))


def like(shown: str, value: float) -> str:
    """A number with as many decimals as the one that it replaces; more where two digits that count need them.

    >>> like("45", 52.7), like("0.045", 0.0527), like("110", 87.24), like("3.0", 8.0), like("2", 0.4)
    ('53', '0.053', '87', '8.0', '0.4')
    """
    decimals = len(shown.partition(".")[2])
    if decimals and value:
        while decimals < 8 and abs(value) * 10**decimals < 10:
            decimals += 1
    elif value and abs(value) < 1:
        decimals = 1 if abs(value) >= 0.1 else 3
    return f"{value:.{decimals}f}"
