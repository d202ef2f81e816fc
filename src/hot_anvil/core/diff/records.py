"""Comparisons as records: source lines with paired instructions, their states and reasons.

Kept apart from the comparing itself, which a warm run never needs.
"""

from collections.abc import Iterable, Mapping
from types import MappingProxyType
from typing import Literal, NamedTuple

from hot_anvil.core.code.places import Place
from hot_anvil.core.code.records import Instruction

# Line states; pairs of instructions have them too, but for REORDERED.
State = Literal["same", "renamed", "reordered", "changed", "moved", "gone", "new"]
SAME: State = "same"
RENAMED: State = "renamed"
REORDERED: State = "reordered"
CHANGED: State = "changed"
MOVED: State = "moved"
GONE: State = "gone"
NEW: State = "new"
STATES = (SAME, RENAMED, REORDERED, CHANGED, MOVED, GONE, NEW)

# How sure a reason is: the instructions say it; they make it likely; only the compiler says it.
Confidence = Literal["certain", "likely", "remark only"]
CERTAIN: Confidence = "certain"
LIKELY: Confidence = "likely"
REMARKED: Confidence = "remark only"


class Pair(NamedTuple):
    """Two instructions that correspond, or one that has no counterpart."""

    left: Instruction | None
    right: Instruction | None
    state: State
    place: tuple[int, int] = (-1, -1)  # of both in their functions, -1 where there is none
    other: tuple[str, int] = ("", 0)  # MOVED: file and line that its counterpart stands under


class Spot(NamedTuple):
    """A source line on one side."""

    file: str
    line: int
    text: str


class Part(NamedTuple):
    """A source line's instructions inside one function."""

    function: str  # symbol
    title: str  # as the source writes it
    pairs: tuple[Pair, ...]
    left_count: int
    right_count: int
    state: State


class Row(NamedTuple):
    """One source line on both sides."""

    left: Spot | None  # None where that side's source has no such line
    right: Spot | None
    state: State
    parts: tuple[Part, ...]
    place: Place
    reasons: tuple[int, ...] = ()  # of ``Diff.reasons``

    @property
    def spot(self) -> Spot:
        """The line as the right side has it, else the left."""
        spot = self.right or self.left
        assert spot is not None
        return spot

    @property
    def file(self) -> str:
        """The file of ``spot``."""
        return self.spot.file

    @property
    def line(self) -> int:
        """The line of ``spot``, 0 for code without one."""
        return self.spot.line

    @property
    def text(self) -> str:
        """The source text of ``spot``."""
        return self.spot.text

    @property
    def left_count(self) -> int:
        """Instructions of the line on the left."""
        return sum(part.left_count for part in self.parts)

    @property
    def right_count(self) -> int:
        """Instructions of the line on the right."""
        return sum(part.right_count for part in self.parts)

    @property
    def wants_reason(self) -> bool:
        """Whether its state alone does not say what happened."""
        return self.state in (CHANGED, GONE, NEW)


class Reason(NamedTuple):
    """A named explanation of a difference, with its evidence."""

    kind: str
    text: str  # one sentence, without a full stop
    confidence: Confidence
    function: str  # symbol
    left: tuple[int, ...]  # the instructions that show it, by place in the function
    right: tuple[int, ...]
    places: frozenset[Place]  # source lines that it explains
    remarks: tuple[str, ...] = ()  # what the compilers say to the same end
    against: str = ""  # what the compilers say that cannot be true together with it
    weight: int = 0  # instructions by which these lines differ
    left_text: tuple[str, ...] = ()  # the instructions of ``left``
    right_text: tuple[str, ...] = ()
    level: int = 0  # what to tell first: 0 one thing done, 1 what most lines have, 2 small change
    depth: int = 0  # loops around the innermost instruction that shows it
    results: bool = False  # whether what is computed may become another value


class FunctionTotal(NamedTuple):
    """Instruction counts of one function on both sides, None where it does not exist."""

    name: str  # symbol
    title: str  # as the source writes it
    left: int | None
    right: int | None
    identical: bool = False  # the same instructions throughout, but for the names of labels


class Diff(NamedTuple):
    """Two codes compared."""

    rows: tuple[Row, ...]
    functions: tuple[FunctionTotal, ...]
    states: dict[State, int]  # line state -> number of lines
    left_names: Mapping[str, str] = MappingProxyType({})  # function -> the left side's, if another

    @property
    def identical(self) -> list[str]:
        """The titles of the functions that are the same on both sides."""
        return [total.title for total in self.functions if total.identical]

    @property
    def left_count(self) -> int:
        """Instructions on the left."""
        return sum(total.left or 0 for total in self.functions)

    @property
    def right_count(self) -> int:
        """Instructions on the right."""
        return sum(total.right or 0 for total in self.functions)


class Explained(NamedTuple):
    """A comparison with its reasons."""

    diff: Diff
    reasons: tuple[Reason, ...]
    unexplained: int  # lines that want a reason and have none
    wanting: int  # lines that want a reason

    def of(self, row: Row) -> list[Reason]:
        """Return the reasons of a line."""
        return [self.reasons[k] for k in row.reasons]


def lines_text(places: Iterable[Place]) -> str:
    """Return "line 4" or "lines 4-6" for source lines."""
    known = sorted({place.old or place.line for place in places if place.line > 0})
    if not known:
        return "code without a line"
    return f"line {known[0]}" if len(known) == 1 else f"lines {known[0]}-{known[-1]}"
