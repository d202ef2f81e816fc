"""What linked images of an instruction set are: how they are known, filled in, and emulated."""

from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple

from hot_anvil.core.arch.boards import Boards

_PLAIN = (0, 4)


class ImageKind(NamedTuple):
    """One kind of ELF file."""

    machine: int  # e_machine
    bits: int  # 32 or 64
    emulator: tuple[str, ...]  # the command that runs a program for Linux, with its options
    # Kind of relocation -> (bytes before its place, bytes from it) that the linker may write;
    # others: four from it.
    filled: Mapping[int, tuple[int, int]] = MappingProxyType({})
    link_flags: tuple[str, ...] = ()  # so that the linker changes no instruction
    low_bit_is_mode: bool = False  # the lowest bit of a function's address is none of it
    chip: bool = False  # there is no system on it: programs run in a simulator of the whole chip
    constants_in_ram: bool = False  # they are copied there before a program starts
    # Section of objects that says which processors they are for, where code for chips without a
    # system can be linked into programs for Linux once it is gone; "" where it cannot.
    claims: str = ""
    beyond: str = ""  # pattern of instructions that only such a chip itself answers
    # Pattern of functions that no compiler for such a chip brings, so that what stands in for them
    # is not what would run on it.
    stands_in: str = ""
    boards: Boards | None = None  # emulated, for such code

    def reach(self, kind: int) -> tuple[int, int]:
        """Return what a relocation of a kind covers: bytes before its place, bytes from it."""
        return self.filled.get(kind, _PLAIN)
