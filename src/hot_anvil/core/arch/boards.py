"""Emulated boards: what code for chips runs on where a program for Linux cannot stand in."""

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

_START = "QEMU board "  # of the names of boards
Attributes = Mapping[str, object]  # of an object: what it says of the processor it is for


class Board(NamedTuple):
    """One emulated board, and how what calls the code on it is compiled."""

    emulator: str  # the command
    machine: str  # the emulator's name of the board
    processor: str
    values_at: int  # the address of 16 MiB for values
    flags: tuple[str, ...]  # for a gcc
    worker_flags: tuple[str, ...] = ()  # more of them, but for what calls entries

    @property
    def command(self) -> tuple[str, ...]:
        """What runs a program that follows it: no devices but memory, the processor, the talk."""
        return (
            self.emulator, "-M", self.machine, "-display", "none", "-monitor", "none",
            "-serial", "none", "-accel", "tcg,tb-size=32",
            "-semihosting-config", "enable=on,target=native", "-kernel",
        )  # fmt: skip

    @property
    def name(self) -> str:
        """As the output shows it."""
        return f"{_START}{self.machine} ({self.processor})"


def names_board(emulator: str) -> bool:
    """Tell whether what ran a program, by its name, is an emulated board."""
    return emulator.startswith(_START)


class Boards(NamedTuple):
    """What an instruction set has for boards."""

    emulator: str  # the command
    package: str  # of Debian, that has it
    # Attributes of the objects of a build -> the board that takes all of them, or why none does.
    choose: Callable[[Sequence[Attributes]], Board | str]
