"""Which lines of an entry no checked call reached, from a build that notes its basic blocks."""

import struct
from collections.abc import Mapping
from typing import NamedTuple

from hot_anvil.core.calling.protocol import request
from hot_anvil.system.build.linking import Program
from hot_anvil.system.execute.calls import PreparedInputs, line_finder, memory_limit
from hot_anvil.system.execute.workers import Worker, WorkerEnded
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store

Lines = frozenset[tuple[str, int]]  # file and line


class Instrumented(NamedTuple):
    """The build that notes what it reaches."""

    program: Program
    blocks: Mapping[str, Lines]  # symbol of an entry -> lines at which its blocks begin


def unreached(
    made: Instrumented, ready: PreparedInputs, store: Store
) -> tuple[tuple[str, int], ...]:
    """Return the lines at which blocks of an entry begin that no input set reached.

    Nothing where that is not known: there is no such build, or it ended.
    """
    own = made.blocks.get(ready.signature.symbol, frozenset())
    reached = reached_by(made, ready, store)
    return tuple(sorted(own - reached)) if reached else ()


def reached_by(made: Instrumented, ready: PreparedInputs, store: Store) -> Lines:
    """Return the lines at which blocks begin that input sets reach, none where not known."""
    if made.program.why or not made.blocks.get(ready.signature.symbol):
        return frozenset()
    pieces = [piece for one in ready.requests[0] for piece in one]
    key = digest(f"reached {stage_digest('check')}", made.program.path, *pieces)
    found = store.derive(key, lambda _: _reached(made.program.path, ready))
    return frozenset((file, line) for file, line in found)


def reached_each(made: Instrumented, ready: PreparedInputs) -> list[Lines]:
    """Return the lines that each input set is the first of them to reach."""
    path = made.program.path
    own = made.blocks.get(ready.signature.symbol, frozenset())
    line_at = line_finder(path, ready.root)
    before: set[int] = set()
    out: list[Lines] = []
    try:
        with Worker(path, memory=memory_limit(path)) as worker:
            for one in ready.requests[0]:
                worker.ask(one, ready.seconds)
                reached = _offsets(worker, ready.seconds)
                out.append(own & frozenset(map(line_at, reached - before)))
                before |= reached
    except WorkerEnded:
        pass  # what ends it is found by the check
    return out + [frozenset()] * (len(ready.sets) - len(out))


def _offsets(worker: Worker, seconds: float) -> set[int]:
    answer = worker.ask([request("Y")], seconds)
    return set(struct.unpack(f"<{len(answer) // 8}Q", answer))


def _reached(path: str, ready: PreparedInputs) -> list[tuple[str, int]]:
    """Call on every input set; return the lines reached, none where the process ends."""
    try:
        with Worker(path, memory=memory_limit(path)) as worker:
            for _ in worker.answers(ready.requests[0], ready.seconds):
                pass
            offsets = _offsets(worker, ready.seconds)
    except WorkerEnded:
        return []
    line_at = line_finder(path, ready.root)
    return sorted({line_at(offset) for offset in offsets})
