"""Time the correct candidates of a snippet: plan it, and go on until it is decided."""

import os
import random
import statistics
import time
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.binary.signatures import Parameter
from hot_anvil.core.config.expressions import evaluate
from hot_anvil.core.config.records import Bench
from hot_anvil.core.inputs.input_sets import Argument, make_input_set
from hot_anvil.core.inputs.spec import InputSpec, point_label, sweep_points
from hot_anvil.core.measure.measurements import Measurements
from hot_anvil.core.measure.options import Options
from hot_anvil.core.measure.summary import current_best, settled, undecided
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import Verdict
from hot_anvil.system.build.linking import Program
from hot_anvil.system.check.checking import read_files
from hot_anvil.system.execute.calls import memory_limit
from hot_anvil.system.execute.workers import Worker
from hot_anvil.system.measure.contestants import SHARED, Contestant, Plan
from hot_anvil.system.measure.first_calls import RUNS, with_first_calls
from hot_anvil.system.measure.rounds import (
    PlacementSchedule,
    calibrated,
    run_generation,
)
from hot_anvil.system.process.progress import Progress, no_progress

FEWEST = 10  # generations: the statistics are over them
EVERY_PLACEMENT = 5  # generations at each placement before anything is decided
MOST_GENERATIONS = 800
ROUNDS = 6  # of a generation: more gain less than more generations do
SETTLING = 3  # generations after which the plan is made anew, by what they took
NARROW = 0.01  # log ratio; stop when every interval that matters is narrower


class Linked(NamedTuple):
    """The images of the builds to time: build -> placement -> image."""

    programs: Mapping[str, Mapping[int, Program]]
    libraries: Mapping[str, Mapping[int, Program]]
    loader: str  # worker that loads libraries
    aligned: frozenset[str]  # builds whose code starts at multiples of POSITION only


def measure_snippet(
    bench: Bench,
    checked: Checked,
    linked: Linked,
    baseline: str,
    options: Options,
    only_best: bool,
    progress: Progress = no_progress,
    watched: Sequence[tuple[str, str]] = (),
) -> tuple[list[Measurements], str]:
    """Measure the correct candidates of a snippet at every point of its sweep.

    Candidates whose programs load the same bytes are timed once. ``only_best``
    stops as soon as every one can be placed against the fastest; pairs of
    candidates that are ``watched`` must be told apart too. Returns the
    measurements, one per point, and the timed candidate that stands for the
    baseline. Raises ContestantEnded for a candidate that ends while it is timed.
    """
    placement = next(iter(next(iter(linked.programs.values()))))
    same_code = {name: images[placement].same_code for name, images in linked.programs.items()}
    timed, same_as = same_code_groups(checked.timed, same_code, baseline)
    chance = random.Random(options.seed)
    plan = _plan(bench, checked, linked, timed, options)
    plan = calibrated(plan, chance, checked.many_threads)
    anchor = same_as.get(baseline, baseline)
    candidates = tuple(contestant.candidate for contestant in plan.contestants)
    if anchor not in candidates:
        anchor = candidates[0]  # the baseline itself is not correct
    shared = tuple(
        contestant.candidate
        for column, contestant in enumerate(plan.contestants)
        if plan.process_slot(column, 0).process == SHARED
    )
    aligned = tuple(
        contestant.candidate
        for contestant in plan.contestants
        if contestant.build in linked.aligned
    )
    all_measurements = [
        Measurements(
            checked.snippet.name,
            point_label(point),
            candidates,
            (),
            same_as,
            point,
            elements_of(bench, checked, point),
            plan.clocks[number],
            plan.alone[number],
            0.0,
            shared,
            threads=checked.snippet.threads,
            aligned=aligned,
            copies=plan.copies[number],
            cold=plan.cold,
        )
        for number, point in enumerate(sweep_points(checked.snippet))
    ]
    wanted = None if only_best else anchor
    seconds = options.seconds * len(plan.contestants) * plan.points
    what = _Goal(wanted, watched, seconds)
    return _run(plan, all_measurements, what, chance, progress), anchor


def elements_of(bench: Bench, checked: Checked, point: Mapping[str, int]) -> int | None:
    """Return how many elements a call works on, None where the snippet does not say."""
    snippet = checked.snippet
    if not snippet.per:
        return None
    numbers = {k: v for k, v in snippet.inputs.items() if isinstance(v, int)}
    where = f"{bench.file}: snippet {snippet.name}: per"
    return max(int(evaluate(snippet.per, {**numbers, **point}, where)), 1)


def _plan(
    bench: Bench, checked: Checked, linked: Linked, timed: Sequence[Verdict], options: Options
) -> Plan:
    names = [signature.name for signature in checked.signatures]
    contestants = tuple(Contestant(v.candidate, v.build, names.index(v.entry)) for v in timed)
    points = sweep_points(checked.snippet)
    files = read_files(bench, checked.snippet)
    sets = {}
    for at, point in enumerate(points):
        shared: dict[Parameter, Argument] = {}
        for entry in sorted({contestant.entry for contestant in contestants}):
            signature = checked.signatures[entry]
            wanted = InputSpec(point)
            sets[entry, at] = make_input_set(
                bench, checked.snippet, signature, wanted, files, shared
            )
    sharing = {} if options.apart else linked.libraries
    loader = linked.loader
    return Plan(
        contestants,
        {name: _paths(images) for name, images in linked.programs.items()},
        {name: _paths(images) for name, images in sharing.items()},
        loader,
        sets,
        len(points),
        -1 if checked.many_threads else quietest_cpu(loader),
        frozenset(range(len(contestants))),
        drivers=any(signature.through for signature in checked.signatures),
        threads=checked.snippet.threads,
        cold=options.cold,
    )


def _paths(images: Mapping[int, Program]) -> dict[int, str]:
    return {placement: image.path for placement, image in images.items()}


def same_code_groups(
    correct: Sequence[Verdict], same_code: Mapping[str, str], baseline: str
) -> tuple[list[Verdict], dict[str, str]]:
    """Return the candidates to time, and for each of the others the one it equals.

    The baseline, if among equal ones, is the one timed.
    """
    timed: dict[tuple[str, str], Verdict] = {}
    same_as = {}
    for verdict in sorted(correct, key=lambda v: v.candidate != baseline):
        key = (verdict.entry, same_code[verdict.build])
        if key in timed:
            same_as[verdict.candidate] = timed[key].candidate
        else:
            timed[key] = verdict
    return list(timed.values()), same_as


def quietest_cpu(loader: str) -> int:
    """Return the CPU on which a fixed piece of work is fastest just now."""
    allowed = sorted(os.sched_getaffinity(0))
    if len(allowed) == 1:
        return allowed[0]

    def median(cpu: int) -> float:
        with Worker(loader, cpu, memory_limit(loader)) as worker:
            return statistics.median(worker.probe() for _ in range(100))

    return min(allowed, key=median)


def generations_and_rounds(plan: Plan, seconds: float) -> tuple[int, int]:
    """Return (generations, rounds of each) for a budget.

    As many generations as make each placement known, if there is time for
    rounds in them; otherwise fewer, their placements drawn at random, which
    widens the intervals instead.
    """
    fixed, one = plan.fixed_seconds(), max(plan.round_seconds(), 1e-6)
    full = EVERY_PLACEMENT * len(plan.schedule)
    for rounds in range(ROUNDS, 1, -1):
        if seconds >= full * (fixed + rounds * one):
            return int(min(MOST_GENERATIONS, seconds / (fixed + rounds * one))), rounds
    for count in (20, FEWEST):
        rounds = int((seconds / count - fixed) / one)
        if rounds >= 3:
            return count, min(rounds, ROUNDS)
    return FEWEST, max(1, int((seconds / FEWEST - fixed) / one))


class _Goal(NamedTuple):
    """What a measurement goes on for, and how long at most."""

    baseline: str | None  # None: only to place all against the fastest
    watched: Sequence[tuple[str, str]]
    seconds: float


def _run(
    plan: Plan,
    all_measurements: list[Measurements],
    goal: _Goal,
    chance: random.Random,
    progress: Progress,
) -> list[Measurements]:
    baseline, watched, seconds = goal
    what = f"measuring {all_measurements[0].snippet}"
    count, rounds = generations_and_rounds(plan, seconds)
    places = len(plan.schedule)
    schedule = PlacementSchedule(plan.schedule, chance)
    restoring: list[list[float]] = [[] for _ in all_measurements]
    started = time.monotonic()
    done = 0
    while True:
        spent = time.monotonic() - started
        left = max(0.0, seconds - spent)
        progress(f"{what}: at most {left:.0f} s left", int(spent * 10), int((spent + left) * 10))
        if (done >= count and spent >= seconds * (1 - 1 / count)) or done >= MOST_GENERATIONS:
            break
        if done >= FEWEST and spent >= seconds:
            break  # slower than planned
        if done and done % places == 0 and done >= min(count, EVERY_PLACEMENT * places):
            if all(undecided(c, baseline, NARROW, watched) <= 0 for c in all_measurements):
                break
            if baseline is None:  # the clear losers' time goes to the others
                plan = plan._replace(active=plan.active - settled(all_measurements))
            plan = plan._replace(
                controls=tuple(current_best(measurements) for measurements in all_measurements)
            )
        made, restored = run_generation(plan, schedule.draw(), chance, rounds)
        if done < RUNS:
            made = with_first_calls(plan, made, chance)
        all_measurements = [
            measurements._replace(generations=(*measurements.generations, generation))
            for measurements, generation in zip(all_measurements, made, strict=True)
        ]
        for number, took in enumerate(restored):
            restoring[number].append(took)
        done += 1
        if done == SETTLING:  # other work on the machine makes all take longer than planned
            taken = time.monotonic() - started
            planned = done * (plan.fixed_seconds() + rounds * plan.round_seconds())
            count, rounds = generations_and_rounds(plan, seconds * min(1.0, planned / taken))
    progress(what, 1, 1)
    return [
        measurements._replace(restoring=statistics.median(restoring[number]))
        for number, measurements in enumerate(all_measurements)
    ]
