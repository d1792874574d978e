"""Like work on two processors at once: sums over arrays leave the interpreter free."""

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Given = TypeVar("Given")
Found = TypeVar("Found")


def together(work: Callable[[Given], Found], items: Iterable[Given]) -> list[Found]:
    """`work` of every item, in their order; an error of one is raised.

    >>> together(abs, (-1, 2))
    [1, 2]
    """
    with ThreadPoolExecutor(max_workers=2) as pool:
        return list(pool.map(work, items))
