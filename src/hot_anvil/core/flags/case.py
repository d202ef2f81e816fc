"""Two builds' flags, and whom to ask about them."""

import re
from collections.abc import Sequence
from typing import NamedTuple, Protocol

from hot_anvil.core.arch import standard_levels
from hot_anvil.core.flags.records import LEVEL, TARGET, Change, with_changes
from hot_anvil.core.flags.told import Told, changes
from hot_anvil.core.toolchain.records import Family

Flags = tuple[str, ...]
_CPU = re.compile(r"-m(?:arch|cpu|mcu)=|-Ctarget-cpu=")


class Level(NamedTuple):
    """A standard level of processors."""

    name: str
    flag: str  # that asks for it


def levels_of(family: Family, isa: str) -> tuple[Level, ...]:
    """Return the standard levels that a family's compilers can be asked for, the oldest first."""
    named = ((name, family.level_flag(isa, name)) for name in standard_levels(isa))
    return tuple(Level(name, flag) for name, flag in named if flag)


class Question(Protocol):
    """What is asked about flags: of the compiler, and of the code that it makes."""

    def told(self, flags: Flags) -> Told:
        """Return option -> state under some flags, nothing where the compiler does not tell."""

    def macros(self, flags: Flags) -> frozenset[str]:
        """Return names for what the processor has under some flags."""

    def same(self, flags: Flags) -> bool | None:
        """Tell whether flags make the right build's code, None where they are refused."""

    def complaint(self, flags: Flags) -> str:
        """Return what the compiler says where it refuses flags."""


class Case(NamedTuple):
    """Two builds' flags, and whom to ask about them."""

    question: Question
    style: str
    left: Flags
    right: Flags
    levels: tuple[Level, ...]  # the oldest first

    def same(self, chosen: Sequence[Change]) -> bool:
        """Tell whether the left build with some changes makes the right build's code."""
        return self.question.same(with_changes(self.left, chosen)) is True

    @property
    def tells(self) -> bool:
        """Whether the compiler says what flags stand for."""
        return bool(self.question.told(()))


def is_cpu(change: Change) -> bool:
    """Tell whether a change is of a flag that names a processor."""
    return any(_CPU.match(flag) for flag in (*change.add, *change.drop))


def is_untold(case: Case, change: Change) -> bool:
    """Tell whether what a flag does is not among what the compiler tells of flags."""
    if change.kind == LEVEL:
        return False
    if not case.tells:
        return True
    told = case.question.told
    found = list(changes(told(case.left), told(with_changes(case.left, [change]))))
    return not (any(c.kind == TARGET for c in found) if is_cpu(change) else found)
