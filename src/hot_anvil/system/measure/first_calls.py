"""First calls: each in a process of its own, so that nothing before it has warmed anything."""

import math
import random
from collections.abc import Sequence

from hot_anvil.core.calling import timing
from hot_anvil.core.calling.protocol import Request
from hot_anvil.core.measure.measurements import Generation
from hot_anvil.system.execute.calls import memory_limit
from hot_anvil.system.execute.workers import Worker, WorkerEnded
from hot_anvil.system.measure.contestants import Plan

RUNS = 5  # of each candidate at each size; their median counts
PATIENCE = 60.0  # seconds


def with_first_calls(
    plan: Plan, made: Sequence[Generation], chance: random.Random
) -> list[Generation]:
    """Return the generations, one for each sweep point, with what first calls took."""
    cells = [(column, point) for column in sorted(plan.active) for point in range(plan.points)]
    took: dict[tuple[int, int], float] = {}
    for cell in chance.sample(cells, len(cells)):
        took[cell] = _first_call(plan, *cell)
    return [
        one._replace(
            first=tuple(took.get((column, point), math.nan) for column in range(plan.control + 1))
        )
        for point, one in enumerate(made)
    ]


def _first_call(plan: Plan, column: int, point: int) -> float:
    """Return the seconds of one call in a fresh process, NaN where it ends."""
    contestant = plan.contestants[column]
    path = next(iter(plan.programs[contestant.build].values()))
    inputs = plan.sets[contestant.entry, point]
    requests: list[Request] = [timing.prepare(0, 0, contestant.entry, inputs)]
    requests += [timing.thread_group(0, plan.threads)] if plan.threads > 1 else []
    requests.append(timing.first(0))
    try:
        with Worker(path, plan.cpu, memory_limit(path)) as worker:
            *_, answer = worker.answers(requests, PATIENCE)
    except WorkerEnded:
        return math.nan  # it is found where it is called many times
    return timing.read_first(answer).seconds
