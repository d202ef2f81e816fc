"""What runs code for other machines here: emulators of processors, of boards, and of chips.

An emulator of a processor runs a program's own instructions and hands its system calls to this
system, so that a worker behaves as it would there. One of a board has no system: a worker of its
own talks through the emulator. Their clocks say nothing of the machines they stand for.
"""

import os
from collections.abc import Sequence
from functools import cache
from pathlib import Path
from shutil import which
from typing import NamedTuple

from hot_anvil.core.arch import image_kind, image_kind_of, image_kinds
from hot_anvil.core.arch.images import ImageKind
from hot_anvil.core.binary.elf import machine_of
from hot_anvil.core.toolchain.records import Toolchain, without_system
from hot_anvil.system.build.board_linking import board_linker
from hot_anvil.system.build.chips import kit_of
from hot_anvil.system.store.artefact import Artefact

PATIENCE = 10  # times as long as here that code may take


class Emulation(NamedTuple):
    """How builds of a toolchain run here though this is another machine, or why they do not."""

    host: Toolchain | None  # what compiles the worker for it, or links for the chip
    why: str = ""
    chip: bool = False  # it is a chip without a system, and all of it is simulated
    board: Toolchain | None = None  # what links for an emulated board, where there is one

    @property
    def possible(self) -> bool:
        """Tell whether there is any way."""
        return bool(self.host or self.board)


def emulation_of(chain: Toolchain, toolchains: Sequence[Toolchain]) -> Emulation:
    """Return how a toolchain's builds can be run under an emulator."""
    if chain.can["run"]:
        return Emulation(None, "it runs on this machine itself")
    kind = image_kind_of(chain.target)
    if kind and kind.chip:
        linker = kit_of(chain.isa).linker(chain, toolchains)
        if isinstance(linker, str):
            return Emulation(None, linker, True)
        return Emulation(linker, "", True)
    if not kind or (without_system(chain.target) and not kind.claims):
        return Emulation(None, f"code for {chain.target} does not run on this machine")
    board = board_linker(chain, toolchains)
    program = _as_program(chain, kind, toolchains)
    return program if isinstance(board, str) else program._replace(board=board)


def _as_program(chain: Toolchain, kind: ImageKind, toolchains: Sequence[Toolchain]) -> Emulation:
    """Return how builds run as programs for Linux on their processor."""
    emulator = kind.emulator[0]
    if not which(emulator):
        return Emulation(
            None, f"code for {chain.target} needs {emulator} to run here (apt install qemu-user)"
        )
    for host in toolchains:
        if "c" not in host.drivers or host.family != "gcc" or without_system(host.target):
            continue
        same = without_system(chain.target) or _same_abi(host.target, chain.target)
        if image_kind_of(host.target) == kind and same:
            return Emulation(host)
    target = "Linux on that processor" if without_system(chain.target) else "that target"
    return Emulation(
        None, f"code for {chain.target} needs a gcc for {target}, with its C library, to run here"
    )


def _same_abi(one: str, other: str) -> bool:
    """Tell whether code of two targets of one instruction set can be linked together."""
    return one.rpartition("-")[2] == other.rpartition("-")[2]


def emulator_name(path: str) -> str:
    """Return what runs a program here, "" for this machine itself or no program."""
    kind = _kind(path) if path else None
    if kind and kind.chip:
        return kind.emulator[0]
    if kind and board_for(path):
        return _board(path)[-1]
    under = emulator_for(path) if path else ()
    return under[0].rpartition("/")[2] if under else ""


def runs_on_chip(emulator: str) -> bool:
    """Tell whether what ran a program is a simulator of a whole chip."""
    return any(kind.chip and kind.emulator[0] == emulator for _, kind in image_kinds())


def _kind(path: str) -> ImageKind | None:
    with Path(path).open("rb") as file:
        return image_kind(*machine_of(file.read(20)))


@cache
def _board(path: str) -> tuple[str, ...]:
    said = Artefact(Path(path).parent).board
    return tuple(said.read_text().split("\n")) if said.is_file() else ()


def board_for(path: str) -> tuple[str, ...]:
    """Return the command that emulates the board a program is for, () where it is for none."""
    return _board(path)[:-1]


def starting(under: Sequence[str], path: str, arguments: Sequence[str], folder: str) -> list[str]:
    """Return the command that starts a worker: ``under`` is what runs it, () for nothing.

    An emulator of a board gives a program no arguments, and has its own folder to be set.
    """
    if not under or not board_for(path):
        return [*under, path, *arguments]
    emulator = which(under[0]) or under[0]
    return ["/bin/sh", "-c", 'cd "$0" && exec "$@"', folder, emulator, *under[1:], path]


@cache
def emulator_for(path: str) -> tuple[str, ...]:
    """Return the command that runs a program here, () where it runs by itself."""
    kind = _kind(path)
    if kind and kind.chip:
        made = Artefact(Path(path).parent)
        return str(made.simulator), str(made.chip)
    if not kind or kind.emulator[0] == f"qemu-{os.uname().machine}":
        return ()
    if board := board_for(path):
        return board
    found = which(kind.emulator[0])
    return (found, *kind.emulator[1:]) if found else ()
