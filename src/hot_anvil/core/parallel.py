"""Pure work in pieces, which may be shared over the cores."""

from collections.abc import Callable, Sequence
from typing import Any

Work = Callable[[int], Any]
Spread = Callable[[Work, Sequence[int]], Sequence[Any]]  # work, instructions of each piece


def in_order(work: Work, sizes: Sequence[int]) -> Sequence[Any]:
    """Do the pieces of work one after another."""
    return [work(k) for k in range(len(sizes))]
