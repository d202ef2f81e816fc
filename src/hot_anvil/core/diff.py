"""Two builds by source line: what is the same, what differs, what came and went."""

from collections import Counter
from collections.abc import Collection, Mapping
from typing import NamedTuple

from hot_anvil.core.align import CHANGED, GONE, NEW, RENAMED, REORDERED, SAME, Pair, align, state_of
from hot_anvil.core.code import Code, Instruction
from hot_anvil.core.listing import Sources, source_text

STATES = (SAME, RENAMED, REORDERED, CHANGED, GONE, NEW)


class Part(NamedTuple):
    """A source line's instructions inside one function."""

    function: str  # symbol
    title: str  # as the source writes it
    pairs: tuple[Pair, ...]
    left_count: int
    right_count: int


class Row(NamedTuple):
    """One source line on both sides."""

    file: str
    line: int
    text: str
    state: str
    parts: tuple[Part, ...]

    @property
    def left_count(self) -> int:
        """Instructions of the line on the left."""
        return sum(part.left_count for part in self.parts)

    @property
    def right_count(self) -> int:
        """Instructions of the line on the right."""
        return sum(part.right_count for part in self.parts)


class FunctionTotal(NamedTuple):
    """Instruction counts of one function on both sides, None where it does not exist."""

    name: str  # symbol
    title: str  # as the source writes it
    left: int | None
    right: int | None


class Diff(NamedTuple):
    """Two codes compared."""

    rows: tuple[Row, ...]
    functions: tuple[FunctionTotal, ...]
    states: dict[str, int]  # line state -> number of lines

    @property
    def left_count(self) -> int:
        """Instructions on the left."""
        return sum(total.left or 0 for total in self.functions)

    @property
    def right_count(self) -> int:
        """Instructions on the right."""
        return sum(total.right or 0 for total in self.functions)


_Places = dict[tuple[str, int], dict[str, list[Instruction]]]


def diff_codes(left: Code, right: Code, sources: Sources, entries: Collection[str] = ()) -> Diff:
    """Compare two codes of the same sources line by line.

    ``entries`` (symbols) limits the comparison to these functions; empty means all.
    """
    left_places, left_totals = _by_line(left, entries)
    right_places, right_totals = _by_line(right, entries)
    files = list(dict.fromkeys(file for file, _ in (*left_places, *right_places)))
    places = sorted(
        dict.fromkeys((*left_places, *right_places)),
        key=lambda place: (files.index(place[0]), place[1]),
    )
    titles = {**left.titles, **right.titles}
    isa = left.isa if left.total else right.isa
    rows = tuple(
        _row(place, left_places.get(place, {}), right_places.get(place, {}), sources, titles, isa)
        for place in places
    )
    names = dict.fromkeys((*left_totals, *right_totals))
    totals = tuple(
        FunctionTotal(n, titles.get(n, n), left_totals.get(n), right_totals.get(n)) for n in names
    )
    counted = Counter(row.state for row in rows)
    return Diff(rows, totals, {state: counted.get(state, 0) for state in STATES})


def _by_line(code: Code, entries: Collection[str]) -> tuple[_Places, dict[str, int]]:
    places: _Places = {}
    totals: dict[str, int] = {}
    for function in code.functions:
        owner = function.owner
        if entries and owner not in entries:
            continue
        totals[owner] = totals.get(owner, 0) + len(function.instructions)
        for item in function.instructions:
            places.setdefault((item.file, item.line), {}).setdefault(owner, []).append(item)
    return places, totals


def _row(
    place: tuple[str, int],
    left: dict[str, list[Instruction]],
    right: dict[str, list[Instruction]],
    sources: Sources,
    titles: Mapping[str, str],
    isa: str,
) -> Row:
    parts = []
    for function in dict.fromkeys((*left, *right)):
        a, b = left.get(function, []), right.get(function, [])
        parts.append(
            Part(function, titles.get(function, function), align(a, b, isa), len(a), len(b))
        )
    state = state_of([pair for part in parts for pair in part.pairs], isa)
    if state == RENAMED:  # a renaming holds within a function, not across
        states = {state_of(part.pairs, isa) for part in parts}
        state = RENAMED if states <= {SAME, RENAMED} else CHANGED
    return Row(*place, source_text(sources, *place), state, tuple(parts))
