"""What goes with what, by votes."""

from collections import Counter
from collections.abc import Hashable, Iterable
from typing import TypeVar

One = TypeVar("One", bound=Hashable)
Other = TypeVar("Other", bound=Hashable)


def one_to_one(votes: Iterable[tuple[One, Other]]) -> dict[One, Other]:
    """Return the pairs with the most votes, each thing in one pair at most."""
    out: dict[One, Other] = {}
    taken: set[Other] = set()
    for (one, other), _ in sorted(Counter(votes).items(), key=lambda item: (-item[1], item[0])):
        if one not in out and other not in taken:
            out[one] = other
            taken.add(other)
    return out
