"""Pure work in pieces, which may be shared over the cores."""

from collections.abc import Callable, Sequence
from typing import Any

Work = Callable[[int], Any]
Spread = Callable[[Work, int, int], Sequence[Any]]  # work, how many pieces, instructions in all


def in_order(work: Work, count: int, _size: int) -> Sequence[Any]:
    """Do the pieces of work one after another."""
    return [work(k) for k in range(count)]
