"""One kernel of one build as it was launched on the simulated device."""

from collections.abc import Sequence
from typing import NamedTuple

from hot_anvil.core.arch.ptx.device.device import Counts, Shape
from hot_anvil.core.arch.ptx.device.schedule import Placement
from hot_anvil.core.arch.ptx.device.watching import Moment
from hot_anvil.core.code.records import Instruction
from hot_anvil.core.kernels.assembler import Resources
from hot_anvil.core.kernels.machine_code import MachineInstruction
from hot_anvil.core.kernels.occupancy import Occupancy
from hot_anvil.core.verify.crash_report import Place


class LineCounts(NamedTuple):
    """What a source line did in a launch."""

    file: str  # "" where the line is not known
    line: int
    threads: int  # instructions of threads
    warps: int  # instructions of warps
    diverged: int  # branches of a warp whose threads went both ways
    sectors: int  # of 32 bytes of global memory that were moved
    least: int  # sectors that its bytes alone would take
    conflicts: int  # further rounds that banks of shared memory took


class Mapped(NamedTuple):
    """Which block ran where, as one scheduler has it."""

    scheduler: str
    processors: int
    placements: tuple[Placement, ...]


class KernelLaunch(NamedTuple):
    """What is told of one launch."""

    snippet: str
    candidate: str
    build: str
    label: str  # of the input set
    shape: Shape
    ending: str  # "returned", "crashed", "hung" or "not run"
    why: str
    place: Place
    races: tuple[tuple[str, Place], ...]
    lines: tuple[LineCounts, ...]
    barriers: int  # that blocks came to
    maps: tuple[Mapped, ...]
    shared: int  # bytes of a block
    target: str
    resources: Resources | None
    no_resources: str  # why they are not known
    occupancy: Occupancy | None
    machine: tuple[MachineInstruction, ...] = ()  # where it was asked for
    no_machine: str = ""  # why it was, and is not known

    def total(self, name: str) -> int:
        """Return the sum of a count over all lines."""
        return sum(int(getattr(one, name)) for one in self.lines)


class ThreadSteps(NamedTuple):
    """What one thread or one warp of a launch did, instruction by instruction."""

    launch: KernelLaunch
    block: int
    threads: tuple[int, ...]
    instructions: tuple[Instruction, ...]  # of the kernel
    moments: tuple[Moment, ...]
    full: bool  # it goes on, and what comes is not recorded
    buffers: tuple[tuple[str, int, int, int], ...]  # name, address, bytes, bytes of an element
    unsigned: frozenset[str]  # buffers whose elements have no sign


def line_counts(counts: Counts, instructions: Sequence[Instruction]) -> tuple[LineCounts, ...]:
    """Return the counts of instructions by their source lines, in the order of the lines."""
    tables = (counts.threads, counts.warps, counts.diverged, counts.sectors, counts.least,
              counts.conflicts)  # fmt: skip
    sums: dict[tuple[str, int], list[int]] = {}
    for number, item in enumerate(instructions):
        row = sums.setdefault((item.file, item.line), [0] * len(tables))
        for column, table in enumerate(tables):
            row[column] += table[number]
    return tuple(LineCounts(*place, *row) for place, row in sorted(sums.items()) if any(row))
