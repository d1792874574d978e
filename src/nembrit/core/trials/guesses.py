"""Did a blinded pilot know which arm was flown? Guesses against chance."""

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from nembrit.core.errors import InputError
from nembrit.core.trials.looks import LEVEL


@dataclass(frozen=True, slots=True, kw_only=True)
class GuessResult:
    """How many guesses were right, and how often chance alone would give as many."""

    n_right: int
    n_guessed: int
    p_value: float
    expected: float  # right ones by chance

    @property
    def knew(self) -> bool:
        return self.p_value <= LEVEL

    @property
    def in_words(self) -> str:
        told = f"{self.n_right} of {self.n_guessed} guesses right, {self.expected:.2g} by chance (p = {self.p_value:.2g})"
        return f"{told}: the variants were recognisable" if self.knew else f"{told}: no sign that the variants were recognisable"


def judge_guesses(guesses: Sequence[int | None], arms: Sequence[int], *, group_sizes: Sequence[int]) -> GuessResult | None:
    """Exact one-sided test of as many right guesses or more, over all orders that the design allowed.

    Parameters
    ----------
    guesses, arms : sequences of equal length, in the order flown
        Which arm was guessed (None: no guess) and which was flown.
    group_sizes : sequence of int
        Flights in a row within which the arms could have changed places; a pilot who knows how often each comes does not
        guess independently, so that a binomial test would see knowledge where there is none.

    Returns
    -------
    GuessResult, or None where nothing was guessed.

    Notes
    -----
    Orders are counted by dynamic programming over how many flights of each arm are left; groups are independent.
    Source: R. A. Fisher, The Design of Experiments (1935), chapter 2 (the lady tasting tea: 8 cups, 4 of each).

    >>> judge_guesses([0, 0, 0, 0, 1, 1, 1, 1], [0, 0, 0, 0, 1, 1, 1, 1], group_sizes=[8]).p_value * 70
    1.0
    """
    if len(guesses) != len(arms) or sum(group_sizes) != len(arms):
        raise InputError("every flight needs its variant and its place in a group")
    n_guessed = sum(guess is not None for guess in guesses)
    if not n_guessed:
        return None
    chances = {0: 1.0}
    start = 0
    for size in group_sizes:
        chances = _joined(chances, _matches(guesses[start : start + size], arms[start : start + size]))
        start += size
    n_right = sum(guess == arm for guess, arm in zip(guesses, arms, strict=True) if guess is not None)
    p_value = sum(chance for right, chance in chances.items() if right >= n_right)
    expected = sum(right * chance for right, chance in chances.items())
    return GuessResult(n_right=n_right, n_guessed=n_guessed, p_value=min(1.0, p_value), expected=expected)


def _matches(guesses: Sequence[int | None], arms: Sequence[int]) -> dict[int, float]:
    """Chance of each number of right guesses when these arms are dealt out in any order."""
    counts = Counter(arms)
    names = sorted(counts)
    ways: dict[tuple[tuple[int, ...], int], int] = {(tuple(counts[name] for name in names), 0): 1}
    for guess in guesses:
        dealt: dict[tuple[tuple[int, ...], int], int] = defaultdict(int)
        for (left, right), n in ways.items():
            for place, name in enumerate(names):
                if left[place]:
                    rest = (*left[:place], left[place] - 1, *left[place + 1 :])
                    dealt[rest, right + (guess == name)] += n
        ways = dealt
    total = sum(ways.values())
    found: dict[int, float] = defaultdict(float)
    for (_, right), n in ways.items():
        found[right] += n / total
    return dict(found)


def _joined(one: dict[int, float], other: dict[int, float]) -> dict[int, float]:
    found: dict[int, float] = defaultdict(float)
    for a, p in one.items():
        for b, q in other.items():
            found[a + b] += p * q
    return dict(found)
