"""A part of a long flight that stands for all of it."""

import numpy as np

from nembrit.core.types import BoolArray

_STRETCH_S = 5.0


def spread(rows: BoolArray, rate_hz: float, *, most_s: float) -> BoolArray:
    """At most so many seconds of rows, in stretches of 5 s spread over the flight: more tells nothing that pays for its time."""
    share = float(rows.sum()) / (most_s * rate_hz)
    if share <= 1:
        return rows
    stretch = np.arange(rows.size) // max(1, round(_STRETCH_S * rate_hz))
    return rows & (np.floor((stretch + 1) / share) > np.floor(stretch / share))
