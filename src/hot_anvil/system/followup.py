"""What is worked out of a failing candidate: a tally, a small input set, suspicious lines."""

import base64
import json
from typing import Any

from hot_anvil.core.agreement import told_inputs
from hot_anvil.core.edgekinds import SIZES
from hot_anvil.core.edges import size_names
from hot_anvil.core.ending import NOWHERE
from hot_anvil.core.inputs import Argument, InputSet, make_input_set
from hot_anvil.core.sanitized import suspects
from hot_anvil.core.verdict import (
    CORRECT,
    CRASHED,
    HUNG,
    UNSTABLE,
    WRONG,
    Verdict,
    make_tally,
    tally_text,
)
from hot_anvil.core.wanted import Wanted
from hot_anvil.system.checking import Judged, Matter, Standard, read_files, verdict_of
from hot_anvil.system.files import digest, read_json, write_json
from hot_anvil.system.sanitizing import find_undefined
from hot_anvil.system.shrinking import Caller, Side, smallest_failing
from hot_anvil.system.store import Store
from hot_anvil.system.trials import Range, run_tally

_TALLY_CALLS = 60  # of a candidate that two runs showed to be unstable
_PROCESSES = 6


def follow_up(matter: Matter, ready: Range, standard: Standard, judged: Judged) -> Verdict:
    """Return the verdict on a candidate with all that helps to mend it."""
    verdict = verdict_of(matter, ready, judged)
    program = matter.programs.get(judged.built.build.name)
    if program is None or program.why:
        return verdict
    at = judged.finding.at
    if verdict.verdict == CORRECT and matter.repeat > 2:
        verdict, at = _repeated(matter, ready, verdict, program.path)
    elif verdict.verdict == UNSTABLE:
        calls = max(matter.repeat, _TALLY_CALLS)
        verdict = _with_tally(verdict, program.path, ready, at, calls)
    if verdict.verdict in (WRONG, CRASHED, HUNG, UNSTABLE) and at >= 0:
        verdict = _made_small(matter, ready, standard, verdict, program.path, at)
        verdict = _with_suspects(matter, ready, verdict, at)
    return verdict


def _repeated(matter: Matter, ready: Range, verdict: Verdict, path: str) -> tuple[Verdict, int]:
    """Call again and again on the bench's own input sets."""
    for at, inputs in enumerate(ready.sets):
        if inputs.wanted.edge:
            continue
        counted = run_tally(path, ready, at, matter.repeat, _PROCESSES)
        tally = make_tally(counted, ready.signature, inputs)
        if len(tally) > 1:
            changed = verdict._replace(
                verdict=UNSTABLE, why=tally_text(tally), inputs=inputs.label, tally=tally
            )
            return changed, at
    return verdict, -1


def _with_tally(verdict: Verdict, path: str, ready: Range, at: int, calls: int) -> Verdict:
    counted = run_tally(path, ready, at, calls, _PROCESSES)
    tally = make_tally(counted, ready.signature, ready.sets[at])
    if len(tally) < 2:
        return verdict
    return verdict._replace(tally=tally, why=tally_text(tally))


def _made_small(
    matter: Matter, ready: Range, standard: Standard, verdict: Verdict, path: str, at: int
) -> Verdict:
    """Find a small input set that shows the fault, and keep it for another time."""
    inputs = ready.sets[at]
    side = Side(path, ready.entry, ready.signature)
    small, why = inputs, ""
    if verdict.verdict in (WRONG, CRASHED) and inputs.wanted.case < 0 and standard.path:
        root, seconds = matter.bench.root, matter.call_seconds
        small, why, _ = smallest_failing(
            inputs,
            verdict.verdict,
            Caller(Side(standard.path, standard.entry, standard.signature), root, seconds),
            Caller(side, root, seconds),
            lambda name, size: _resized(matter, ready, inputs.wanted, name, size),
            _sizes(matter, ready, inputs.wanted),
            matter.snippet.tolerance,
        )
    against = matter.reference_build, standard.signature.name
    again = keep_inputs(matter.store, verdict, *against, small)
    return verdict._replace(
        smallest=tuple(told_inputs(small, ready.signature)), smallest_why=why, again=again
    )


def _sizes(matter: Matter, ready: Range, wanted: Wanted) -> list[tuple[str, int]]:
    """Return the sizes that may be made smaller: what the bench does not rule out."""
    ruled_out = {*SIZES, "all"} & set(matter.snippet.not_promised)
    if ruled_out:
        return []
    now = {**matter.snippet.inputs, **wanted.point, **wanted.numbers}
    names = size_names(matter.snippet, [ready.signature])
    return [(name, now[name]) for name in names if isinstance(now.get(name), int)]


def _resized(matter: Matter, ready: Range, wanted: Wanted, name: str, size: int) -> InputSet:
    files = read_files(matter.bench, matter.snippet)
    smaller = wanted._replace(numbers={**wanted.numbers, name: size})
    return make_input_set(matter.bench, matter.snippet, ready.signature, smaller, files)


def _with_suspects(matter: Matter, ready: Range, verdict: Verdict, at: int) -> Verdict:
    """Add what the sanitizers and the compiler's warnings say of the lines in question."""
    told: list[str] = []
    place = verdict.place
    one = ready._replace(
        sets=[ready.sets[at]], requests=tuple((row[at],) for row in ready.requests)
    )
    build, program = matter.sanitized
    found = [] if program.why else find_undefined(program, build, one)
    if verdict.verdict == UNSTABLE and not found:
        build, program = matter.races()
        found = [] if program.why else find_undefined(program, build, one)
    for _, undefined in found:
        told.append(f"{build} finds at {undefined.place.text}: {undefined.message}")
        place = place if place != NOWHERE else undefined.place
    if not found:
        compiler, warnings = matter.warnings()
        told += suspects(warnings, ready.signature, matter.signatures, compiler)
    return verdict._replace(suspects=tuple(told), place=place)


def keep_inputs(
    store: Store, verdict: Verdict, reference_build: str, reference_entry: str, inputs: InputSet
) -> str:
    """Keep an input set in the store; return the name it goes by."""
    rows = [{**a._asdict(), "data": base64.b64encode(a.data).decode()} for a in inputs.arguments]
    document: dict[str, Any] = {
        "snippet": verdict.snippet, "entry": verdict.entry, "build": verdict.build,
        "reference_build": reference_build, "reference_entry": reference_entry,
        "label": verdict.inputs, "arguments": rows,
    }  # fmt: skip
    name = digest(json.dumps(document))[:8]
    write_json(store.folder / "again" / f"{name}.json", document)
    return name


def load_inputs(store: Store, name: str) -> dict[str, Any] | None:
    """Return what was kept under a name, its arguments as an input set; None for no such name."""
    document = read_json(store.folder / "again" / f"{name}.json") if name.isalnum() else None
    if not isinstance(document, dict):
        return None
    arguments = [
        Argument(**{**row, "data": base64.b64decode(row["data"])}) for row in document["arguments"]
    ]
    return {**document, "inputs": InputSet(Wanted({}), tuple(arguments))}
