"""A comparison by function: what changed most first, for files too large to be read by line."""

from collections import Counter
from typing import NamedTuple

from hot_anvil.core.diff.leading import leading
from hot_anvil.core.diff.records import SAME, STATES, Explained, Reason, State


class FunctionChange(NamedTuple):
    """What became of one function."""

    title: str
    left: int | None  # instructions, None where it does not exist
    right: int | None
    states: tuple[tuple[State, int], ...]  # of its source lines, "same" left out
    reason: Reason | None  # the one to tell first

    @property
    def differing(self) -> int:
        """How many of its source lines are not the same."""
        return sum(count for _, count in self.states)


def by_function(explained: Explained) -> tuple[FunctionChange, ...]:
    """Return the functions that are not the same throughout, the most changed first.

    Changed most is what has the most source lines that differ, then the most instructions more or
    less.
    """
    states: dict[str, Counter[State]] = {}
    for row in explained.diff.rows:
        for part in row.parts:
            if part.state != SAME:
                states.setdefault(part.function, Counter())[part.state] += 1
    reasons: dict[str, list[Reason]] = {}
    for reason in explained.reasons:
        reasons.setdefault(reason.function, []).append(reason)
    out = []
    for total in explained.diff.functions:
        own = states.get(total.name, Counter())
        if total.identical or (not own and total.left == total.right):
            continue
        first = next(iter(leading(reasons.get(total.name, []), 1)), None)
        told = tuple((state, own[state]) for state in STATES if own[state])
        out.append(FunctionChange(total.title, total.left, total.right, told, first))
    return tuple(
        sorted(out, key=lambda one: (-one.differing, -abs((one.right or 0) - (one.left or 0))))
    )


def shown_lines(explained: Explained) -> int:
    """Return about how many lines it takes to show a comparison by source line."""
    return sum(
        1 + sum(len(part.pairs) for part in row.parts)
        for row in explained.diff.rows
        if row.state != SAME
    )
