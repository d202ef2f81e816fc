"""Exact counts of executed instructions, from running candidates under an emulator.

The emulator runs this machine's own instruction set on a CPU model that never
changes, so a count is the same wherever it is taken. It says nothing of time.
"""

import re
import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.arch import architecture, image_kind_of, isa_name
from hot_anvil.core.binary.elf import code_ranges, first_code
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.measure.measurements import Count
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.native_tools import native_tool
from hot_anvil.system.build.worker_objects import first_complaint
from hot_anvil.system.execute.emulation import board_for
from hot_anvil.system.execute.workers import Worker, WorkerEnded
from hot_anvil.system.process.running import run
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.store import Store
from hot_anvil.system.toolchain.binutils import emulator_command

CALLING, CALLER = "hot_anvil_calls", "hot_anvil_caller"  # code sections, see core/shim.py
PATIENCE = 120.0  # seconds for one call under emulation
_PLUGIN_APIS = (1, 2, 3, 4)
_COUNTS, _PLACES = "counts", "places"  # files in the worker's own folder


class Emulator(NamedTuple):
    """What counts, or why nothing does."""

    command: tuple[str, ...]  # its path and options
    plugin: str
    name: str  # with its CPU model, as the output shows it
    why: str


class Plugin(NamedTuple):
    """A plugin of ours for emulators."""

    source: str  # in native/
    made: str  # its file
    tried_with: str  # arguments for a first try


def _plugins() -> tuple[Plugin, Plugin]:
    made = Artefact(Path())
    counter = Plugin("count.c", made.counter.name, "out=/dev/null")
    return counter, Plugin("accesses.c", made.accesses.name, "off=0-0")


COUNTER, ACCESSES = _plugins()


def find_emulator(
    host: Toolchain, target: str, store: Store, board: bool = False, plugin: Plugin = COUNTER
) -> Emulator:
    """Return the emulator for programs of a target, its plugin compiled by ``host``.

    It has the model of a processor with all that it knows, whatever this machine has; for programs
    of a board, the command that emulates it is beside them.
    """
    kind = image_kind_of(target)
    own = shutil.which(emulator_command())
    runs = kind.emulator[0] if kind else emulator_command()
    runs = kind.boards.emulator if kind and kind.boards and board else runs
    path = shutil.which(runs)
    if not kind or not path or not own:
        missing = emulator_command() if path else runs
        return Emulator((), "", "", f"{missing} is not here (on Debian: apt install qemu-user)")
    said = run([path, "--version"], "/")
    version = re.search(r"version (\d+\.\d+)", said.stdout)
    model = kind.emulator[2] if len(kind.emulator) > 2 else "of its own"
    name = f"QEMU {version[1] if version else '?'}, CPU model {model}"
    for api in _PLUGIN_APIS:  # newer emulators ask for newer numbers
        made = _compiled(host, store, api, isa_name(target), plugin)
        if isinstance(made, Path):
            tried = run([own, "-plugin", f"{made},{plugin.tried_with}", "/bin/true"], "/")
            if not tried.failed:
                return Emulator((path, *kind.emulator[1:]), str(made), name, "")
            why = first_complaint(tried.stderr)
        else:
            why = made
    return Emulator((), "", name, f"{path} takes no plugin of ours: {why}")


def _compiled(host: Toolchain, store: Store, api: int, isa: str, plugin: Plugin) -> Path | str:
    """Return the plugin for code of an instruction set, or why it does not compile."""
    known = architecture(isa).tooling.counter_flags
    flags = ("-fPIC", "-shared", "-fvisibility=hidden", f"-DAPI={api}", *known)
    tool, why = native_tool(host, store, (plugin.source,), plugin.made, flags)
    return why or tool.folder / plugin.made


def count_calls(emulator: Emulator, path: str, entry: int, sets: Sequence[InputSet]) -> list[Count]:
    """Return the instructions of one warm call on each input set."""
    if emulator.why:
        return [Count(None, emulator.why) for _ in sets]
    ranges = code_ranges(Path(path).read_bytes(), (CALLING, CALLER))
    return [_count(emulator, path, entry, inputs, ranges) for inputs in sets]


def count_places(emulator: Emulator, path: str, entry: int, inputs: InputSet) -> dict[int, int]:
    """Return how often a warm call executed the instruction at each address of a program.

    Raises WorkerEnded for a call that does not come back.
    """
    data = Path(path).read_bytes()
    under = _under(emulator, path, code_ranges(data, (CALLING, CALLER)), f",where={_PLACES}")
    with Worker(path, memory=0, under=under) as worker:
        worker.prepare(0, 0, entry, inputs)
        worker.first(0, PATIENCE)
        worker.first(0, PATIENCE)
        rows = [line.split() for line in Path(worker.folder, _PLACES).read_text().splitlines()]
    start = first_code(data)
    return {start + int(offset, 16): int(times) for offset, times in rows}


def _under(
    emulator: Emulator, path: str, ranges: Mapping[str, tuple[int, int]], more: str = ""
) -> list[str]:
    on, off = (f"{low:x}-{high:x}" for low, high in (ranges[CALLING], ranges[CALLER]))
    plugin = f"{emulator.plugin},on={on},off={off},out={_COUNTS}{more}"
    name, *options = board_for(path) or emulator.command
    return [name, "-plugin", plugin, *options]


def _count(
    emulator: Emulator,
    path: str,
    entry: int,
    inputs: InputSet,
    ranges: Mapping[str, tuple[int, int]],
) -> Count:
    try:
        with Worker(path, memory=0, under=_under(emulator, path, ranges)) as worker:
            worker.prepare(0, 0, entry, inputs)
            worker.first(0, PATIENCE)  # links what it calls
            worker.first(0, PATIENCE)
            counts = Path(worker.folder, _COUNTS).read_text().split()
        return Count(int(counts[1]), "")
    except WorkerEnded as ended:
        return Count(None, f"{ended.why} under {emulator.name}, which may lack instructions of it")
    except (OSError, IndexError, ValueError):
        return Count(None, f"{emulator.name} counted nothing")
