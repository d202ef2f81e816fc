"""Instructions of a call counted one by one on this processor: for what no emulator knows.

It costs tens of microseconds an instruction, and holds for this processor: a library may choose
other code on another.
"""

import platform
import time
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.binary.elf import place_of_symbol
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.measure.measurements import Count
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.native_tools import native_tool
from hot_anvil.system.execute.workers import Worker, WorkerEnded
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.store import Store

_MACHINES = ("x86_64",)  # that step.c knows
MOST_STEPS = 2_000_000
_SECONDS = 120.0  # for that many
_COUNTS = "steps"  # file in the worker's own folder


class Stepper(NamedTuple):
    """What steps, or why nothing does."""

    path: str
    why: str


def find_stepper(host: Toolchain, store: Store) -> Stepper:
    """Return the program that steps, compiled by ``host`` on first use."""
    if platform.machine() not in _MACHINES:
        return Stepper("", f"nothing steps on {platform.machine()}")
    made = Artefact(store.folder).stepper.name
    tool, why = native_tool(host, store, ("step.c",), made)
    return Stepper("", why) if why else Stepper(str(tool.stepper), "")


def step_calls(
    stepper: Stepper, path: str, symbol: str, entry: int, sets: Sequence[InputSet]
) -> list[Count]:
    """Return the instructions of one warm call on each input set, and how long it took."""
    if stepper.why:
        return [Count(None, stepper.why) for _ in sets]
    address, anywhere = place_of_symbol(Path(path).read_bytes(), symbol)
    under = [stepper.path, f"{address:x}", str(int(anywhere)), str(MOST_STEPS), _COUNTS]
    return [_count(under, path, entry, inputs) for inputs in sets]


def _count(under: Sequence[str], path: str, entry: int, inputs: InputSet) -> Count:
    began = time.perf_counter()
    try:
        with Worker(path, memory=0, under=under) as worker:
            worker.prepare(0, 0, entry, inputs)
            worker.first(0, _SECONDS)  # links what it calls
            worker.first(0, _SECONDS)
            counted = int(Path(worker.folder, _COUNTS).read_text().split()[1])
    except WorkerEnded as ended:
        return Count(None, f"{ended.why} while it was stepped through")
    except (OSError, IndexError, ValueError):
        return Count(None, "stepping through it counted nothing")
    if not counted:
        return Count(None, f"more than {MOST_STEPS:,} instructions, the most that are stepped")
    took = time.perf_counter() - began
    return Count(counted, "", f"stepped through on this processor, {took:.1f} s")
