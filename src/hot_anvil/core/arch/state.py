"""The state of a processor while it is stepped through: registers, flags, how emulators log them.

``core/arch/NAME/state.py`` holds it as ``STATE``; an instruction set that nothing runs has none.
"""

import re
from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from hot_anvil.core.code.records import Instruction


class Register(NamedTuple):
    """One register that is recorded."""

    name: str  # as code writes it
    bits: int


class Touch(NamedTuple):
    """One access to memory, as native/trace.c works it out from the registers."""

    stores: bool
    size: int  # bytes
    base: int  # number of a register, NONE, or FROM_CODE where ``away`` is an address in the file
    index_register: int = 0xFF
    scale: int = 1
    segment: int = 0  # 1 and 2 for those that have a base of their own
    away: int = 0


NONE, FROM_CODE = 0xFF, 0xFE
MOST_TOUCHES = 3  # of an instruction


class MachineState(NamedTuple):
    """What is recorded of a processor."""

    plain: Callable[[int], tuple[Register, ...]]  # (bits of an address) -> all but the wide ones
    wide: tuple[Register, ...]  # of vectors and floats, recorded where code names them
    names_wide: re.Pattern[str]  # in an instruction: that it touches them
    stack: Callable[[int], str]  # (bits of an address) -> the stack pointer's name
    flags: str  # name of the register of flags, "" where there is none
    flag_text: Callable[[int], str]  # its value -> the flags that are set
    # A line of an emulator's log -> registers and values in it.
    logged: Callable[[str], Iterable[tuple[str, int]]]
    called: Callable[[str, int], str]  # (wide register, value) -> the name that fits what it holds
    debug_name: Callable[[str], str]  # a register as debug info names it -> as it is recorded
    # What an emulator's processor does without, so that its log holds the registers that code uses
    # which does not match the pattern: option, and pattern of code that needs it.
    spared: tuple[str, re.Pattern[str]] | None = None
    # What an instruction touches, given what finds a symbol's address; None where no processor of
    # the kind is stepped through itself.
    touches: "Callable[[Instruction, Callable[[str], int | None]], list[Touch]] | None" = None


def flag_letters(letters: Sequence[tuple[int, str]]) -> Callable[[int], str]:
    """Return what writes the flags that are set; ``letters`` are (bit, name), the highest first."""

    def text(value: int) -> str:
        return " ".join(name for bit, name in letters if value >> bit & 1) or "none"

    return text


def no_flags(value: int) -> str:
    """Say that there are no flags."""
    return ""


def plain_name(name: str, value: int = 0) -> str:
    """Return a name as it is."""
    return name


def not_logged(line: str) -> Iterable[tuple[str, int]]:
    """Read nothing: nothing logs it."""
    return ()
