"""The control command of an axis, as recorded or summed up."""

import numpy as np

from nembrit.core.records.log import Recording
from nembrit.core.types import FloatArray


def commanded(recording: Recording, axis: str) -> FloatArray | None:
    """Sum of the control terms of one axis [share of full motor range], or None if not logged."""
    if recording.has(f"command.{axis}"):
        return recording.channels[f"command.{axis}"]
    terms = [recording.channels[role] for term in "pidf" if recording.has(role := f"term_{term}.{axis}")]
    if len(terms) < 2 or not recording.has(f"term_p.{axis}"):
        return None
    total: FloatArray = np.sum(terms, axis=0)
    return total
