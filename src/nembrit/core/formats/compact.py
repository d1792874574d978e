"""Numbers of a column gathered block by block, kept as small integers where that loses nothing."""

import numpy as np

from nembrit.core.types import AnyArray, FloatArray, IntArray

_EXACT_DECIMALS = 9
_SLICE = 65_536  # small enough to stay in the processor's cache


def exact_integers(values: FloatArray) -> tuple[AnyArray, float]:
    """Keep decimal numbers as integers with a divisor where that gives back every value exactly.

    >>> exact_integers(np.array([0.25, -1.5]))
    (array([  25, -150], dtype=int16), 100.0)
    """
    column = CompactColumn()
    column.add(values)
    return column.finish()


class CompactColumn:
    """Takes blocks of float64 numbers; `finish` gives (samples, divisor) with value = samples / divisor."""

    def __init__(self) -> None:
        self._blocks: list[AnyArray] = []
        self._decimals: list[int | None] = []
        self._place = 0

    def add(self, values: FloatArray) -> None:
        found = self._as_integers(values)
        if found is None:
            self._blocks.append(values)
            self._decimals.append(None)
        else:
            integers, self._place = found
            largest = int(np.abs(integers).max(initial=0))
            self._blocks.append(integers.astype(_smallest(largest)))
            self._decimals.append(self._place)

    def _as_integers(self, values: FloatArray) -> tuple[IntArray, int] | None:
        """Whole numbers and decimals of one block, never fewer decimals than blocks before had."""
        for decimals in range(self._place, _EXACT_DECIMALS + 1):
            if not _is_exact(values[:256], decimals):
                continue
            integers = np.empty(values.size, dtype=np.int64)
            if all(_fill(values[k : k + _SLICE], decimals, integers[k : k + _SLICE]) for k in range(0, values.size, _SLICE)):
                return integers, decimals
        return None

    def finish(self) -> tuple[AnyArray, float]:
        if not self._blocks:
            return np.empty(0, dtype=np.int16), 1.0
        if any(decimals is None for decimals in self._decimals):
            return self._as_floats(), 1.0
        most = max(decimals for decimals in self._decimals if decimals is not None)
        largest = 0
        for block, decimals in zip(self._blocks, self._decimals, strict=True):
            largest = max(largest, int(np.abs(block.astype(np.int64)).max(initial=0)) * 10 ** (most - (decimals or 0)))
        if largest >= 2**53:
            return self._as_floats(), 1.0
        kind = _smallest(largest)
        joined = np.empty(sum(block.size for block in self._blocks), dtype=kind)
        at = 0
        for block, decimals in zip(self._blocks, self._decimals, strict=True):
            scale = 10 ** (most - (decimals or 0))
            joined[at : at + block.size] = block if scale == 1 else block.astype(np.int64) * scale
            at += block.size
        return joined, 10.0**most

    def _as_floats(self) -> FloatArray:
        parts = [
            block.astype(np.float64) if decimals in (None, 0) else block / 10.0**decimals
            for block, decimals in zip(self._blocks, self._decimals, strict=True)
        ]
        return np.concatenate(parts)


def _is_exact(values: FloatArray, decimals: int) -> bool:
    return _fill(values, decimals, np.empty(values.size, dtype=np.int64))


def _fill(values: FloatArray, decimals: int, integers: IntArray) -> bool:
    """Write values × 10^decimals into `integers`; False where that does not give the values back."""
    divisor = 10.0**decimals
    scaled = values * divisor if decimals else values
    rounded = np.rint(scaled)
    limit = float(np.abs(rounded).max(initial=0.0))  # NaN and infinities fail the comparison below
    if not limit < 2**53:
        return False
    if not np.array_equal(rounded / divisor if decimals else rounded, values):
        return False
    integers[:] = rounded
    return True


def _smallest(largest: int) -> type[np.signedinteger]:
    """The smallest integer type that holds ±largest."""
    return np.int16 if largest < 2**15 else np.int32 if largest < 2**31 else np.int64
