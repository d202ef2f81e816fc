"""Run the processes of a measurement: start them, calibrate, and go through rounds."""

import math
import random
import statistics
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager
from typing import NamedTuple

from hot_anvil.core.inputs import InputSet
from hot_anvil.core.measure import SAMPLE_SECONDS, Generation, Turn, samples_for, shared_calls
from hot_anvil.system.trials import memory_limit
from hot_anvil.system.workers import Worker, WorkerEnded

CALIBRATIONS = 2  # the faster counts: one may have met a slow moment
VISIT_LIMIT = 60.0  # seconds


class Lane(NamedTuple):
    """One timed candidate: an entry of a build."""

    candidate: str
    build: str
    entry: int


class Process(NamedTuple):
    """One process to run: a build's program, or a second copy of it."""

    build: str
    twin: bool


class Plan(NamedTuple):
    """What every generation repeats."""

    lanes: tuple[Lane, ...]
    programs: Mapping[str, Mapping[int, str]]  # build -> placement -> path
    sets: Mapping[tuple[int, int], InputSet]  # (entry, point) -> values
    points: int
    calls: Mapping[tuple[int, int], tuple[int, float]]  # (lane, point) -> calls, seconds a call
    twins: tuple[int, ...]  # per point: the lane that the twin copies
    cpu: int
    active: frozenset[int]  # lanes still measured

    @property
    def columns(self) -> list[int]:
        """The columns of a round that run: active lanes, then the twin."""
        return [*sorted(self.active), len(self.lanes)]

    @property
    def placements(self) -> list[int]:
        """The placements that every program exists at."""
        return list(next(iter(self.programs.values())))

    @property
    def processes(self) -> list[Process]:
        """The processes of a turn: one a build, and the twins."""
        builds = [Process(self.lanes[lane].build, False) for lane in sorted(self.active)]
        twins = [Process(self.lanes[twin].build, True) for twin in self.twins]
        return list(dict.fromkeys([*builds, *twins]))

    def slot(self, lane: Lane, point: int) -> int:
        """Return the worker's slot for a lane's entry at a sweep point."""
        return lane.entry * self.points + point

    def round_seconds(self) -> float:
        """Return about how long one round over all points takes."""
        return sum(
            calls * per_call * sum(samples_for(per_call)) for calls, per_call in self.calls.values()
        )


class LaneEnded(Exception):  # noqa: N818 - an event, not an error of ours
    """A candidate that passed the check died or hung while it was timed."""

    def __init__(self, candidate: str, kind: str, why: str) -> None:
        super().__init__(why)
        self.candidate = candidate
        self.kind = kind
        self.why = f"while it was timed: {why}"


def calibrated(plan: Plan) -> Plan:
    """Find how many calls fill a sample, and which candidate looks fastest at each point."""
    fastest: dict[tuple[int, int], float] = {}
    with ExitStack() as stack:
        builds = dict.fromkeys(Process(lane.build, False) for lane in plan.lanes)
        workers = _start(plan, stack, dict.fromkeys(builds, plan.placements[0]))
        for _ in range(CALIBRATIONS):
            for point in range(plan.points):
                for number, lane in enumerate(plan.lanes):
                    worker = workers[Process(lane.build, False)]
                    slot = plan.slot(lane, point)
                    with _named(lane):
                        calls, took = worker.calibrate(slot, SAMPLE_SECONDS, VISIT_LIMIT)
                    key = number, point
                    fastest[key] = min(took / calls, fastest.get(key, math.inf))
    lanes = range(len(plan.lanes))
    calls_of = {}
    twins = []
    for point in range(plan.points):
        times = [fastest[number, point] for number in lanes]
        calls_of.update({(n, point): shared for n, shared in enumerate(shared_calls(times))})
        twins.append(times.index(min(times)))
    return plan._replace(calls=calls_of, twins=tuple(twins))


class Decks:
    """Draws placements for each process: all of them in random order, then anew."""

    def __init__(self, plan: Plan, chance: random.Random) -> None:
        self._chance = chance
        self._placements = plan.placements
        self._left: dict[Process, list[int]] = {process: [] for process in plan.processes}

    def draw(self, plan: Plan) -> dict[Process, int]:
        """Return a placement for every process of the plan."""
        for left in self._left.values():
            if not left:
                left += self._chance.sample(self._placements, len(self._placements))
        return {process: self._left[process].pop() for process in plan.processes}


def run_generation(
    plan: Plan, decks: Decks, chance: random.Random, turns: int, rounds: int
) -> tuple[list[Generation], list[float]]:
    """Run one generation; return it and the share of disturbed visits, per sweep point.

    Each of the ``turns`` starts everything anew, in random order, every
    process at a placement of its own.
    """
    made: list[list[Turn]] = [[] for _ in range(plan.points)]
    disturbed = [0] * plan.points
    for _ in range(turns):
        for point, (turn, switched) in enumerate(_turn(plan, chance, decks.draw(plan), rounds)):
            made[point].append(turn)
            disturbed[point] += switched
    visits = turns * (rounds + 1) * len(plan.columns)
    return [Generation(tuple(turn)) for turn in made], [count / visits for count in disturbed]


def _turn(
    plan: Plan, chance: random.Random, placed: Mapping[Process, int], rounds: int
) -> list[tuple[Turn, int]]:
    """Run one set of fresh processes; return each point's turn and its disturbed visits."""
    columns = len(plan.lanes) + 1
    times: list[list[tuple[float, ...]]] = [[] for _ in range(plan.points)]
    disturbed = [0] * plan.points
    started = chance.sample(list(placed), len(placed))
    with ExitStack() as stack:
        workers = _start(plan, stack, {process: placed[process] for process in started})
        for number in range(-1, rounds):  # the first round only warms up
            for point in chance.sample(range(plan.points), plan.points):
                row = [math.nan] * columns
                for column in chance.sample(plan.columns, len(plan.columns)):
                    lane, process = _column(plan, column, point)
                    seconds, switched = _visit(plan, workers[process], lane, point)
                    row[column] = seconds
                    disturbed[point] += switched
                if number >= 0:
                    times[point].append(tuple(row))
    out = []
    for point in range(plan.points):
        processes = [_column(plan, column, point)[1] for column in range(columns)]
        ran = [column in plan.columns for column in range(columns)]
        placements = tuple(placed[p] if r else -1 for p, r in zip(processes, ran, strict=True))
        out.append((Turn(placements, tuple(times[point])), disturbed[point]))
    return out


def _column(plan: Plan, column: int, point: int) -> tuple[int, Process]:
    """Return (lane, process) of a column; the last column is the twin."""
    twin = column == len(plan.lanes)
    lane = plan.twins[point] if twin else column
    return lane, Process(plan.lanes[lane].build, twin)


def _start(plan: Plan, stack: ExitStack, placed: Mapping[Process, int]) -> dict[Process, Worker]:
    """Start the processes in the order given and lay out all their inputs."""
    workers = {}
    for process, placement in placed.items():
        path = plan.programs[process.build][placement]
        worker = stack.enter_context(Worker(path, plan.cpu, memory_limit(path)))
        lanes = [lane for lane in plan.lanes if lane.build == process.build]
        for lane in lanes:
            for point in range(plan.points):
                slot = plan.slot(lane, point)
                with _named(lane):
                    worker.prepare(slot, lane.entry, plan.sets[lane.entry, point])
        workers[process] = worker
    return workers


def _visit(plan: Plan, worker: Worker, lane: int, point: int) -> tuple[float, bool]:
    """Return (seconds per call, was the process put off the CPU) of one visit."""
    calls, per_call = plan.calls[lane, point]
    samples, drop = samples_for(per_call)
    with _named(plan.lanes[lane]):
        visit = worker.visit(plan.slot(plan.lanes[lane], point), calls, samples, VISIT_LIMIT)
    return statistics.median(visit.samples[drop:]) / calls, visit.switched > 0


@contextmanager
def _named(lane: Lane) -> Iterator[None]:
    """Say which candidate it was when its worker ends."""
    try:
        yield
    except WorkerEnded as ended:
        raise LaneEnded(lane.candidate, ended.kind, ended.why) from ended
