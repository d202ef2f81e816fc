"""Comparisons as they are stored: instructions by their place in the code of either side."""

from collections.abc import Sequence
from typing import Any, NamedTuple

from hot_anvil.core.code.places import Place
from hot_anvil.core.code.records import Code, Instruction, join_parts, parts_by_owner
from hot_anvil.core.diff.records import (
    STATES,
    Diff,
    Explained,
    FunctionTotal,
    Pair,
    Part,
    Reason,
    Row,
    Spot,
    State,
)

Places = tuple[Any, ...]  # of both instructions, index of the state, file and line moved to or from


class StoredPart(NamedTuple):
    """``Part`` without the instructions."""

    function: str
    title: str
    pairs: tuple[Places, ...]
    left_count: int
    right_count: int
    state: State


class StoredRow(NamedTuple):
    """``Row`` without the instructions."""

    left: Spot | None
    right: Spot | None
    state: State
    parts: tuple[StoredPart, ...]
    place: Place
    reasons: tuple[int, ...]


class Stored(NamedTuple):
    """``Explained`` without the instructions."""

    rows: tuple[StoredRow, ...]
    functions: tuple[FunctionTotal, ...]
    states: dict[State, int]
    left_names: dict[str, str]
    reasons: tuple[Reason, ...]
    unexplained: int
    wanting: int


def to_stored(explained: Explained) -> Stored:
    """Return a comparison as it is stored."""
    rows = tuple(
        StoredRow(r.left, r.right, r.state, tuple(map(_part, r.parts)), r.place, r.reasons)
        for r in explained.diff.rows
    )
    diff = explained.diff
    return Stored(
        rows, diff.functions, diff.states, dict(diff.left_names), explained.reasons,
        explained.unexplained, explained.wanting,
    )  # fmt: skip


def _part(part: Part) -> StoredPart:
    pairs = tuple((*p.place, STATES.index(p.state), *p.other) for p in part.pairs)
    counts = part.left_count, part.right_count
    return StoredPart(part.function, part.title, pairs, *counts, part.state)


def from_stored(stored: Stored, left: Code, right: Code) -> Explained:
    """Return the comparison of two codes that ``to_stored`` was given."""
    items = _by_owner(left), _by_owner(right)
    nothing: tuple[Instruction, ...] = ()

    def part(row: StoredPart) -> Part:
        first = items[0].get(stored.left_names.get(row.function, row.function), nothing)
        second = items[1].get(row.function, nothing)
        pairs = tuple(_pair(pair, first, second) for pair in row.pairs)
        return Part(row.function, row.title, pairs, row.left_count, row.right_count, row.state)

    rows = tuple(
        Row(row.left, row.right, row.state, tuple(map(part, row.parts)), row.place, row.reasons)
        for row in stored.rows
    )
    diff = Diff(rows, stored.functions, stored.states, stored.left_names)
    return Explained(diff, stored.reasons, stored.unexplained, stored.wanting)


def _pair(row: Places, left: Sequence[Instruction], right: Sequence[Instruction]) -> Pair:
    i, j, state, *other = row
    first, second = left[i] if i >= 0 else None, right[j] if j >= 0 else None
    return Pair(first, second, STATES[state], (i, j), (other[0], other[1]))


def _by_owner(code: Code) -> dict[str, tuple[Instruction, ...]]:
    return {owner: join_parts(parts) for owner, parts in parts_by_owner(code.functions).items()}
