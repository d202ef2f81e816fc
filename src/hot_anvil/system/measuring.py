"""Time the correct candidates of a snippet: plan it, and go on until it is decided."""

import os
import random
import statistics
import time
from collections.abc import Mapping, Sequence

from hot_anvil.core.bench import Bench
from hot_anvil.core.inputs import make_input_set
from hot_anvil.core.judged import Checked
from hot_anvil.core.measure import Contest, settled, undecided
from hot_anvil.core.verdict import Verdict
from hot_anvil.core.wanted import Wanted, point_label, sweep_points
from hot_anvil.system.checking import read_files
from hot_anvil.system.grid import Progress, no_progress
from hot_anvil.system.rounds import Decks, Lane, Plan, calibrated, run_generation
from hot_anvil.system.trials import memory_limit
from hot_anvil.system.workers import Worker

GENERATIONS = 10  # no fewer: the statistics are over them
MOST_GENERATIONS = 40
ROUNDS = 16  # of a generation, over all its turns
NARROW = 0.01  # log ratio; stop when every interval that matters is narrower


def measure_snippet(
    bench: Bench,
    checked: Checked,
    programs: Mapping[str, Mapping[int, str]],
    same_code: Mapping[str, str],
    baseline: str,
    seconds: float,
    seed: int,
    only_best: bool,
    progress: Progress = no_progress,
) -> tuple[list[Contest], str]:
    """Measure the correct candidates of a snippet at every point of its sweep.

    ``programs`` gives each build's program by placement, ``same_code`` a text
    that is equal for builds that load the same bytes: those are timed once.
    ``seconds`` is the budget for each candidate and point; ``only_best`` stops
    as soon as every candidate can be placed against the fastest. Returns the
    contests, one per point, and the timed candidate that stands for the
    baseline. Raises LaneEnded for a candidate that ends while it is timed.
    """
    timed, same_as = same_code_groups(checked.correct, same_code, baseline)
    names = [signature.name for signature in checked.signatures]
    lanes = tuple(Lane(v.candidate, v.build, names.index(v.entry)) for v in timed)
    points = sweep_points(checked.snippet)
    files = read_files(bench, checked.snippet)
    sets = {
        (entry, at): make_input_set(
            bench, checked.snippet, checked.signatures[entry], Wanted(point), files
        )
        for entry in {lane.entry for lane in lanes}
        for at, point in enumerate(points)
    }
    cpu = quietest_cpu(next(iter(programs[lanes[0].build].values())))
    everyone = frozenset(range(len(lanes)))
    plan = calibrated(Plan(lanes, programs, sets, len(points), {}, (), cpu, everyone))
    anchor = same_as.get(baseline, baseline)
    candidates = tuple(lane.candidate for lane in lanes)
    if anchor not in candidates:
        anchor = candidates[0]  # the baseline itself is not correct
    contests = [
        Contest(checked.snippet.name, point_label(point), candidates, twin, (), 0.0, same_as)
        for point, twin in zip(points, plan.twins, strict=True)
    ]
    wanted = None if only_best else anchor
    budget = seconds * len(lanes) * len(points)
    return _run(plan, contests, wanted, budget, random.Random(seed), progress), anchor


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


def quietest_cpu(path: str) -> int:
    """Return the CPU on which a fixed piece of work is fastest just now."""
    allowed = sorted(os.sched_getaffinity(0))
    if len(allowed) == 1:
        return allowed[0]

    def median(cpu: int) -> float:
        with Worker(path, cpu, memory_limit(path)) as worker:
            return statistics.median(worker.probe() for _ in range(100))

    return min(allowed, key=median)


def turns_and_rounds(plan: Plan, budget: float) -> tuple[int, int]:
    """Return (turns, rounds of a turn) of a generation that the budget allows.

    All placements in every generation where that is affordable; otherwise
    one, drawn anew for each generation, which widens the intervals instead.
    """
    affordable = budget / GENERATIONS / max(plan.round_seconds(), 1e-6)
    turns = len(plan.placements)
    if affordable < 2 * turns:  # not even one round and its warm-up in each
        return 1, max(1, min(ROUNDS, int(affordable) - 1))
    return turns, max(1, min(ROUNDS, int(affordable) - turns) // turns)


def _run(
    plan: Plan,
    contests: list[Contest],
    baseline: str | None,
    budget: float,
    chance: random.Random,
    progress: Progress,
) -> list[Contest]:
    what = f"measuring {contests[0].snippet}"
    turns, rounds = turns_and_rounds(plan, budget)
    decks = Decks(plan, chance)
    started = time.monotonic()
    for number in range(MOST_GENERATIONS):
        progress(what, number, GENERATIONS if number < GENERATIONS else number + 1)
        if number >= GENERATIONS:
            done = all(undecided(contest, baseline, NARROW) <= 0 for contest in contests)
            if done or time.monotonic() - started >= budget:
                break
            if baseline is None:  # the clear losers' time goes to the others
                plan = plan._replace(active=plan.active - settled(contests))
        generations, disturbed = run_generation(plan, decks, chance, turns, rounds)
        contests = [
            contest._replace(
                generations=(*contest.generations, generation),
                disturbed=(contest.disturbed * number + share) / (number + 1),
            )
            for contest, generation, share in zip(contests, generations, disturbed, strict=True)
        ]
    progress(what, 1, 1)
    return contests
