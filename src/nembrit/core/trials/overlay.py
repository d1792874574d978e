"""Curves of several flights laid over each other: their mean and their spread."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from nembrit.core.types import FloatArray


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Overlay:
    """Mean of several curves on one x grid, with the lowest and highest of them at each point."""

    x: FloatArray
    mean: FloatArray
    low: FloatArray
    high: FloatArray
    n_curves: int
    n_left_out: int  # curves on another grid, for instance of another log rate


def overlay(curves: Sequence[tuple[FloatArray, FloatArray]]) -> Overlay | None:
    """Average curves given as (x, y); those that do not share the first one's x are left out and counted.

    Densities are averaged as power, before any decibels. None without curves.

    >>> two = overlay([(np.arange(2.0), np.array([1.0, 2.0])), (np.arange(2.0), np.array([3.0, 2.0]))])
    >>> two.mean.tolist(), two.low.tolist(), two.n_left_out
    ([2.0, 2.0], [1.0, 2.0], 0)
    """
    if not curves:
        return None
    x = curves[0][0]
    alike = [y for other, y in curves if other.shape == x.shape and np.allclose(other, x, rtol=1e-3)]
    stack = np.stack(alike)
    return Overlay(
        x=x,
        mean=stack.mean(axis=0),
        low=stack.min(axis=0),
        high=stack.max(axis=0),
        n_curves=len(alike),
        n_left_out=len(curves) - len(alike),
    )
