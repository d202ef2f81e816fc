"""Run a sanitized build on the input sets, and read what it complains of."""

import os
from collections.abc import Sequence
from functools import partial

from hot_anvil.core.asmtext import normal_path
from hot_anvil.core.ending import Place
from hot_anvil.core.sanitized import Undefined, read_fault
from hot_anvil.system.linking import Program
from hot_anvil.system.trials import Range, line_finder, memory_limit
from hot_anvil.system.workers import Worker, WorkerEnded


def find_undefined(program: Program, build: str, ready: Range) -> list[tuple[int, Undefined]]:
    """Return undefined behaviour of an entry: (input set, what).

    A sanitized program ends at its first fault, and a fresh one takes the
    rest. What ends it otherwise is the other builds' business.
    """
    found = []
    order: Sequence[int] = range(len(ready.sets))
    while order:
        done = 0
        try:
            with Worker(program.path, memory=memory_limit(program.path)) as worker:
                for _ in worker.answers([ready.requests[0][k] for k in order], ready.seconds):
                    done += 1
            break
        except WorkerEnded as ended:
            at = order[done]
            fault = read_complaints(ended.complaints, program.path, ready.root)
            if fault:
                inputs = ready.sets[at]
                name, edge = ready.signature.name, inputs.wanted.edge
                found.append((at, Undefined(name, inputs.label, edge, *fault, build)))
            order = order[done + 1 :]
    return found


def read_complaints(text: str, program: str, root: str) -> tuple[str, Place] | None:
    """Return (message, place) of what a sanitized program wrote, None without a fault."""
    path = os.path.realpath(program)
    text = text.replace(f"({program}+", f"({path}+")
    return read_fault(text, path, line_finder(program, root), partial(_inside, root))


def _inside(root: str, file: str) -> str:
    return normal_path("", file, root)
