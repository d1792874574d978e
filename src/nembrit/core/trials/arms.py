"""In which order the arms of a question are flown, so that time and packs fall on all of them alike."""

from collections import Counter
from collections.abc import Sequence

import numpy as np

from nembrit.core.errors import InputError

DESIGNS = {
    "blocks": "there and back: A B B A, then B A A B",
    "latin": "Latin square: each variant once per round and once in every position",
    "random": "drawn at random",
}
TEST_OF = {"blocks": "blocks", "latin": "pairs", "random": "free"}  # what two arms' flights may be permuted within
MOST_ARMS, MOST_REPETITIONS = 5, 10


def least_repetitions(design: str) -> int:
    """Flights per variant that can reach a p of 0.05: 1 of 70 orders, 1 of 36, 1 of 32.

    >>> [least_repetitions(design) for design in DESIGNS]
    [4, 5, 4]
    """
    return {"blocks": 4, "latin": 5, "random": 4}[_known(design)]


def _known(design: str) -> str:
    if design not in DESIGNS:
        raise InputError(f"“{design}” is no order; expected one of {', '.join(DESIGNS)}")
    return design


def schedule(n_arms: int, repetitions: int, design: str, *, seed: int) -> list[int]:
    """The arms in the order to fly, counted from 0; the seed draws which letter is which, rows and order.

    Raises InputError for an order that cannot be balanced.
    Source of the Latin square that balances what follows what: E. J. Williams, Aust. J. Sci. Res. A 2 (1949) 149-168.
    """
    _known(design)
    if not 2 <= n_arms <= MOST_ARMS:
        raise InputError(f"a comparison has 2 to {MOST_ARMS} arms, got {n_arms}")
    least = least_repetitions(design)
    if not least <= repetitions <= MOST_REPETITIONS:
        raise InputError(f"flights per variant: from {least} to {MOST_REPETITIONS} in this order, got {repetitions}")
    if design == "blocks" and repetitions % 2:
        raise InputError("the order “there and back” needs an even number of flights per variant")
    rng = np.random.default_rng(seed)
    if design == "random":
        return [int(arm) for arm in rng.permutation(np.repeat(np.arange(n_arms), repetitions))]
    if design == "blocks":
        return _there_and_back(n_arms, repetitions // 2, rng)
    return _rounds(n_arms, repetitions, rng)


def _there_and_back(n_arms: int, n_blocks: int, rng: np.random.Generator) -> list[int]:
    """Each block is an order and its mirror image; the next block begins the other way round."""
    first = [int(arm) for arm in rng.permutation(n_arms)]
    flown: list[int] = []
    for block in range(n_blocks):
        order = first if block % 2 == 0 else first[::-1]
        flown += order + order[::-1]
    return flown


def _rounds(n_arms: int, repetitions: int, rng: np.random.Generator) -> list[int]:
    """Rows of Latin squares, squares drawn anew when one is used up."""
    rows: list[list[int]] = []
    while len(rows) < repetitions:
        letters = rng.permutation(n_arms)
        square = latin_square(n_arms)
        rows += [[int(letters[arm]) for arm in square[place]] for place in rng.permutation(n_arms)]
    return [arm for row in rows[:repetitions] for arm in row]


def latin_square(n: int) -> list[list[int]]:
    """Each number once in every row and once in every column; for even n each follows each other number exactly once.

    >>> latin_square(4)[0]
    [0, 1, 3, 2]
    """
    first = [0]
    low, high = 1, n - 1
    while len(first) < n:
        first.append(low if len(first) % 2 else high)
        low, high = (low + 1, high) if len(first) % 2 == 0 else (low, high - 1)
    return [[(arm + row) % n for arm in first] for row in range(n)]


def is_balanced(order: Sequence[int]) -> bool:
    """Whether all arms have the same mean place in the order, so that a steady drift falls on all alike."""
    places = {arm: [k for k, one in enumerate(order) if one == arm] for arm in set(order)}
    counts = Counter(order)
    return len(set(counts.values())) == 1 and len({sum(own) for own in places.values()}) == 1
