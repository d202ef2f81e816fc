"""What is timed, and where: candidates, their processes, libraries and slots."""

from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType
from typing import NamedTuple

from hot_anvil.core.calling.timing import Asked
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.measure.measurements import LONG_CALL, Pace, samples_for
from hot_anvil.system.build.linking import TWIN

PROBE_SECONDS = 0.00003  # and what else a visit costs beside its samples
START_SECONDS = 0.004  # to start a process


NO_PACES: Mapping[tuple[int, int], Pace] = MappingProxyType({})


class Lane(NamedTuple):
    """One timed candidate: an entry of a build."""

    candidate: str
    build: str
    entry: int


class Process(NamedTuple):
    """One process to run: a build's program, a second copy of it, or the shared one."""

    build: str  # "" for the process that all builds share that can
    twin: bool


SHARED = Process("", False)


class Seat(NamedTuple):
    """Where a column runs."""

    process: Process
    library: int  # in that process; 0 for the program itself
    lane: int


class Plan(NamedTuple):
    """What every generation repeats."""

    lanes: tuple[Lane, ...]
    programs: Mapping[str, Mapping[int, str]]  # build -> placement -> path
    libraries: Mapping[str, Mapping[int, str]]  # the same of builds that share a process
    loader: str  # path of the worker that loads libraries
    sets: Mapping[tuple[int, int], InputSet]  # (entry, point) -> values
    points: int
    cpu: int
    active: frozenset[int]  # lanes still measured
    twins: tuple[int, ...] = ()  # per point: the lane that the twin copies
    paces: Mapping[tuple[int, int], Pace] = NO_PACES  # (lane, point)
    alone: tuple[bool, ...] = ()  # per point: each call from its first values
    clocks: tuple[str, ...] = ()  # per point
    drivers: bool = False  # entries take objects that a driver makes
    threads: int = 0  # that call at once, 0 for one

    @property
    def twin(self) -> int:
        """The column of the twin."""
        return len(self.lanes)

    @property
    def columns(self) -> list[int]:
        """The columns of a round that run: active lanes, then the twin."""
        return [*sorted(self.active), self.twin]

    @property
    def deck(self) -> list[int]:
        """The placements to go through; where the linker puts code by itself comes twice."""
        placements = list(next(iter((self.libraries or self.programs).values())))
        return [placements[0], *placements]

    def seat(self, column: int, point: int) -> Seat:
        """Return where a column runs; a twin of another lane at each point may run elsewhere."""
        twin = column == self.twin
        lane = self.twins[point] if twin else column
        build = self.lanes[lane].build
        if build not in self.libraries:
            return Seat(Process(build, twin), 0, lane)
        return Seat(SHARED, 1 + 2 * list(self.libraries).index(build) + twin, lane)

    def slot(self, column: int, point: int) -> int:
        """Return the worker's slot for a column at a sweep point."""
        return column * self.points + point

    def path(self, process: Process, placement: int) -> str:
        """Return the program of a process."""
        return self.programs[process.build][placement] if process.build else self.loader

    def library(self, number: int, placement: int) -> str:
        """Return the file of a library of the shared process."""
        path = Path(self.libraries[list(self.libraries)[(number - 1) // 2]][placement])
        return str(path if number % 2 else path.parent / TWIN)

    def pace(self, column: int, point: int) -> Pace:
        """Return how a column is called."""
        return self.paces[self.seat(column, point).lane, point]

    def asked(self, column: int, point: int) -> Asked:
        """Return the visit that a column gets in a round."""
        pace = self.pace(column, point)
        samples, _ = samples_for(pace.counts_as)
        return Asked(self.slot(column, point), samples, self.alone[point], pace.calls)

    def visit_seconds(self, column: int, point: int) -> float:
        """Return about how long a visit takes."""
        pace = self.pace(column, point)
        sample = pace.calls * (pace.seconds + pace.between)
        return sample * samples_for(pace.counts_as)[0] + PROBE_SECONDS

    def warms_up(self, column: int, point: int) -> bool:
        """Tell whether a column needs an untimed visit: a long call's first one is enough."""
        return self.pace(column, point).counts_as <= LONG_CALL

    @property
    def cells(self) -> list[tuple[int, int]]:
        """Every (column, point) of a round."""
        return [(column, point) for point in range(self.points) for column in self.columns]

    def round_seconds(self) -> float:
        """Return about how long one round over all points takes."""
        return sum(self.visit_seconds(*cell) for cell in self.cells)

    def fixed_seconds(self) -> float:
        """Return about how long a generation takes before its first round."""
        processes = {self.seat(*cell).process for cell in self.cells}
        first = sum(self.pace(*cell).seconds for cell in self.cells)
        warming = sum(self.visit_seconds(*cell) for cell in self.cells if self.warms_up(*cell))
        return START_SECONDS * len(processes) + first + warming
