"""Numbers of a column gathered block by block, kept as small integers where that loses nothing."""

import numpy as np

from nembrit.core.types import AnyArray, FloatArray, IntArray

_EXACT_DECIMALS = 9
_SLICE = 65_536  # small enough to stay in the processor's cache

Block = tuple[AnyArray, int | None]  # samples, and their decimals; None: float64 as they are


def exact_integers(values: FloatArray) -> tuple[AnyArray, float]:
    """Keep decimal numbers as integers with a divisor where that gives back every value exactly.

    >>> exact_integers(np.array([0.25, -1.5]))
    (array([  25, -150], dtype=int16), 100.0)
    """
    column = CompactColumn()
    column.add(compacted(values))
    return column.finish()


def compacted(values: FloatArray, *, least_decimals: int = 0) -> Block:
    """One block as whole numbers with their decimals, or unchanged where they are no short decimals."""
    for decimals in range(least_decimals, _EXACT_DECIMALS + 1):
        if not _fill(values[:256], decimals, np.empty(min(256, values.size), dtype=np.int64)):
            continue
        integers = np.empty(values.size, dtype=np.int64)
        if all(_fill(values[k : k + _SLICE], decimals, integers[k : k + _SLICE]) for k in range(0, values.size, _SLICE)):
            return integers.astype(_smallest(int(np.abs(integers).max(initial=0)))), decimals
    return values, None


class CompactColumn:
    """Takes blocks in order; `finish` gives (samples, divisor) with value = samples / divisor."""

    def __init__(self) -> None:
        self._blocks: list[Block] = []
        self.decimals = 0  # most so far: later blocks need not try fewer

    def add(self, block: Block) -> None:
        self._blocks.append(block)
        self.decimals = max(self.decimals, block[1] or 0)

    def finish(self) -> tuple[AnyArray, float]:
        if not self._blocks:
            return np.empty(0, dtype=np.int16), 1.0
        if any(decimals is None for _, decimals in self._blocks):
            return self._as_floats(), 1.0
        largest = 0
        for block, decimals in self._blocks:
            largest = max(largest, int(np.abs(block.astype(np.int64)).max(initial=0)) * 10 ** (self.decimals - (decimals or 0)))
        if largest >= 2**53:
            return self._as_floats(), 1.0
        joined = np.empty(sum(block.size for block, _ in self._blocks), dtype=_smallest(largest))
        at = 0
        for block, decimals in self._blocks:
            scale = 10 ** (self.decimals - (decimals or 0))
            joined[at : at + block.size] = block if scale == 1 else block.astype(np.int64) * scale
            at += block.size
        self._blocks = []
        return joined, 10.0**self.decimals

    def _as_floats(self) -> FloatArray:
        parts = [block / 10.0**decimals if decimals else block.astype(np.float64) for block, decimals in self._blocks]
        return np.concatenate(parts)


def _fill(values: FloatArray, decimals: int, integers: IntArray) -> bool:
    """Write values × 10^decimals into `integers`; False where that does not give the values back."""
    divisor = 10.0**decimals
    with np.errstate(over="ignore"):
        rounded = np.rint(values * divisor if decimals else values)
    limit = float(np.abs(rounded).max(initial=0.0))  # NaN and infinities fail the comparison below
    if not limit < 2**53 or not np.array_equal(rounded / divisor if decimals else rounded, values):
        return False
    integers[:] = rounded
    return True


def _smallest(largest: int) -> type[np.signedinteger]:
    """The smallest integer type that holds ±largest."""
    return np.int16 if largest < 2**15 else np.int32 if largest < 2**31 else np.int64
