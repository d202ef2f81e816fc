"""Run the processes of a measurement: start them, calibrate, and go through rounds."""

import math
import random
import statistics
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from itertools import groupby
from typing import NamedTuple

from hot_anvil.core.calling import timing
from hot_anvil.core.calling.protocol import Request
from hot_anvil.core.calling.timing import Asked, Batch
from hot_anvil.core.measure.measurements import (
    CPU,
    SAMPLE_SECONDS,
    WALL,
    Generation,
    shared_batch_sizes,
)
from hot_anvil.core.verify.verdicts import Word
from hot_anvil.system.execute.calls import memory_limit
from hot_anvil.system.execute.workers import Worker, WorkerEnded
from hot_anvil.system.measure.contestants import COLD_SAMPLES, SHARED, Plan, Process

CALIBRATIONS = 2  # the faster counts: one may have met a slow moment
PATIENCE = 60.0  # seconds for anything that should take next to none
SLACK = 20  # times as long as planned that batches may take
AWAY = 0.02  # share of a sample off the CPU above which it counts as disturbed
_Cell = tuple[int, int]  # column, point


class ContestantEnded(Exception):  # noqa: N818 - an event, not an error of ours
    """A candidate that passed the check died or hung while it was timed.

    ``candidate`` is "" where several share the process: it is not known which.
    """

    def __init__(self, candidate: str, kind: Word, why: str) -> None:
        super().__init__(why)
        self.candidate = candidate
        self.kind = kind
        self.why = f"while it was timed: {why}"


class Started(NamedTuple):
    """The live processes of a generation."""

    workers: Mapping[Process, Worker]


def calibrated(plan: Plan, chance: random.Random, may_wait: bool) -> Plan:
    """Find how each candidate is to be called, and which looks fastest at each point.

    ``may_wait``: the code may use threads or wait, so only wall time counts.
    """
    contestants = range(len(plan.contestants))
    points = range(plan.points)
    plan = plan._replace(controls=(0,) * plan.points)
    cells = [(contestant, point) for point in points for contestant in contestants]
    fastest: dict[_Cell, float] = {}
    with ExitStack() as stack:
        started = _start(plan, stack, cells, plan.schedule[0], chance)
        state = {}
        copies: dict[int, int] = {}
        for cell in cells:
            with _named(plan, cell):
                state[cell] = _worker(plan, started, cell).state(plan.slot(*cell), PATIENCE)
        alone = tuple(
            any(state[contestant, point] for contestant in contestants) for point in points
        )
        for cell in cells * CALIBRATIONS:
            worker, slot = _worker(plan, started, cell), plan.slot(*cell)
            with _named(plan, cell):
                found = _calibrate(plan, worker, slot, alone[cell[1]])
            fastest[cell] = min(found.seconds / found.calls, fastest.get(cell, math.inf))
            copies[cell[1]] = min(found.copies, copies.get(cell[1], found.copies))
        waits, restoring = [0] * plan.points, {}
        for cell in cells:
            asked = Asked(plan.slot(*cell), 1, False, 1, plan.cold)
            with _named(plan, cell):
                (batch,) = _worker(plan, started, cell).batches([asked], PATIENCE)
            waits[cell[1]] += batch.waits
            restoring[cell] = batch.restoring if alone[cell[1]] or plan.cold else 0.0
    batch_sizes = {}
    controls, clocks = [], []
    for point in points:
        times = [fastest[contestant, point] for contestant in contestants]
        for contestant, batch_size in enumerate(shared_batch_sizes(times)):
            calls = 1 if plan.cold else batch_size.calls
            batch_sizes[contestant, point] = batch_size._replace(
                calls=calls, between=restoring[contestant, point]
            )
        controls.append(times.index(min(times)))
        by_cpu = min(times) > SAMPLE_SECONDS and not waits[point] and not may_wait
        clocks.append(CPU if by_cpu else WALL)
    return plan._replace(
        batch_sizes=batch_sizes, controls=tuple(controls), alone=alone, clocks=tuple(clocks),
        copies=tuple(copies[point] for point in points),
    )  # fmt: skip


def _calibrate(plan: Plan, worker: Worker, slot: int, alone: bool) -> timing.Calibration:
    if not plan.cold:
        return worker.calibrate(slot, SAMPLE_SECONDS, alone, PATIENCE)
    (batch,) = worker.batches([Asked(slot, COLD_SAMPLES, False, 1, True)], PATIENCE)
    return timing.Calibration(1, min(sample.wall for sample in batch.samples), 0)


class PlacementSchedule:
    """Draws placements: all of them in random order, then anew."""

    def __init__(self, placements: Sequence[int], chance: random.Random) -> None:
        self._chance = chance
        self._placements = placements
        self._left: list[int] = []

    def draw(self) -> int:
        """Return the placement of the next generation."""
        if not self._left:
            self._left = self._chance.sample(self._placements, len(self._placements))
        return self._left.pop()


def run_generation(
    plan: Plan, placement: int, chance: random.Random, rounds: int
) -> tuple[list[Generation], list[float]]:
    """Run one set of fresh processes, all code at one placement.

    Returns each sweep point's generation, and what putting its values back took.
    """
    cells = plan.cells
    warm = [cell for cell in cells if plan.warms_up(*cell)]
    order = [*chance.sample(warm, len(warm))]
    for _ in range(rounds):
        # Batches of one size stay together: the candidates of a round must lie close in time.
        for point in chance.sample(range(plan.points), plan.points):
            order += chance.sample([c for c in cells if c[1] == point], len(plan.columns))
    with ExitStack() as stack:
        started = _start(plan, stack, cells, placement, chance)
        batches = list(_all_batches(plan, started, order))
    seen: dict[_Cell, list[Batch]] = {cell: [] for cell in cells}
    for cell, batch in zip(order[len(warm) :], batches[len(warm) :], strict=True):
        seen[cell].append(batch)
    made = [_generation(plan, placement, point, seen) for point in range(plan.points)]
    restoring = [
        statistics.median(v.restoring for c in cells if c[1] == point for v in seen[c])
        for point in range(plan.points)
    ]
    return made, restoring


def _generation(
    plan: Plan,
    placement: int,
    point: int,
    seen: Mapping[_Cell, Sequence[Batch]],
) -> Generation:
    every = range(plan.control + 1)
    nothing = (math.nan,) * len(next(iter(seen.values())))
    times, probes, disturbed = [], [], []
    for column in every:
        batches = seen.get((column, point))
        if batches is None:
            times.append(nothing)
            probes.append(nothing)
            continue
        asked = plan.asked(column, point)
        drop = plan.samples(column, point)[1]
        clock = plan.clocks[point]
        times.append(tuple(_seconds(v, drop, clock) / asked.calls for v in batches))
        probes.append(tuple(v.probe for v in batches))
        disturbed += [_disturbed(v, drop) for v in batches]
    return Generation(
        placement,
        plan.controls[point],
        tuple(zip(*times, strict=True)),
        tuple(zip(*probes, strict=True)),
        (math.nan,) * len(every),  # first calls are made apart
        sum(disturbed) / len(disturbed),
    )


def _seconds(batch: Batch, drop: int, clock: str) -> float:
    kept = batch.samples[drop:]
    return statistics.median(s.cpu if clock == CPU else s.wall for s in kept)


def _disturbed(batch: Batch, drop: int) -> bool:
    return any(s.away > AWAY * s.wall for s in batch.samples[drop:])


def _all_batches(plan: Plan, started: Started, order: Sequence[_Cell]) -> Iterator[Batch]:
    """Make batches in the order given, as many at once as lie in one process."""

    def together(cell: _Cell) -> tuple[Process, _Cell | None]:
        process = plan.process_slot(*cell).process
        return process, None if process == SHARED else cell  # so that it can be named

    for (process, _), group in groupby(order, together):
        cells = list(group)
        asked = [plan.asked(*cell) for cell in cells]
        planned = sum(plan.batch_seconds(*cell) for cell in cells)
        with _named(plan, cells[0]):
            yield from started.workers[process].batches(asked, PATIENCE + SLACK * planned)


def _start(
    plan: Plan, stack: ExitStack, cells: Sequence[_Cell], placement: int, chance: random.Random
) -> Started:
    """Start the processes of these cells in random order, and call each entry once."""
    process_slots = {cell: plan.process_slot(*cell) for cell in cells}
    processes = list(dict.fromkeys(process_slot.process for process_slot in process_slots.values()))
    workers = {}
    for process in chance.sample(processes, len(processes)):
        own = [cell for cell in cells if process_slots[cell].process == process]
        chance.shuffle(own)
        path = plan.path(process, placement)
        worker = stack.enter_context(Worker(path, plan.cpu, memory_limit(path)))
        workers[process] = worker
        requests, calls = _opening(plan, own, placement, chance)
        answers = worker.answers(requests, PATIENCE)
        for number in range(len(requests)):
            cell = calls.get(number)
            with _named(plan, cell or own[0]):
                next(answers)
    return Started(workers)


def _opening(
    plan: Plan, cells: Sequence[_Cell], placement: int, chance: random.Random
) -> tuple[list[Request], dict[int, _Cell]]:
    """Return what a fresh process is asked, and which of the requests are first calls.

    Libraries are loaded in random order. Candidates whose values are equal
    find them in the same memory, so that its place makes no difference.
    """
    process_slots = {cell: plan.process_slot(*cell) for cell in cells}
    numbers = sorted({process_slot.library for process_slot in process_slots.values()} - {0})
    requests = [
        timing.load(number, plan.library(number, placement))
        for number in chance.sample(numbers, len(numbers))
    ]
    owners: list[tuple[object, int]] = []
    for cell in cells:
        process_slot, slot = process_slots[cell], plan.slot(*cell)
        entry = plan.contestants[process_slot.contestant].entry
        inputs = plan.sets[entry, cell[1]]
        owner = next((s for known, s in owners if known == inputs.arguments), None)
        if owner is None or plan.drivers or plan.threads > 1:
            requests.append(timing.prepare(slot, process_slot.library, entry, inputs))
            owners.append((inputs.arguments, slot))
        else:
            requests.append(timing.join(slot, process_slot.library, entry, owner))
        if plan.threads > 1:
            requests.append(timing.thread_group(slot, plan.threads))
    calls = {}
    for cell in cells:
        calls[len(requests)] = cell
        requests.append(timing.first(plan.slot(*cell)))
    return requests, calls


def _worker(plan: Plan, started: Started, cell: _Cell) -> Worker:
    return started.workers[plan.process_slot(*cell).process]


@contextmanager
def _named(plan: Plan, cell: _Cell) -> Iterator[None]:
    """Say which candidate it was when its worker ends."""
    try:
        yield
    except WorkerEnded as ended:
        process_slot = plan.process_slot(*cell)
        candidate = (
            ""
            if process_slot.process == SHARED
            else plan.contestants[process_slot.contestant].candidate
        )
        raise ContestantEnded(candidate, ended.kind, ended.why) from ended
