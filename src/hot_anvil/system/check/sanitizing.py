"""Run a sanitized build on the input sets, and read what it complains of."""

import os
import signal
from functools import partial

from hot_anvil.core.code.text import normal_path
from hot_anvil.core.verify.crash_report import Place
from hot_anvil.core.verify.sanitizer_reports import Undefined, read_fault
from hot_anvil.system.check.plan import Sanitized
from hot_anvil.system.execute.calls import PreparedInputs, line_finder, locate_in, memory_limit
from hot_anvil.system.execute.workers import Worker, WorkerEnded
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store

_TRAPS = (signal.SIGILL, signal.SIGTRAP)
_TRAPPED = "behaviour that is not defined (a check that the compiler put there failed)"


def find_undefined(
    sanitized: Sanitized, ready: PreparedInputs, store: Store, all_edges: bool = False
) -> list[tuple[int, Undefined]]:
    """Return undefined behaviour of an entry: (input set, what).

    Stops at the first, but for ``all_edges``, which names every edge that
    shows any. The same program and the same inputs are not run twice.
    """
    program = sanitized.program
    requests = ready.requests[0]
    pieces = [piece for request in requests for piece in request]
    key = digest(
        f"undefined {stage_digest('check')} {all_edges}", program.path, str(ready.seconds), *pieces
    )
    rows = store.derive(key, lambda _: _search(sanitized, ready, all_edges))
    return [
        (at, _undefined(ready, at, (message, Place(*place)), sanitized.build))
        for at, message, place in rows
    ]


def _undefined(ready: PreparedInputs, at: int, fault: tuple[str, Place], build: str) -> Undefined:
    inputs = ready.sets[at]
    return Undefined(ready.signature.name, inputs.label, inputs.spec.edge, *fault, build)


def _search(
    sanitized: Sanitized, ready: PreparedInputs, all_edges: bool
) -> list[tuple[int, str, Place]]:
    """Run the sets; a sanitized program ends at its first fault, and a fresh one takes the rest.

    What ends it otherwise is the other builds' business.
    """
    program = sanitized.program
    found: list[tuple[int, str, Place]] = []
    order = list(range(len(ready.sets)))
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
            if sanitized.traps and ended.report and ended.report.signal in _TRAPS:
                fault = _TRAPPED, locate_in(program.path, ended.report, ready.root)[0]
            if fault:
                found.append((at, *fault))
                if not all_edges:
                    break
            if ended.kind == "hung":
                break  # it would take as long for every set that is left
            order = order[done + 1 :]
            if found:  # of the bench's own sets one is enough
                order = [k for k in order if ready.sets[k].spec.edge]
    return found


def read_complaints(text: str, program: str, root: str) -> tuple[str, Place] | None:
    """Return (message, place) of what a sanitized program wrote, None without a fault."""
    path = os.path.realpath(program)
    text = text.replace(f"({program}+", f"({path}+")
    # Debug info is read only where there is a fault.
    return read_fault(
        text, path, lambda offset: line_finder(program, root)(offset), partial(_inside, root)
    )


def _inside(root: str, file: str) -> str:
    return normal_path("", file, root)
