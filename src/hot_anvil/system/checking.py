"""Run every candidate on every input set in processes of its own, and judge it."""

from collections.abc import Mapping, Sequence
from pathlib import Path

from hot_anvil.core.bench import Bench, Snippet
from hot_anvil.core.built import REFUSED, Built
from hot_anvil.core.errors import MissingError, RequestError
from hot_anvil.core.inputs import InputSet, check_unused, make_input_set, sweep_points
from hot_anvil.core.judged import Checked
from hot_anvil.core.protocol import Output
from hot_anvil.core.signature import Signature
from hot_anvil.core.verdict import (
    CRASHED,
    NOT_RUN,
    Trial,
    Verdict,
    candidate_name,
    judge,
)
from hot_anvil.core.verdict import REFUSED as REFUSED_VERDICT
from hot_anvil.system.grid import Progress, no_progress
from hot_anvil.system.linking import Program
from hot_anvil.system.workers import MEMORY_LIMIT, Worker, WorkerEnded

SEEDS = (1, 2, 3)
REPEATS = 2  # processes per candidate: two runs that differ make it unstable


def input_sets(
    bench: Bench, snippet: Snippet, signatures: Sequence[Signature]
) -> list[list[InputSet]]:
    """Return the input sets of each entry: every sweep point with every seed."""
    check_unused(bench, snippet, signatures)
    points = sweep_points(snippet)
    return [
        [make_input_set(bench, snippet, s, point, seed) for point in points for seed in SEEDS]
        for s in signatures
    ]


def check_snippet(
    bench: Bench,
    snippet: Snippet,
    reference_build: str,
    signatures: Sequence[Signature],
    builds: Sequence[Built],
    programs: Mapping[str, Program],
    call_seconds: float,
    progress: Progress = no_progress,
) -> Checked:
    """Judge every candidate of a snippet against the reference.

    ``call_seconds`` bounds each call; a longer one is a hang.
    """
    sets = input_sets(bench, snippet, signatures)
    entries = [signature.name for signature in signatures]
    reference_entry = snippet.reference or entries[0]
    if reference_entry not in entries:
        raise RequestError(
            f"{bench.file}: snippet {snippet.name}: the reference '{reference_entry}' is no entry."
        )
    at = entries.index(reference_entry)
    alone = len(entries) == 1 and len(snippet.entries) < 2
    reference = candidate_name(reference_entry, reference_build, alone)
    expected, trouble = _expected(programs.get(reference_build), at, sets[at], call_seconds)
    verdicts: list[Verdict] = []
    total = len(builds) * len(entries)
    for index, signature in enumerate(signatures):
        for built in builds:
            if written_elsewhere(built, signature):
                continue  # the rival is in a language that this build has no compiler for
            progress(f"checking {snippet.name}", len(verdicts), total)
            name = candidate_name(signature.name, built.build.name, alone)
            if trouble and name != reference:
                verdict, why = NOT_RUN, f"the reference {reference} {trouble[0]}: {trouble[1]}"
            elif trouble:
                verdict, why = trouble
            else:
                verdict, why = _judge(
                    built, programs, index, expected, signatures, at, sets[index], call_seconds
                )
            verdicts.append(
                Verdict(
                    snippet.name,
                    signature.name,
                    built.build.name,
                    name,
                    verdict,
                    why,
                    len(sets[index]),
                )
            )
    progress(f"checking {snippet.name}", total, total)
    return Checked(snippet, tuple(signatures), reference, tuple(verdicts))


def written_elsewhere(built: Built, signature: Signature) -> bool:
    """Tell whether an entry is in none of the sources that a build compiled."""
    every = len(built.units) == len(built.snippet.sources)
    return built.status != REFUSED and not every and built.entry_bytes(signature.symbol) is None


def _expected(
    program: Program | None, entry: int, sets: Sequence[InputSet], seconds: float
) -> tuple[Sequence[Output], tuple[str, str] | None]:
    """Return the reference's outputs, or (verdict, why) when it has none."""
    if program is None:
        return (), (REFUSED_VERDICT, "did not compile")
    if program.why:
        return (), (NOT_RUN, program.why)
    trial = run_trial(program, entry, sets, seconds)
    if trial.ending:
        return (), (trial.ending, trial.why)
    return trial.outputs, None


def _judge(
    built: Built,
    programs: Mapping[str, Program],
    index: int,
    expected: Sequence[Output],
    signatures: Sequence[Signature],
    reference: int,
    sets: Sequence[InputSet],
    seconds: float,
) -> tuple[str, str]:
    if built.status == REFUSED:
        return REFUSED_VERDICT, built.why
    program = programs[built.build.name]
    if program.why:
        return NOT_RUN, program.why
    if built.entry_bytes(signatures[index].symbol) is None:
        return NOT_RUN, f"this build has no function {signatures[index].name}"
    trials = [run_trial(program, index, sets, seconds) for _ in range(REPEATS)]
    return judge(expected, signatures[reference], trials, signatures[index], sets)


def memory_limit(path: str) -> int:
    """Return the address space a program may use; none for sanitizers, which reserve terabytes."""
    return 0 if b"__asan_init" in Path(path).read_bytes() else MEMORY_LIMIT


def run_trial(program: Program, entry: int, sets: Sequence[InputSet], seconds: float) -> Trial:
    """Call an entry once on every input set in one fresh process."""
    outputs: list[Output] = []
    try:
        with Worker(program.path, memory=memory_limit(program.path)) as worker:
            for slot, inputs in enumerate(sets):
                worker.prepare(slot, entry, inputs, tight=True)
                outputs.append(worker.call(slot, inputs, seconds))
    except WorkerEnded as ended:
        return Trial(tuple(outputs), ended.kind, ended.why)
    except (MissingError, OSError) as error:
        return Trial(tuple(outputs), CRASHED, str(error))
    return Trial(tuple(outputs), "", "")
