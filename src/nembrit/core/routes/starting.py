"""Starting values for a craft that has none: from a table by propeller size, or from a similar craft."""

import json
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from nembrit.core.errors import InputError
from nembrit.core.setup.configuration import Setting, number
from nembrit.core.setup.namemap import MEANINGS, START_GROUPS, NameMap, group_of
from nembrit.core.tuning.translate import like

FORMAT = "nembrit.start/1"
_MOST_BYTES, _MOST_SETTINGS = 400_000, 2000


@dataclass(frozen=True, slots=True, kw_only=True)
class Body:
    """What a craft is like, as far as it is known."""

    name: str
    diameter_in: float
    cells: int
    mass_g: float
    thrust_to_weight: float | None = None


# --- the table: gains in points of a hundred, cutoffs in Hz (common practice, no source; our own, deliberately low)

_SIZES_IN = (2.0, 3.0, 5.0, 7.0, 10.0)
_TYPICAL = {"cells": (2, 3, 5, 6, 6), "mass_g": (60.0, 220.0, 650.0, 1000.0, 2000.0)}
_RANGES: dict[str, tuple[tuple[float, float], ...]] = {
    "p": ((30, 44), (32, 46), (36, 54), (38, 58), (40, 62)),
    "i": ((40, 60), (40, 60), (44, 70), (46, 74), (48, 80)),
    "d": ((18, 27), (20, 30), (24, 36), (26, 40), (28, 44)),
    "gyro_hz": ((200, 300), (160, 250), (110, 200), (80, 150), (55, 110)),
    "d_hz": ((100, 150), (85, 130), (65, 105), (50, 85), (35, 65)),
}
_WHY = {
    "p": "small propellers change speed quickly and need less P",
    "i": "a heavy, slow craft needs more I to hold its attitude",
    "d": "D grows with size, as the craft takes longer to stop",
    "gyro_hz": "large propellers turn slower, so their noise lies lower",
    "d_hz": "D passes noise on: its cutoff lies at about half of the gyro’s",
}
_KEYS = {
    "p": ("gain.rate.roll.p", "gain.rate.pitch.p"), "i": ("gain.rate.roll.i", "gain.rate.pitch.i"),
    "d": ("gain.rate.roll.d", "gain.rate.pitch.d"), "gyro_hz": ("filter.gyro.low.cutoff_hz", "filter.gyro.low_1.cutoff_hz"),
    "d_hz": ("filter.d_term.low.cutoff_hz", "filter.d_term.low_1.cutoff_hz"),
}  # fmt: skip
_PITCH_MORE = 1.1  # for a craft longer than wide (common practice, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class Range:
    """Where a value usually starts, and why; gains in points of a hundred, cutoffs in Hz."""

    low: float
    high: float
    start: float
    why: str


def ranges_for(body: Body) -> dict[str, Range]:
    """Ranges of P, I, D, gyro and D cutoff for a craft, by name of the value.

    Between the sizes of the table, ranges are interpolated over the logarithm of the diameter. More cells than usual give more
    power per point, so gains start lower in proportion; more mass than usual, higher by its square root, by a quarter at most.
    A start lies a quarter into its range: too soft damages nothing. Common practice, no source. Raises InputError for a craft
    outside 1 to 15 inches.

    >>> round(ranges_for(Body(name="", diameter_in=5.0, cells=5, mass_g=650.0))["p"].start)
    40
    """
    if not 1.0 <= body.diameter_in <= 15.0:
        raise InputError(f"the table goes from 1 to 15 inches; this propeller has {body.diameter_in:g}")
    at = math.log(min(max(body.diameter_in, _SIZES_IN[0]), _SIZES_IN[-1]))
    sizes = np.log(_SIZES_IN)
    usual = {name: float(np.interp(at, sizes, values)) for name, values in _TYPICAL.items()}
    power = (usual["cells"] / body.cells if body.cells else 1.0) * math.sqrt(max(body.mass_g, 1.0) / usual["mass_g"])
    power = min(max(power, 0.75), 1.25)
    found = {}
    for name, table in _RANGES.items():
        low, high = (float(np.interp(at, sizes, column)) for column in zip(*table, strict=True))
        factor = power if name in ("p", "d") else 1.0
        found[name] = Range(
            low=round(factor * low), high=round(factor * high), start=round(factor * (low + (high - low) / 4)), why=_WHY[name]
        )
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class Proposed:
    """One setting with its value now and the one that is proposed."""

    name: str
    before: str
    after: str
    meaning: str
    why: str


def from_table(body: Body, settings: Sequence[Setting], names: NameMap) -> tuple[list[Proposed], list[str]]:
    """Starting values from the table in the craft's own settings, and what could not be proposed, with the reason.

    Gains are proposed only where the present number can be one of a hundred-point scale: of other scales the table knows nothing.
    """
    ranges, found, left = ranges_for(body), [], []
    by_key = {meaning.key: name for name, meaning in names.items()}
    present = {one.name: one.value for one in settings}
    for value, keys in _KEYS.items():
        for key in keys:
            name = by_key.get(key)
            shown = number(present.get(name, "")) if name else None
            if name is None or shown is None or (value.endswith("hz") and shown == 0):
                continue
            if not value.endswith("hz") and not 5 <= shown <= 100:
                left.append(f"{name} = {present[name]} is on a scale of its own")
                continue
            own = ranges[value]
            wanted = own.start * (_PITCH_MORE if ".pitch." in key else 1.0)
            after = like(present[name], round(wanted))
            if after != present[name]:
                why = f"{own.low:g} to {own.high:g}: {own.why}"
                found.append(Proposed(name=name, before=present[name], after=after, meaning=MEANINGS[key], why=why))
    return found, left


# --- a similar craft

_LIKE = {"propeller": 0.10, "mass": 0.25, "thrust-to-weight": 0.25}  # shares up to which two craft are alike (our own, no source)


@dataclass(frozen=True, slots=True, kw_only=True)
class Likeness:
    """How like two craft are: `distance` 0 for equal, up to 1 for alike in everything."""

    distance: float
    lines: tuple[str, ...]

    @property
    def is_like(self) -> bool:
        return self.distance <= 1.0


def likeness(own: Body, other: Body) -> Likeness:
    """Compare propeller, mass, cells and thrust-to-weight; what is unknown on either side is said and counts as half a limit."""
    pairs = {
        "propeller": (own.diameter_in, other.diameter_in, "in"), "mass": (own.mass_g, other.mass_g, "g"),
        "thrust-to-weight": (own.thrust_to_weight, other.thrust_to_weight, ""),
    }  # fmt: skip
    shares, lines = [], []
    for name, (mine, theirs, unit) in pairs.items():
        if not mine or not theirs:
            shares.append(0.5)
            lines.append(f"{name} unknown")
            continue
        share = abs(math.log(theirs / mine)) / math.log1p(_LIKE[name])
        shares.append(share)
        theirs_said, mine_said = (f"{value:.4g} {unit}".strip() for value in (theirs, mine))
        lines.append(f"{name} {theirs_said}, here {mine_said}: {'alike' if share <= 1 else 'different'}")
    shares.append(0.0 if own.cells == other.cells else 1.0 if abs(own.cells - other.cells) == 1 else 2.0)
    lines.append(f"{other.cells} cells, here {own.cells}: {'alike' if own.cells == other.cells else 'different'}")
    return Likeness(distance=max(shares), lines=tuple(lines))


@dataclass(frozen=True, slots=True, kw_only=True)
class Given:
    """Settings of another craft with their meanings."""

    body: Body
    settings: tuple[Setting, ...]
    names: NameMap


def from_craft(given: Given, settings: Sequence[Setting], names: NameMap) -> tuple[list[Proposed], list[str]]:
    """Another craft's gains, filters and rates in this craft's own settings, and what could not be taken over.

    Settings are matched by meaning. Numbers are converted where the scales of both are known; where neither is, equal names mean
    equal scales. All else is left out with the reason.
    """
    found, left = [], []
    theirs = {meaning.key: (one, meaning) for one in given.settings if (meaning := given.names.get(one.name)) is not None}
    for one in settings:
        meaning = names.get(one.name)
        if meaning is None or group_of(meaning.key) not in START_GROUPS or meaning.key not in theirs:
            continue
        other, said = theirs[meaning.key]
        value = number(other.value)
        if value is None:
            continue
        if meaning.scale and said.scale:
            after = like(one.value, value * said.scale / meaning.scale)
        elif meaning.scale is None and said.scale is None and other.name == one.name:
            after = other.value
        else:
            left.append(f"{one.name}: the scales of the two craft differ or are unknown")
            continue
        if after != one.value:
            why = f"{given.body.name} flies {other.value}"
            found.append(Proposed(name=one.name, before=one.value, after=after, meaning=MEANINGS[meaning.key], why=why))
    return found, left


def to_json(given: Given) -> dict[str, Any]:
    """An open file of starting values: what the craft is like, and its settings with their meanings."""
    body = given.body
    return {
        "format": FORMAT,
        "craft": {
            "name": body.name, "propeller_diameter_in": body.diameter_in, "cells": body.cells, "mass_g": body.mass_g,
            "thrust_to_weight": body.thrust_to_weight,
        },
        "settings": [
            {"name": one.name, "value": one.value, "meaning": meaning.key, "scale": meaning.scale}
            for one in given.settings
            if (meaning := given.names.get(one.name)) is not None and group_of(meaning.key) in START_GROUPS
        ],
    }  # fmt: skip


def from_json(content: bytes) -> Given:
    """Read a file of starting values. Raises InputError that says what is wrong with it."""
    from nembrit.core.setup.namemap import Meaning

    if len(content) > _MOST_BYTES:
        raise InputError(f"{len(content) / 1e6:.1f} MB: a file of starting values has 0.4 MB at most")
    try:
        found = json.loads(content)
        craft, rows = found["craft"], found["settings"]
        if found.get("format") != FORMAT or not isinstance(rows, list) or len(rows) > _MOST_SETTINGS:
            raise InputError(f"this is no file of starting values ({FORMAT})")
        weight = craft.get("thrust_to_weight")
        body = Body(
            name=str(craft["name"])[:60], diameter_in=_positive(craft["propeller_diameter_in"]), cells=int(craft["cells"]),
            mass_g=_positive(craft["mass_g"]), thrust_to_weight=None if weight is None else _positive(weight),
        )  # fmt: skip
        settings = tuple(Setting(name=str(row["name"])[:80], value=str(row["value"])[:80]) for row in rows)
        names = {
            str(row["name"])[:80]: Meaning(str(row["meaning"]), None if row.get("scale") is None else _positive(row["scale"]))
            for row in rows
            if row.get("meaning") in MEANINGS
        }
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        if isinstance(error, InputError):
            raise
        raise InputError("this is no file of starting values: export one from a craft’s page") from None
    return Given(body=body, settings=settings, names=names)


def _positive(value: object) -> float:
    found = float(str(value))
    if not 0 < found < 1e9:
        raise InputError(f"{found:g} is impossible here")
    return found


def thrust_to_weight(hover_output: float) -> float:
    """Full thrust over weight, from the motor output in hover (share of full range).

    Thrust goes with the square of the motor's speed, and speed about with its output: propeller theory, e.g. W. Z. Stepniewski
    and C. N. Keys, *Rotary-Wing Aerodynamics* (1984). A rough figure, good to compare craft. Raises InputError outside 0.02 to 1.

    >>> thrust_to_weight(0.5)
    4.0
    """
    if not 0.02 <= hover_output <= 1.0:
        raise InputError(f"the motor output in hover goes from 0.02 to 1, got {hover_output:g}")
    return 1.0 / hover_output**2
