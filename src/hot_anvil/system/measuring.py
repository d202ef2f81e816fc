"""Time the correct candidates of a snippet: generations of fresh processes, random rounds."""

import math
import os
import random
import statistics
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from typing import NamedTuple

from hot_anvil.core.bench import Bench
from hot_anvil.core.built import Built
from hot_anvil.core.inputs import InputSet, make_input_set, point_label, sweep_points
from hot_anvil.core.judged import Checked
from hot_anvil.core.measure import (
    SAMPLE_SECONDS,
    Contest,
    Generation,
    samples_for,
    shared_calls,
    undecided,
)
from hot_anvil.core.verdict import Verdict
from hot_anvil.system.checking import memory_limit
from hot_anvil.system.grid import Progress, no_progress
from hot_anvil.system.workers import Program, Worker, WorkerEnded

GENERATIONS = 10  # no fewer: the statistics are over them
MOST_GENERATIONS = 40
ROUNDS = 12
NARROW = 0.01  # log ratio; stop when every interval that matters is narrower
CALIBRATIONS = 2  # the faster counts: one may have met a slow moment
VISIT_LIMIT = 60.0  # seconds


class Lane(NamedTuple):
    """One timed candidate: which program's entry, and in which process it runs."""

    candidate: str
    build: str
    entry: int
    process: str


class LaneEnded(Exception):  # noqa: N818 - an event, not an error of ours
    """A candidate that passed the check died or hung while it was timed."""

    def __init__(self, candidate: str, kind: str, why: str) -> None:
        super().__init__(why)
        self.candidate = candidate
        self.kind = kind
        self.why = f"while it was timed: {why}"


class _Plan(NamedTuple):
    """What every generation repeats."""

    lanes: tuple[Lane, ...]
    programs: Mapping[str, Program]  # build -> program
    sets: Mapping[tuple[int, int], InputSet]  # (entry, point) -> values
    labels: tuple[str, ...]
    calls: Mapping[tuple[int, int], tuple[int, float]]  # (lane, point) -> calls, seconds a call
    twins: tuple[int, ...]  # per point: the lane that the twin copies
    cpu: int
    seed: int


def measure_snippet(
    bench: Bench,
    checked: Checked,
    builds: Sequence[Built],
    programs: Mapping[str, Program],
    baseline: str,
    seconds: float,
    seed: int,
    only_best: bool,
    progress: Progress = no_progress,
) -> tuple[list[Contest], str]:
    """Measure the correct candidates of a snippet at every point of its sweep.

    ``seconds`` is the budget for each candidate and point. Candidates with
    the very same code are timed once. Raises LaneEnded for a candidate that
    ends while it is timed. ``only_best`` stops as soon as every
    candidate can be placed against the fastest. Returns the contests, one per point,
    and the timed candidate that stands for the baseline.
    """
    timed, same_as = same_code_groups(checked.correct, builds, baseline)
    names = [s.name for s in checked.signatures]
    lanes = tuple(Lane(v.candidate, v.build, names.index(v.entry), v.build) for v in timed)
    points = sweep_points(checked.snippet)
    sets = {
        (entry, at): make_input_set(bench, checked.snippet, checked.signatures[entry], point, 1)
        for entry in {lane.entry for lane in lanes}
        for at, point in enumerate(points)
    }
    labels = tuple(point_label(point) for point in points)
    cpu = quietest_cpu(programs[lanes[0].build].path)
    plan = _Plan(lanes, programs, sets, labels, {}, (), cpu, seed)
    plan = _calibrated(plan)
    anchor = same_as.get(baseline, baseline)
    if anchor not in [lane.candidate for lane in lanes]:
        anchor = lanes[0].candidate  # the baseline itself is not correct
    wanted = None if only_best else anchor
    return _run(plan, checked.snippet.name, wanted, same_as, seconds, progress), anchor


def same_code_groups(
    correct: Sequence[Verdict], builds: Sequence[Built], baseline: str
) -> tuple[list[Verdict], dict[str, str]]:
    """Return the candidates to time, and for each of the others the one it equals.

    Two candidates are the same when their objects load the same bytes; the
    baseline, if among them, is the one timed.
    """
    code_of = {built.build.name: built.same_code for built in builds}
    timed: dict[tuple[str, str], Verdict] = {}
    same_as = {}
    for verdict in sorted(correct, key=lambda v: v.candidate != baseline):
        key = (verdict.entry, code_of[verdict.build])
        if key in timed:
            same_as[verdict.candidate] = timed[key].candidate
        else:
            timed[key] = verdict
    return list(timed.values()), same_as


def quietest_cpu(path: str) -> int:
    """Return the CPU on which a fixed piece of work is fastest just now."""
    allowed = sorted(os.sched_getaffinity(0))
    if len(allowed) == 1:
        return allowed[0]

    def median(cpu: int) -> float:
        with Worker(path, cpu, memory_limit(path)) as worker:
            return statistics.median(worker.probe() for _ in range(100))

    return min(allowed, key=median)


def _calibrated(plan: _Plan) -> _Plan:
    """Find how many calls fill a sample, and which candidate looks fastest at each point."""
    fastest: dict[tuple[int, int], float] = {}
    with ExitStack() as stack:
        workers = _start(plan, stack, list({lane.process for lane in plan.lanes}))
        for _ in range(CALIBRATIONS):
            for at in range(len(plan.labels)):
                for number, lane in enumerate(plan.lanes):
                    worker = workers[lane.process]
                    slot = _slot(plan, lane, at)
                    with _named(lane):
                        calls, took = worker.calibrate(slot, SAMPLE_SECONDS, VISIT_LIMIT)
                    key = number, at
                    fastest[key] = min(took / calls, fastest.get(key, math.inf))
    numbers = range(len(plan.lanes))
    shared = [
        shared_calls([fastest[number, at] for number in numbers]) for at in range(len(plan.labels))
    ]
    twins = tuple(
        min(numbers, key=lambda number: fastest[number, at]) for at in range(len(plan.labels))
    )
    visits = {(number, at): shared[at][number] for number, at in fastest}
    return plan._replace(calls=visits, twins=twins)


@contextmanager
def _named(lane: Lane) -> Iterator[None]:
    """Say which candidate it was when its worker ends."""
    try:
        yield
    except WorkerEnded as ended:
        raise LaneEnded(lane.candidate, ended.kind, ended.why) from ended


def _slot(plan: _Plan, lane: Lane, at: int) -> int:
    return lane.entry * len(plan.labels) + at


def _start(plan: _Plan, stack: ExitStack, processes: Sequence[str]) -> dict[str, Worker]:
    """Start the processes in the order given and lay out all their inputs."""
    workers = {}
    for process in processes:
        build = process.removeprefix("twin of ")
        path = plan.programs[build].path
        worker = stack.enter_context(Worker(path, plan.cpu, memory_limit(path)))
        entries = {lane.entry for lane in plan.lanes if lane.build == build}
        for (entry, at), inputs in plan.sets.items():
            if entry in entries:
                worker.prepare(entry * len(plan.labels) + at, entry, inputs)
        workers[process] = worker
    return workers


def _run(
    plan: _Plan,
    snippet: str,
    baseline: str | None,
    same_as: Mapping[str, str],
    seconds: float,
    progress: Progress,
) -> list[Contest]:
    names = tuple(lane.candidate for lane in plan.lanes)
    budget = seconds * len(plan.lanes) * len(plan.labels)
    chance = random.Random(plan.seed)
    contests = [
        Contest(snippet, label, names, plan.twins[at], (), 0.0, dict(same_as))
        for at, label in enumerate(plan.labels)
    ]
    what = f"measuring {snippet}"
    started = time.monotonic()
    for number in range(MOST_GENERATIONS):
        progress(what, number, GENERATIONS if number < GENERATIONS else number + 1)
        spent = time.monotonic() - started
        if number >= GENERATIONS:
            done = all(undecided(contest, baseline, NARROW) <= 0 for contest in contests)
            if done or spent >= budget:
                break
        generations, disturbed = _generation(plan, chance, budget / GENERATIONS)
        contests = [
            contest._replace(
                generations=(*contest.generations, generation),
                disturbed=(contest.disturbed * number + share) / (number + 1),
            )
            for contest, generation, share in zip(contests, generations, disturbed, strict=True)
        ]
    progress(what, 1, 1)
    return contests


def _generation(
    plan: _Plan, chance: random.Random, seconds: float
) -> tuple[list[Generation], list[float]]:
    """Run one generation: start everything anew in random order, then random rounds."""
    points = range(len(plan.labels))
    rounds: list[list[tuple[float, ...]]] = [[] for _ in points]
    switched = [0 for _ in points]
    twin_lanes = [plan.lanes[plan.twins[at]] for at in points]
    processes = [lane.process for lane in plan.lanes]
    processes += [f"twin of {lane.build}" for lane in twin_lanes]
    processes = list(dict.fromkeys(processes))
    chance.shuffle(processes)
    columns = len(plan.lanes) + 1
    with ExitStack() as stack:
        workers = _start(plan, stack, processes)
        deadline = time.monotonic() + seconds
        for number in range(-1, ROUNDS):  # the first round only warms up
            for at in chance.sample(points, len(points)):
                times = [0.0] * columns
                for column in chance.sample(range(columns), columns):
                    twin = column == columns - 1
                    lane = twin_lanes[at] if twin else plan.lanes[column]
                    worker = workers[f"twin of {lane.build}" if twin else lane.process]
                    key = (plan.twins[at] if twin else column, at)
                    times[column], disturbed = _visit(plan, worker, lane, at, key)
                    switched[at] += disturbed
                if number >= 0:
                    rounds[at].append(tuple(times))
            if number >= 0 and time.monotonic() > deadline:
                break
    counts = [(len(rounds[at]) + 1) * columns for at in points]
    shares = [count / all_visits for count, all_visits in zip(switched, counts, strict=True)]
    return [Generation(tuple(rounds[at])) for at in points], shares


def _visit(
    plan: _Plan, worker: Worker, lane: Lane, at: int, key: tuple[int, int]
) -> tuple[float, bool]:
    """Return (seconds per call, was the process put off the CPU) of one visit."""
    calls, per_call = plan.calls[key]
    samples, drop = samples_for(per_call)
    with _named(lane):
        visit = worker.visit(_slot(plan, lane, at), calls, samples, VISIT_LIMIT)
    return statistics.median(visit.samples[drop:]) / calls, visit.switched > 0
