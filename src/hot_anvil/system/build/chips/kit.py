"""What one kind of chip takes to run code for it here."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.process.running import Outcome


class ChipKit(NamedTuple):
    """Adding a kind of chip is one of these, and a simulator for ``native/chip.c``."""

    # (toolchain, all) -> the one that links, or why nothing does
    linker: Callable[[Toolchain, Sequence[Toolchain]], Toolchain | str]
    chip_of: Callable[[Sequence[str]], str]  # flags -> the chip they name, "" for none
    no_chip: str  # what to say where none is named
    simulator: tuple[str, ...]  # of native/: its sources
    simulator_flags: tuple[str, ...]
    pins: str  # of native/: what records pins of whole programs, "" where nothing does
    simulator_missing: str  # what to say where it does not compile
    compiler: Callable[[Toolchain, str], list[str]]  # (linker, chip) -> command to compile C for it
    objcopy: Callable[[Toolchain], str]  # the command that renames symbols
    # (linker, chip, objects, image, folder to work in) -> how it went
    link: Callable[[Toolchain, str, Sequence[str], Path, Path], Outcome]
    identity: Callable[[], str]  # of what else goes into a program


def last_flag(flags: Sequence[str], start: str) -> str:
    """Return what the last flag with this start says, "" where none does."""
    found = [flag for flag in flags if flag.startswith(start)]
    return found[-1].removeprefix(start) if found else ""
