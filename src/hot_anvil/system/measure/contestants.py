"""What is timed, and where: candidates, their processes, libraries and slots."""

from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType
from typing import NamedTuple

from hot_anvil.core.calling.timing import Asked
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.measure.measurements import LONG_CALL, BatchSize, samples_for
from hot_anvil.system.store.artefact import Artefact

PROBE_SECONDS = 0.00003  # and what else a batch costs beside its samples
COLD_SAMPLES = 3  # of a batch: each displaces all the caches, which takes milliseconds
START_SECONDS = 0.004  # to start a process


NO_BATCH_SIZES: Mapping[tuple[int, int], BatchSize] = MappingProxyType({})


class Contestant(NamedTuple):
    """One timed candidate: an entry of a build."""

    candidate: str
    build: str
    entry: int


class Process(NamedTuple):
    """One process to run: a build's program, a second copy of it, or the shared one."""

    build: str  # "" for the process that all builds share that can
    control: bool


SHARED = Process("", False)


class ProcessSlot(NamedTuple):
    """Where a column runs."""

    process: Process
    library: int  # in that process; 0 for the program itself
    contestant: int


class Plan(NamedTuple):
    """What every generation repeats."""

    contestants: tuple[Contestant, ...]
    programs: Mapping[str, Mapping[int, str]]  # build -> placement -> path
    libraries: Mapping[str, Mapping[int, str]]  # the same of builds that share a process
    loader: str  # path of the worker that loads libraries
    sets: Mapping[tuple[int, int], InputSet]  # (entry, point) -> values
    points: int
    cpu: int
    active: frozenset[int]  # contestants still measured
    controls: tuple[int, ...] = ()  # per point: the contestant that the control copies
    batch_sizes: Mapping[tuple[int, int], BatchSize] = NO_BATCH_SIZES  # (contestant, point)
    alone: tuple[bool, ...] = ()  # per point: each call from its first values
    clocks: tuple[str, ...] = ()  # per point
    copies: tuple[int, ...] = ()  # per point: of the values, called in a row; 0 for none
    drivers: bool = False  # entries take objects that a driver makes
    threads: int = 0  # that call at once, 0 for one
    cold: bool = False  # each call finds nothing warm

    @property
    def control(self) -> int:
        """The column of the control."""
        return len(self.contestants)

    @property
    def columns(self) -> list[int]:
        """The columns of a round that run: active contestants, then the control."""
        return [*sorted(self.active), self.control]

    @property
    def schedule(self) -> list[int]:
        """The placements to go through; where the linker puts code by itself comes twice."""
        placements = list(next(iter((self.libraries or self.programs).values())))
        return [placements[0], *placements]

    def process_slot(self, column: int, point: int) -> ProcessSlot:
        """Return where a column runs; the control may run elsewhere at each point."""
        control = column == self.control
        contestant = self.controls[point] if control else column
        build = self.contestants[contestant].build
        if build not in self.libraries:
            return ProcessSlot(Process(build, control), 0, contestant)
        return ProcessSlot(SHARED, 1 + 2 * list(self.libraries).index(build) + control, contestant)

    def slot(self, column: int, point: int) -> int:
        """Return the worker's slot for a column at a sweep point."""
        return column * self.points + point

    def path(self, process: Process, placement: int) -> str:
        """Return the program of a process."""
        return self.programs[process.build][placement] if process.build else self.loader

    def library(self, number: int, placement: int) -> str:
        """Return the file of a library of the shared process."""
        path = Path(self.libraries[list(self.libraries)[(number - 1) // 2]][placement])
        return str(path if number % 2 else Artefact(path.parent).control)

    def batch_size(self, column: int, point: int) -> BatchSize:
        """Return how a column is called."""
        return self.batch_sizes[self.process_slot(column, point).contestant, point]

    def asked(self, column: int, point: int) -> Asked:
        """Return the batch that a column gets in a round."""
        calls, samples = self.batch_size(column, point).calls, self.samples(column, point)[0]
        return Asked(self.slot(column, point), samples, self.alone[point], calls, self.cold)

    def samples(self, column: int, point: int) -> tuple[int, int]:
        """Return (samples of a batch, how many of the first to drop)."""
        if self.cold:
            return COLD_SAMPLES, 0
        return samples_for(self.batch_size(column, point).counts_as)

    def batch_seconds(self, column: int, point: int) -> float:
        """Return about how long a batch takes."""
        batch_size = self.batch_size(column, point)
        sample = batch_size.calls * (batch_size.seconds + batch_size.between)
        return sample * self.samples(column, point)[0] + PROBE_SECONDS

    def warms_up(self, column: int, point: int) -> bool:
        """Tell whether a column needs an untimed batch: a long call's first one is enough."""
        return not self.cold and self.batch_size(column, point).counts_as <= LONG_CALL

    @property
    def cells(self) -> list[tuple[int, int]]:
        """Every (column, point) of a round."""
        return [(column, point) for point in range(self.points) for column in self.columns]

    def round_seconds(self) -> float:
        """Return about how long one round over all points takes."""
        return sum(self.batch_seconds(*cell) for cell in self.cells)

    def fixed_seconds(self) -> float:
        """Return about how long a generation takes before its first round."""
        processes = {self.process_slot(*cell).process for cell in self.cells}
        first = sum(self.batch_size(*cell).seconds for cell in self.cells)
        warming = sum(self.batch_seconds(*cell) for cell in self.cells if self.warms_up(*cell))
        return START_SECONDS * len(processes) + first + warming
