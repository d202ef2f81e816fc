"""What is worked out of a failing candidate: a tally, a small input set, suspicious lines."""

import base64
import json
import math
from typing import Any

from hot_anvil.core.arch import semantics_of
from hot_anvil.core.arch.semantics import FMA
from hot_anvil.core.build.records import Built
from hot_anvil.core.config.edge_kinds import SIZES
from hot_anvil.core.inputs.edges import size_names
from hot_anvil.core.inputs.input_sets import Argument, InputSet, make_input_set
from hot_anvil.core.inputs.spec import InputSpec
from hot_anvil.core.verify.agreement import Error, told_inputs
from hot_anvil.core.verify.blame import Extent
from hot_anvil.core.verify.crash_report import NOWHERE, Place
from hot_anvil.core.verify.overlap import overlaps
from hot_anvil.core.verify.sanitizer_reports import Undefined, suspects
from hot_anvil.core.verify.verdicts import (
    CORRECT,
    CRASHED,
    HUNG,
    UNSTABLE,
    WRONG,
    Verdict,
    make_tally,
    tally_text,
)
from hot_anvil.system.build.jobs import load_code
from hot_anvil.system.check.blame import find_blame
from hot_anvil.system.check.checking import read_files, verdict_of
from hot_anvil.system.check.plan import CheckPlan, Evaluated, Oracle
from hot_anvil.system.check.sanitizing import find_undefined
from hot_anvil.system.check.shrinking import Caller, Side, smallest_failing
from hot_anvil.system.execute.calls import PreparedInputs, run_tally
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.seals import read_sealed, write_sealed
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store

# Flags under which float arithmetic need not be what the source says.
_LOOSE_FLAGS = ("-ffast-math", "-Ofast", "-funsafe-math-optimizations", "-fassociative-math",
                "-ffinite-math-only", "-freciprocal-math")  # fmt: skip
_FEW_ULP = 64  # an error of more is told by its size
_TALLY_CALLS = 60  # of a candidate that two runs showed to be unstable
_PROCESSES = 6


def follow_up(
    plan: CheckPlan, ready: PreparedInputs, oracle: Oracle, evaluated: Evaluated
) -> Verdict:
    """Return the verdict on a candidate with all that helps to mend it."""
    verdict = verdict_of(plan, ready, evaluated)
    program = plan.programs.get(evaluated.built.build.name)
    if program is None or program.why:
        return verdict
    at = evaluated.finding.at
    if verdict.verdict == CORRECT and plan.repeat > 2:
        verdict, at = _repeated(plan, ready, verdict, program.path)
    elif verdict.verdict == UNSTABLE:
        calls = max(plan.repeat, _TALLY_CALLS)
        verdict = _with_tally(verdict, program.path, ready, at, calls)
    if verdict.verdict in (WRONG, CRASHED, HUNG, UNSTABLE) and at >= 0:
        verdict = _explained(plan, ready, oracle, verdict, evaluated, (program.path, at))
    return verdict


def _explained(
    plan: CheckPlan,
    ready: PreparedInputs,
    oracle: Oracle,
    verdict: Verdict,
    evaluated: Evaluated,
    shown: tuple[str, int],
) -> Verdict:
    """Add a small input set and suspicious lines; the same failure is not explained twice."""
    path, at = shown
    layout = evaluated.finding.layout

    def explain(_: object) -> list[Any]:
        small = _made_small(plan, ready, oracle, verdict, path, (at, layout))
        told = _with_suspects(plan, ready, oracle, small, evaluated, at)
        return [
            told.smallest, told.smallest_why, told.replay, told.suspects, told.place, told.between
        ]  # fmt: skip

    why = "" if verdict.tally else verdict.why
    programs = path, oracle.path, plan.sanitized.program.path, plan.tools
    key = digest(
        f"failure {at} {layout} {verdict.verdict} {plan.snippet}", stage_digest("check"), why,
        *programs,
        *ready.requests[layout][at],
    )  # fmt: skip
    smallest, small_why, replay, suspicious, place, between = plan.store.derive(key, explain)
    return verdict._replace(
        smallest=tuple((name, value) for name, value in smallest),
        smallest_why=small_why,
        replay=replay,
        suspects=tuple(suspicious),
        place=Place(*place),
        between=Extent(*between) if between else None,
    )


def _repeated(
    plan: CheckPlan, ready: PreparedInputs, verdict: Verdict, path: str
) -> tuple[Verdict, int]:
    """Call again and again on the bench's own input sets."""
    for at, inputs in enumerate(ready.sets):
        if inputs.spec.edge:
            continue
        counted = run_tally(path, ready, at, plan.repeat, _PROCESSES)
        tally = make_tally(counted, ready.signature, inputs)
        if len(tally) > 1:
            changed = verdict._replace(
                verdict=UNSTABLE, why=tally_text(tally), inputs=inputs.label, tally=tally
            )
            return changed, at
    return verdict, -1


def _with_tally(verdict: Verdict, path: str, ready: PreparedInputs, at: int, calls: int) -> Verdict:
    counted = run_tally(path, ready, at, calls, _PROCESSES)
    tally = make_tally(counted, ready.signature, ready.sets[at])
    if len(tally) < 2:
        return verdict
    return verdict._replace(tally=tally, why=tally_text(tally))


def _made_small(
    plan: CheckPlan,
    ready: PreparedInputs,
    oracle: Oracle,
    verdict: Verdict,
    path: str,
    shown: tuple[int, int],
) -> Verdict:
    """Find a small input set that shows the fault, and keep it for another time."""
    at, layout = shown
    inputs = ready.sets[at]
    side = Side(path, ready.entry, ready.signature, layout, ready.variables)
    small, why = inputs, ""
    if verdict.verdict in (WRONG, CRASHED) and inputs.spec.case < 0 and oracle.path:
        root, seconds = plan.bench.root, plan.call_seconds
        files = read_files(plan.bench, plan.snippet)
        small, why = smallest_failing(
            inputs,
            verdict.verdict,
            Caller(
                Side(oracle.path, oracle.entry, oracle.signature, 0, ready.variables), root, seconds
            ),
            Caller(side, root, seconds),
            lambda name, size: make_input_set(
                plan.bench,
                plan.snippet,
                ready.signature,
                inputs.spec._replace(numbers={**inputs.spec.numbers, name: size}),
                files,
            ),
            _sizes(plan, ready, inputs.spec),
            plan.snippet.tolerance,
        )
    against = plan.reference_build, oracle.signature.name
    replay = keep_inputs(plan.store, verdict, *against, small, layout)
    return verdict._replace(
        smallest=tuple(told_inputs(small, ready.signature)), smallest_why=why, replay=replay
    )


def _sizes(plan: CheckPlan, ready: PreparedInputs, wanted: InputSpec) -> list[tuple[str, int]]:
    """Return the sizes that may be made smaller: what the bench does not rule out."""
    ruled_out = {*SIZES, "all"} & set(plan.snippet.not_promised)
    if ruled_out:
        return []
    now = {**plan.snippet.inputs, **wanted.point, **wanted.numbers}
    names = size_names(plan.snippet, [ready.signature])
    return [(name, now[name]) for name in names if isinstance(now.get(name), int)]


def _with_suspects(
    plan: CheckPlan,
    ready: PreparedInputs,
    oracle: Oracle,
    verdict: Verdict,
    evaluated: Evaluated,
    at: int,
) -> Verdict:
    """Add what the sanitizers and the compiler's warnings say of the lines in question."""
    told: list[str] = []
    place = verdict.place
    one = ready.only([at])
    finders = [lambda: plan.sanitized, plan.second, plan.unset]
    finders += [plan.races] if verdict.verdict == UNSTABLE else []
    found: list[tuple[int, Undefined]] = []
    for finder in finders:
        sanitized = finder()
        if not found and not sanitized.program.why:
            found = find_undefined(sanitized, one, plan.store)
    for _, undefined in found:
        told.append(f"{undefined.build} finds at {undefined.place.text}: {undefined.message}")
        place = place if place != NOWHERE else undefined.place
    told += [f"{u.place.text}: {u.message}" for u in overlaps(ready.signature, ready.sets[at])]
    for compiler, warnings in () if found else plan.warnings():
        told += suspects(warnings, ready.signature, plan.signatures, compiler)
        if told:
            break
    told += _float_flags(plan, evaluated)
    between = None
    if verdict.verdict == WRONG and place == NOWHERE and oracle.path:
        blame = find_blame(plan, ready, oracle, evaluated, at, bool(found))
        told, place, between = [*told, *blame.told], blame.place, blame.between
    between = between if place == NOWHERE else None
    return verdict._replace(suspects=tuple(told), place=place, between=between)


def _float_flags(plan: CheckPlan, evaluated: Evaluated) -> list[str]:
    """Say what lets floats of a build come out otherwise than the reference's."""
    error = evaluated.finding.error
    if evaluated.finding.verdict != WRONG or error is None:
        return []
    flags = [flag for flag in evaluated.built.build.flags if flag in _LOOSE_FLAGS]
    if flags:
        loose = f"{' '.join(flags)} lets the compiler change float arithmetic, and leave out NaN"
        return [f"{loose}; what may differ is said in the bench: {_tolerating(error)}"]
    reference = next(b for b in plan.builds if b.build.name == plan.reference_build)
    if fuses(evaluated.built, plan.store) and not fuses(reference, plan.store):
        return [
            "its code multiplies and adds in one step, which rounds once: -ffp-contract=off "
            f"forbids it, or the bench says what may differ: {_tolerating(error)}"
        ]
    return []


def _tolerating(error: Error) -> str:
    """Return a tolerance that would let an error pass, as a bench writes it."""
    if error.ulp <= _FEW_ULP:
        return f"tolerance = {{ ulp = {math.ceil(error.ulp)} }}"
    if not math.isfinite(error.absolute):
        return "no tolerance covers NaN or infinity against a number"
    unit = 10.0 ** math.floor(math.log10(error.absolute))
    return f"tolerance = {{ absolute = {math.ceil(error.absolute / unit) * unit:.0e} }}"


def fuses(built: Built, store: Store) -> bool:
    """Tell whether a build's code has instructions that multiply and add at once."""
    codes = (load_code(unit, store) for unit in built.shown)
    return any(
        semantics_of(code.isa).effect(i.mnemonic, i.operands).kind == FMA
        for code in codes
        for function in code.functions
        for i in function.instructions
    )


def keep_inputs(
    store: Store,
    verdict: Verdict,
    reference_build: str,
    reference_entry: str,
    inputs: InputSet,
    layout: int,
) -> str:
    """Keep an input set in the store; return the name it goes by."""
    rows = [{**a._asdict(), "data": base64.b64encode(a.data).decode()} for a in inputs.arguments]
    document: dict[str, Any] = {
        "snippet": verdict.snippet, "entry": verdict.entry, "build": verdict.build,
        "reference_build": reference_build, "reference_entry": reference_entry,
        "label": verdict.inputs, "arguments": rows, "layout": layout,
    }  # fmt: skip
    name = digest(json.dumps(document))[:8]
    write_sealed(store.folder / "replays" / f"{name}.json", document)
    return name


def load_inputs(store: Store, name: str) -> dict[str, Any] | None:
    """Return what was kept under a name, its arguments as an input set; None for no such name."""
    document = read_sealed(store.folder / "replays" / f"{name}.json") if name.isalnum() else None
    if not isinstance(document, dict):
        return None
    arguments = [
        Argument(**{**row, "data": base64.b64decode(row["data"])}) for row in document["arguments"]
    ]
    return {**document, "inputs": InputSet(InputSpec({}), tuple(arguments))}
