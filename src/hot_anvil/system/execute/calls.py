"""Run an entry of a program on input sets, in processes of its own."""

from collections.abc import Callable, Sequence
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.binary.lines import DebugLines
from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.binary.variables import Placed, Variable, place_variables
from hot_anvil.core.calling.protocol import (
    TIGHT_END,
    TIGHT_START,
    Output,
    Request,
    lay_out,
    read_output,
    read_repeat,
    repeat,
    try_once,
    watch,
)
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.verify.crash_report import NOWHERE, Place, Report, first_words, in_words, locate
from hot_anvil.core.verify.verdicts import CRASHED, HUNG, Trial
from hot_anvil.errors import MissingError
from hot_anvil.system.execute.workers import MEMORY_LIMIT, Worker, WorkerEnded


class MemoryLayout(NamedTuple):
    """How a process finds its input sets laid out."""

    where: int  # TIGHT_END or TIGHT_START
    pattern: int  # around buffers; odd: random bytes below the stack, even: zeros
    backwards: bool  # the sets in reverse: what depends on earlier calls then shows


# Two runs that differ in all that must not matter.
LAYOUTS = (MemoryLayout(TIGHT_END, 0xA5, False), MemoryLayout(TIGHT_START, 0x5A, True))


class PreparedInputs(NamedTuple):
    """One entry's input sets, ready to be sent."""

    entry: int
    signature: Signature
    sets: Sequence[InputSet]
    requests: tuple[tuple[Request, ...], ...]  # for each layout
    root: str  # folder that the sources are relative to
    seconds: float  # for one call
    variables: tuple[Variable, ...] = ()  # of the source, that outputs are to hold

    def only(self, numbers: Sequence[int]) -> "PreparedInputs":
        """Return the same with only these input sets."""
        requests = tuple(tuple(row[k] for k in numbers) for row in self.requests)
        return self._replace(sets=[self.sets[k] for k in numbers], requests=requests)


def prepare_inputs(
    entry: int,
    signature: Signature,
    sets: Sequence[InputSet],
    root: str,
    seconds: float,
    variables: tuple[Variable, ...] = (),
) -> PreparedInputs:
    """Return an entry's input sets as requests for each layout."""
    laid = [lay_out(entry, inputs) for inputs in sets]
    requests = tuple(
        tuple(try_once(one, layout.where, layout.pattern) for one in laid) for layout in LAYOUTS
    )
    return PreparedInputs(entry, signature, sets, requests, root, seconds, variables)


@lru_cache(maxsize=256)
def memory_limit(path: str) -> int:
    """Return the address space a program may use; none for sanitizers, which reserve terabytes."""
    data = Path(path).read_bytes()
    reserving = (b"__asan_init", b"__tsan_init", b"__msan_init")
    return 0 if any(name in data for name in reserving) else MEMORY_LIMIT


@lru_cache(maxsize=256)
def placed_in(path: str, variables: tuple[Variable, ...]) -> tuple[Placed, ...]:
    """Return where a program has variables of its source."""
    return place_variables(Path(path).read_bytes(), variables) if variables else ()


def run_trial(
    path: str, ready: PreparedInputs, layout: int, among: Sequence[int] | None = None
) -> Trial:
    """Call an entry once on every input set, or those ``among``, each laid out as asked.

    Ends at the first set that ends the process.
    """
    order = range(len(ready.sets)) if among is None else among
    trial, _ = _run(path, ready, layout, order[::-1] if LAYOUTS[layout].backwards else order)
    if trial.ending and LAYOUTS[layout].backwards:  # an earlier set may do so too
        first, _ = _run(path, ready, layout, order)
        return first if first.ending else trial
    return trial


def run_trials(path: str, ready: PreparedInputs, layout: int) -> list[Trial]:
    """Call an entry once on every input set, whatever ends it: then a fresh process goes on.

    There is one trial for each process.
    """
    order: Sequence[int] = range(len(ready.sets))
    trials: list[Trial] = []
    while order:
        trial, done = _run(path, ready, layout, order)
        trials.append(trial)
        order = order[done + 1 :]
        own = trial.ending and not ready.sets[trial.at].spec.edge
        if own or trial.ending == HUNG:  # nothing more to learn, or it would take for ever
            break
    return trials


def joined(trials: Sequence[Trial]) -> tuple[Output | None, ...]:
    """Return the outputs of trials that went on after one another."""
    columns = zip(*(trial.outputs for trial in trials), strict=True)
    return tuple(next((output for output in column if output), None) for column in columns)


def _run(path: str, ready: PreparedInputs, layout: int, order: Sequence[int]) -> tuple[Trial, int]:
    """Run the sets of ``order`` in one process; return the trial and how many were done."""
    outputs: list[Output | None] = [None] * len(ready.sets)
    done = 0
    try:
        placed = placed_in(path, ready.variables)
        with Worker(path, memory=memory_limit(path)) as worker:
            if placed:
                worker.ask(watch(placed), ready.seconds)
            requests = [ready.requests[layout][index] for index in order]
            for payload in worker.answers(requests, ready.seconds):
                index = order[done]
                done += 1
                if payload:
                    read = (payload, ready.sets[index], ready.signature, placed)
                    outputs[index] = read_output(*read)
    except WorkerEnded as ended:
        at = order[done]
        why, place = explain(path, ended, ready.root, ready.sets[at], ready.signature)
        kind = HUNG if ended.kind == "hung" else CRASHED
        return Trial(tuple(outputs), kind, why, at, place, layout), done
    except OSError as error:  # ours: it must never become a verdict
        why = f"{path}: {error.strerror}, while it was to be called"
        raise MissingError(f"{why}. This is the machine's trouble, not the code's.") from None
    return Trial(tuple(outputs), "", ""), done


def run_tally(
    path: str, ready: PreparedInputs, at: int, calls: int, processes: int
) -> list[tuple[int, Output]]:
    """Call an entry many times on one input set; return how often each output came."""
    counted: list[tuple[int, Output]] = []
    inputs = ready.sets[at]
    laid = lay_out(ready.entry, inputs)
    for number in range(processes):
        layout = LAYOUTS[number % len(LAYOUTS)]
        own = calls // processes + (number < calls % processes)
        if not own:
            continue
        limit = max(ready.seconds, min(ready.seconds * own, 60.0))
        try:
            with Worker(path, memory=memory_limit(path)) as worker:
                (payload,) = worker.answers(
                    [repeat(laid, layout.where, layout.pattern, own)], limit
                )
                counted += read_repeat(payload, inputs, ready.signature) if payload else []
        except WorkerEnded:
            continue  # that it can end was found elsewhere, or is rare enough to say so there
    return counted


def explain(
    path: str,
    ended: WorkerEnded,
    root: str,
    inputs: InputSet | None,
    signature: Signature | None,
) -> tuple[str, Place]:
    """Return how a process ended in words, and the source line."""
    why = ended.why
    place, called = NOWHERE, False
    if ended.report:
        place, called = locate_in(path, ended.report, root)
        if ended.report.signal:
            told = in_words(ended.report, inputs, signature)
            why = f"{told}: {why}" if ended.report.signal < 0 else told
    said = first_words(ended.complaints)
    if called and ended.kind == "crashed" and ended.report and ended.report.signal > 0:
        why += ", in a library function that it calls"
    elif place == NOWHERE and ended.report:
        why += ", at a line not known"
    return why + (f": {said}" if said and ended.kind == "crashed" else ""), place


def locate_in(path: str, report: Report, root: str) -> tuple[Place, bool]:
    """Return the source line of a report in a program, and whether it is that of a call."""
    return locate(report, line_finder(path, root))


def line_finder(path: str, root: str) -> Callable[[int], tuple[str, int]]:
    """Return what finds the source line of an offset in a program.

    Code inlined from a header of the system counts for the line that called it.
    """
    lines = _lines(path, root)

    def find(offset: int) -> tuple[str, int]:
        file, line = lines.line(offset)
        if file.startswith("/"):
            inner = lines.inlined(offset)
            own = (site for site in (inner.chain if inner else ()) if site.file[:1] not in "/")
            site = next(own, None)
            return (site.file, site.line) if site else ("", 0)
        return file, line

    return find


@lru_cache(maxsize=32)
def _lines(path: str, root: str) -> DebugLines:
    return DebugLines(Path(path).read_bytes(), root)
