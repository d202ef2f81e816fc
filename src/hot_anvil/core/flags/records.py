"""Differences between the flags of two builds, one by one."""

from collections.abc import Collection, Sequence
from typing import Literal, NamedTuple

from hot_anvil.core.measure.summary import Result

Kind = Literal["optimiser", "parameter", "target", "tuning", "given", "level"]
OPTIMISER: Kind = "optimiser"  # a switch that a level stands for
PARAMETER: Kind = "parameter"  # a number that a level stands for
TARGET: Kind = "target"  # instructions that the processor must have
TUNING: Kind = "tuning"  # what code is cut to fit, which any processor runs
GIVEN: Kind = "given"  # a flag of the build, as it was given
LEVEL: Kind = "level"  # the optimisation level itself


class Change(NamedTuple):
    """One step from the left build's flags towards the right build's."""

    kind: Kind
    add: tuple[str, ...]  # flags behind the left build's, () for one that only takes away
    undo: tuple[str, ...] = ()  # flags that take it back behind the right build's
    drop: tuple[str, ...] = ()  # flags of the left build that it takes away
    cut: tuple[str, ...] = ()  # flags of the right build that taking it back takes away

    @property
    def name(self) -> str:
        """How it is called: the flags that it adds, or "without" those it takes away."""
        return " ".join(self.add) or f"without {' '.join(self.drop)}"


def with_changes(flags: Sequence[str], changes: Collection[Change]) -> tuple[str, ...]:
    """Return a build's flags with some changes made."""
    dropped = [flag for change in changes for flag in change.drop]
    kept = _without(flags, dropped)
    return (*kept, *dict.fromkeys(" ".join(change.add) for change in changes if change.add))


def without_change(flags: Sequence[str], change: Change) -> tuple[str, ...]:
    """Return the right build's flags with one change taken back."""
    return (*_without(flags, change.cut), *change.undo)


def _without(flags: Sequence[str], dropped: Sequence[str]) -> list[str]:
    kept, left = [], list(dropped)
    for flag in flags:
        if flag in left:
            left.remove(flag)
        else:
            kept.append(flag)
    return kept


class Effect(NamedTuple):
    """What one change does to the code of an entry."""

    same: bool | None  # whether the code is the same, None where it was refused
    why: str  # why it was refused, "" where it was not
    reasons: tuple[str, ...]  # of the difference, the weightiest first; () where none is known
    left: int | None  # instructions before
    right: int | None  # and after


class Needed(NamedTuple):
    """One change of the set found."""

    change: Change
    alone: Effect  # made to the left build
    taken: Effect  # taken back from the right build


class Timed(NamedTuple):
    """A build on the way from the left to the right one, as it was measured."""

    build: str
    what: str  # of the two builds it is: "left", "right", or one with a change made or taken back
    change: str  # the change, "" for the two builds themselves
    verdict: str  # what the check says of it
    why: str  # of a verdict that keeps it from being timed
    result: Result | None  # against the left build, None where it was not timed


class Narrowed(NamedTuple):
    """Which flags of two builds make the difference for one entry."""

    snippet: str
    entry: str  # as the source writes it
    symbol: str
    left: str  # names of the builds
    right: str
    same: bool  # they make the same code
    pool: int  # differences that were tried
    needed: tuple[Needed, ...]
    flags: tuple[str, ...]  # the left build's with the set
    command: str  # to make that code
    instead: str  # the command that it stands in for
    unexplained: str  # what no flag told of accounts for, "" for nothing
    fault: str  # why no set is known, "" where one is
    level: str  # oldest standard level whose processors run it, "" for none or any
    beyond: tuple[str, ...]  # flags that no standard level has
    made_for: tuple[str, ...]  # flags of the set that name a processor
    saves: bool  # the set is less than the right build's flags
    adds_instructions: bool  # it asks for instructions that the left build does not
    compiles: int  # flag sets that were compiled to find the set
    refused: tuple[str, ...] = ()  # flags told that the compiler does not take
    checked: int = 0  # single removals of the set that were tried, each makes other code
    timed: tuple[Timed, ...] = ()  # where that was asked for
