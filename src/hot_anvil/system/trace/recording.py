"""Calls stepped through: on this processor, under an emulator, in a chip's simulator.

Whatever runs it says on its standard error what each instruction changed, as a tape or as a log
that is made one while it comes in: of a million steps nothing is kept but the tape.
"""

import os
import platform
import struct
import threading
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import BinaryIO, NamedTuple

from hot_anvil.core.arch import state_of
from hot_anvil.core.arch.state import MachineState, Register
from hot_anvil.core.binary.elf import code_ranges, first_code, machine_of, place_of_symbol
from hot_anvil.core.calling.protocol import Layout, Request, request, try_once
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.core.trace.code_map import CodeMap
from hot_anvil.core.trace.emulator_log import LogReader
from hot_anvil.core.trace.plan import native_plan
from hot_anvil.errors import MissingError
from hot_anvil.system.build.native_tools import native_tool
from hot_anvil.system.execute.calls import MemoryLayout
from hot_anvil.system.execute.emulation import board_for, emulator_for, emulator_name, runs_on_chip
from hot_anvil.system.execute.workers import Worker, WorkerEnded
from hot_anvil.system.measure.counting import (
    ACCESSES,
    CALLER,
    CALLING,
    Emulator,
    find_emulator,
)
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.store import Store

_MACHINES = ("x86_64",)  # that trace.c knows
_SECONDS = 600.0  # for a call that is stepped through
_PIECE = 1 << 20


class Traced(NamedTuple):
    """A program and the call of it to step through."""

    path: str
    symbol: str  # of the entry
    code: CodeMap
    laid: Layout
    layout: MemoryLayout
    most: int  # steps


class Recorder(NamedTuple):
    """What steps through calls of one program."""

    name: str  # as the output shows it
    registers: tuple[Register, ...]
    record: Callable[[BinaryIO], None]  # writes the tape of the call


def recorder_of(
    call: Traced, target: str, host: Toolchain, store: Store, symbols: Callable[[str], int | None]
) -> Recorder:
    """Return what steps through a call; raises MissingError where nothing here does."""
    state = state_of(call.code.isa)
    wide = any(state.names_wide.search(p.instruction.text) for p in call.code.places.values())
    bits = 64 if machine_of(Path(call.path).read_bytes()[:20])[1] == 64 else 32
    emulator = emulator_name(call.path)
    if emulator and runs_on_chip(emulator):
        return Recorder(emulator, state.plain(bits), lambda file: _on_chip(call, file))
    if not emulator:
        return _native(call, state, bits, host, store, symbols)
    board = bool(board_for(call.path))
    found = find_emulator(host, target, store, board, ACCESSES)
    if found.why:
        raise MissingError(f"{emulator} cannot be made to say what it does: {found.why}.")
    registers = (*state.plain(bits), *(state.wide if wide else ()))
    return Recorder(
        emulator if board else found.name, registers,
        lambda file: _emulated(call, state, registers, found, wide, file),
    )  # fmt: skip


def _native(
    call: Traced,
    state: MachineState,
    bits: int,
    host: Toolchain,
    store: Store,
    symbols: Callable[[str], int | None],
) -> Recorder:
    if platform.machine() not in _MACHINES:
        raise MissingError(f"nothing steps through code on a {platform.machine()} itself here.")
    made = Artefact(store.folder).tracer.name
    tool, why = native_tool(host, store, ("trace.c",), made, headers=("tape.h",))
    if why:
        raise MissingError(f"what steps through code cannot be compiled here: {why}.")
    entry, anywhere = place_of_symbol(Path(call.path).read_bytes(), call.symbol)
    plan = native_plan(call.code, entry, symbols)

    def record(file: BinaryIO) -> None:
        with store.workplace() as work:
            told = work / "plan"
            told.write_bytes(plan)
            under = [str(tool.tracer), str(told), str(int(anywhere)), str(call.most)]
            with _Said(lambda data: data, file) as said:
                _call(call, under, said, _tried(call))

    return Recorder("this processor", (*state.plain(bits), *state.wide), record)


def _on_chip(call: Traced, file: BinaryIO) -> None:
    ranges = call.code.ranges()
    own = b"".join(struct.pack("<II", low, high) for low, high in ranges)
    head = struct.pack("<QI", call.most, len(ranges)) + own
    head += call.laid.head(call.layout.where, call.layout.pattern)
    asked = (request("N", head, call.laid.size), *call.laid.parts)
    with _Said(lambda data: data, file) as said:
        _call(call, (), said, asked)


def _emulated(
    call: Traced,
    state: MachineState,
    registers: Sequence[Register],
    emulator: Emulator,
    wide: bool,
    file: BinaryIO,
) -> None:
    data = Path(call.path).read_bytes()
    entry, _ = place_of_symbol(data, call.symbol)
    places, start = call.code.places, first_code(data)
    sections = code_ranges(data, (CALLING, CALLER))
    back, off = ((low + start, high + start) for low, high in (sections[CALLING], sections[CALLER]))
    ranges = call.code.ranges()
    entry = next(a for a, function in call.code.starts.items() if function == call.symbol)

    def inside(address: int) -> bool:
        return any(low <= address < high for low, high in ranges)

    reader = LogReader(registers, state.logged, inside, entry, call.most)
    # Where the call comes back to is logged too: it shows what the last instruction did.
    logged = ",".join(f"{low:#x}+{high - low:#x}" for low, high in (*ranges, back))
    own = ",".join(f"own={low:x}-{high:x}" for low, high in ranges)
    name, *options = board_for(call.path) or emulator_for(call.path)
    if state.spared and not any(
        state.spared[1].search(p.instruction.text) for p in places.values()
    ):
        options = _spared(options, state.spared[0])
    under = [
        name, "-singlestep", "-d", f"nochain,exec,cpu,plugin{',fpu' if wide else ''}",
        "-dfilter", logged, "-plugin", f"{emulator.plugin},{own},off={off[0]:x}-{off[1]:x}",
        *options,
    ]  # fmt: skip
    with _Said(reader.feed, file, reader.finish, lambda: reader.over) as said:
        _call(call, under, said, _tried(call))


def _spared(options: Sequence[str], without: str) -> list[str]:
    """Return an emulator's options with a processor that does without something."""
    out = list(options)
    for number, option in enumerate(out[:-1]):
        if option == "-cpu":
            out[number + 1] += without
    return out


def _tried(call: Traced) -> Request:
    return try_once(call.laid, call.layout.where, call.layout.pattern)


class _Said:
    """What a process says on its standard error, written to a file while it comes."""

    def __init__(
        self,
        change: Callable[[bytes], bytes],
        file: BinaryIO,
        finish: Callable[[], bytes] = lambda: b"",
        enough: Callable[[], bool] = lambda: False,
    ) -> None:
        self._change, self._file, self._finish, self._enough = change, file, finish, enough
        self._ours, self.theirs = os.pipe()
        self.stop: Callable[[], None] = lambda: None  # ends the process, once there is enough
        self._trouble: BaseException | None = None
        self._thread = threading.Thread(target=self._pump, daemon=True)

    def __enter__(self) -> "_Said":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        if self.theirs >= 0:
            os.close(self.theirs)
            self.theirs = -1
        self._thread.join()
        os.close(self._ours)
        if self._trouble:
            raise self._trouble

    def started(self) -> None:
        """Leave the process's end to the process."""
        os.close(self.theirs)
        self.theirs = -1

    def _pump(self) -> None:
        try:
            while data := os.read(self._ours, _PIECE):
                self._file.write(self._change(data))
                if self._enough():
                    self.stop()
            self._file.write(self._finish())
            self._file.flush()
        except BaseException as error:
            self._trouble = error
            self.stop()


def _call(call: Traced, under: Sequence[str], said: _Said, asked: Request) -> None:
    """Make the call; how it ends is known from one that was not recorded."""
    try:
        with Worker(call.path, memory=0, under=under, errors=said.theirs) as worker:
            said.started()
            said.stop = worker.stop
            list(worker.answers([asked], _SECONDS))
    except WorkerEnded:
        return
