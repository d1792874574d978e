"""A controller's automatic tune: how far its runs agree, what lies between them, and whether margins bear it out."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.response.estimate import Estimate
from nembrit.core.types import AXES

SPREAD_MOST = 0.25  # of the middle, over an axis's gains: beyond it the axis is flown again (our own, no source)
_GOOD_PEAK, _LOW_PEAK = 1.6, 2.0
CHECKLIST = (
    "Calm air, early or late in the day: gusts look like a bad tune.",
    "A large open area, nobody near, at a height that leaves room to take over.",
    "A very full pack: it takes 10 to 15 minutes. Land at the landing voltage, finished or not.",
    "Take off in a height-holding mode, then switch it on. Bring it back by stick when it drifts.",
    "Finished when the controller says so, or when it sits still.",
    "Land with the switch still on, then disarm: otherwise most controllers save nothing.",
    "Restart, read the settings back and paste them here.",
)


@dataclass(frozen=True, slots=True, kw_only=True)
class GainSpread:
    """One gain over the runs."""

    name: str
    axis: str
    before: float | None
    values: tuple[float | None, ...]  # by run; None where a run did not name it
    middle: float
    spread_ratio: float | None  # largest minus smallest over the middle; None with one run

    @property
    def in_words(self) -> str:
        if self.spread_ratio is None:
            return "one run: repeat it"
        word = "agree" if self.spread_ratio <= SPREAD_MOST else "differ"
        return f"{100 * self.spread_ratio:.0f} % apart: they {word}"


def spreads(before: Mapping[str, float], runs: Sequence[Mapping[str, float]], axes: Mapping[str, str]) -> tuple[GainSpread, ...]:
    """Each gain that a run changed, with its middle: the median, which for two runs is halfway between them.

    `axes` gives the axis of each gain's name; other settings are no gains. A run that does not name a gain says nothing of it.
    """
    found = []
    for name, axis in axes.items():
        values = tuple(run.get(name) for run in runs)
        known = [value for value in values if value is not None]
        if not known or all(value == before.get(name) for value in known):
            continue
        middle = float(np.median(known))
        apart = (max(known) - min(known)) / middle if len(known) > 1 and middle else None
        found.append(GainSpread(name=name, axis=axis, before=before.get(name), values=values, middle=middle, spread_ratio=apart))
    return tuple(sorted(found, key=lambda one: (AXES.index(one.axis) if one.axis in AXES else 9, one.name)))


def axes_to_repeat(found: Sequence[GainSpread]) -> tuple[str, ...]:
    """Axes of which any gain differs too much between runs, or that only one run tuned."""
    doubted = {one.axis for one in found if one.spread_ratio is None or one.spread_ratio > SPREAD_MOST}
    return tuple(axis for axis in AXES if axis in doubted)


def against_margin(axis: str, peak: Estimate | None) -> str:
    """What the measured margin says of the gains that were found automatically; empty where nothing was measured.

    A sensitivity peak up to 1.6 is good and above 2 low; P and D scale the loop, so the share to take off is that of the peak
    above 1.6, roughly, and is then measured again.
    """
    if peak is None:
        return ""
    told = f"{axis}: sensitivity peak {peak.value:.2f} ({peak.low:.2f} to {peak.high:.2f})"
    if peak.low > _GOOD_PEAK:
        less = min(25.0, 100 * (1 - _GOOD_PEAK / peak.value))
        word = "a low margin" if peak.value > _LOW_PEAK else "an under-damped loop"
        return f"{told}. The result and the log disagree: {word}. Lower P and D by about {less:.0f} %, then measure again"
    if peak.high <= _GOOD_PEAK:
        return f"{told}. The log confirms a good margin"
    return f"{told}. The log leaves it open: fly the half-minute card again"
