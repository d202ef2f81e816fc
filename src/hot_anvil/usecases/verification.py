"""The workspace's checking: which builds compute the right thing, what is wrong with others."""

import os
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from functools import cache, partial
from typing import TypeVar

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.records import REFUSED, Built
from hot_anvil.core.code.places import spanned_lines
from hot_anvil.core.config.records import Snippet, find_snippets
from hot_anvil.core.inputs.constants import floats_in_source, in_code, in_source, with_neighbours
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.toolchain.diagnostics import Diagnostic
from hot_anvil.core.verify.agreement import told_inputs, told_output
from hot_anvil.core.verify.options import DEFAULTS, CheckOptions
from hot_anvil.core.verify.promises import Promise, near_code, promises_in
from hot_anvil.core.verify.results import Checked, Replay
from hot_anvil.core.verify.sanitizer_reports import looks_undefined, unseen
from hot_anvil.errors import (
    AnvilError,
    FaultError,
    MissingError,
    RequestError,
    machine_trouble,
)
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.system.build.linking import Program
from hot_anvil.system.check.checking import check_snippet, written_elsewhere
from hot_anvil.system.check.follow_up import follow_up, load_inputs
from hot_anvil.system.check.plan import CheckPlan, Sanitized
from hot_anvil.system.check.shrinking import Caller, Side, difference, for_rival
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.system.store.files import digest
from hot_anvil.usecases.between_files import disagreements, with_disagreements
from hot_anvil.usecases.entries import find_callable, lasting_variables
from hot_anvil.usecases.fault_finders import (
    all_warnings,
    blind_to_races,
    experiments,
    extra_program,
    reach_program,
    starts_threads,
)
from hot_anvil.usecases.folded import folded_notes
from hot_anvil.usecases.kernels import is_kernels
from hot_anvil.usecases.linking import link_builds
from hot_anvil.usecases.profiling import trained_notes
from hot_anvil.workspace import Workspace, in_turn, usecase

T = TypeVar("T")


@usecase
def check_snippets(
    workspace: Workspace,
    snippets: Sequence[str] = (),
    options: CheckOptions = DEFAULTS,
) -> tuple["Checked", ...]:
    """Judge every candidate of the snippets against the reference.

    What one snippet fails at is its ``fault``; the others are checked all
    the same. Raises it where there is no other.
    """
    workspace.store.sweep()  # what a check that was killed left
    chosen = find_snippets(workspace.bench, snippets)
    with suppress(AnvilError):  # whose it is shows when each is compiled by itself
        workspace.compile(snippets)  # all at once: that keeps every core busy
    functions = [s for s in chosen if not s.program and not is_kernels(s)]

    def plan_of(snippet: Snippet) -> "_Planned | AnvilError":
        return _attempt(snippet, lambda: make_plan(workspace, snippet, options))

    with thread_pool() as pool:  # the same for linking
        plans = dict(zip((s.name for s in functions), pool.map(plan_of, functions), strict=True))

    def check(snippet: Snippet) -> Checked:
        builds = workspace.compile([snippet.name])
        between = disagreements(workspace, snippet, builds)
        checked = _check(snippet)
        return with_disagreements(workspace, checked, between) if between else checked

    def _check(snippet: Snippet) -> Checked:
        if snippet.program:
            from hot_anvil.usecases.programs import check_program

            return check_program(workspace, snippet, options)
        if is_kernels(snippet):
            from hot_anvil.usecases.kernel_checks import check_kernels

            return check_kernels(workspace, snippet, options)
        planned = plans[snippet.name]
        if isinstance(planned, AnvilError):
            raise planned
        plan, notes = planned
        executor = workspace.executor
        known = executor.known.get(snippet.name) if executor else None
        checked = known or check_snippet(plan, follow_up)
        if executor:
            checked = executor.check(plan, checked)
        if plan.blind:
            notes = (*notes, f"races were not looked for: {plan.blind}.")
        return checked._replace(notes=notes, starts_threads=plan.threaded)

    def result(snippet: Snippet) -> Checked:
        checked = _attempt(snippet, partial(check, snippet))
        if isinstance(checked, AnvilError):
            return Checked(snippet, (), "", (), fault=checked)
        if not workspace.executor:
            rows = [v._asdict() for v in checked.verdicts]
            workspace.store.results.add("check", snippet.name, rows)
        return checked

    # Elsewhere each snippet is checked by one machine: as many at once as there are.
    out = in_turn(workspace, result, chosen, workspace.executor.count if workspace.executor else 1)
    faults = [checked.fault for checked in out if checked.fault]
    if faults and len(faults) == len(out):
        raise faults[0]
    return tuple(out)


_Planned = tuple[CheckPlan, tuple[str, ...]]


def _attempt(snippet: Snippet, work: Callable[[], T]) -> "T | AnvilError":
    """Return what ``work`` does, or what it fails at, told of its snippet."""
    try:
        return work()
    except AnvilError as error:
        return error
    except Exception as error:
        trouble = machine_trouble(error)
        if trouble and isinstance(error, OSError):
            raise  # every other snippet would meet it too
        if trouble:
            return MissingError(f"snippet {snippet.name}: {trouble}")
        if "HOT_ANVIL_TRACEBACK" in os.environ:
            raise
        return FaultError(f"snippet {snippet.name}: {type(error).__name__}: {error}.")


def make_plan(
    workspace: Workspace, snippet: Snippet, options: CheckOptions
) -> tuple[CheckPlan, tuple[str, ...]]:
    """Return all that checking a snippet needs, and notes on what is left out."""
    builds = workspace.compile([snippet.name])
    entries = find_callable(workspace, snippet)
    programs = link_builds(workspace, builds, entries.signatures, 0)
    reference = reference_of(workspace, snippet, builds, entries.signatures)

    @cache
    def warnings() -> Sequence[tuple[str, Sequence[Diagnostic]]]:
        return all_warnings(workspace, snippet)

    def link(built: Built) -> Program:
        return link_builds(workspace, [built], entries.signatures, 0)[built.build.name]

    @cache
    def races() -> Sanitized:
        return extra_program(workspace, snippet, "race_flags", link)

    @cache
    def second() -> Sanitized:
        own = workspace.toolchain(workspace.plan.reference).family
        return extra_program(workspace, snippet, "trap_flags", link, but=own)

    @cache
    def unset() -> Sanitized:
        return extra_program(workspace, snippet, "unset_flags", link)

    sources = read_sources(workspace.bench.root, snippet.sources)
    threaded = any(starts_threads(built, workspace.store) for built in builds)
    plan = CheckPlan(
        workspace.bench,
        snippet,
        reference,
        entries.signatures,
        builds,
        programs,
        extra_program(workspace, snippet, "sanitizer_flags", link),
        warnings,
        races,
        second,
        unset,
        lambda: reach_program(workspace, snippet, entries.signatures, link),
        experiments(workspace, link),
        digest(*(d.identity for c in workspace.found.toolchains for d in c.drivers.values())),
        threaded,
        blind_to_races(workspace, snippet, builds) if threaded else "",
        workspace.store,
        options,
        workspace.progress,
        lasting_variables(workspace, snippet),
        _constants(workspace, sources, builds, entries.signatures),
        _promises(workspace, sources, builds, entries.signatures),
    )
    direct = [s for s in entries.signatures if not s.through]
    texts = "\n".join(line for lines in sources.values() for line in lines)
    asked = warnings() if looks_undefined(texts) else ()
    warned = dict.fromkeys(told for by, found in asked for told in unseen(found, by))
    notes = (*entries.notes, *warned, *folded_notes(workspace, builds, direct))
    return plan, (*notes, *trained_notes(builds))


def _promises(
    workspace: Workspace,
    sources: Mapping[str, Sequence[str]],
    builds: Sequence[Built],
    signatures: Sequence[Signature],
) -> tuple[Promise, ...]:
    """Return the promises of the sources that stand at code which the entries reach."""
    found = [one for file, lines in sources.items() for one in promises_in(file, lines)]
    own = next((built for built in builds if built.status != REFUSED), None)
    if not found or own is None:
        return ()
    reached = [f for s in signatures for f in workspace.reached(own, s.symbol)]
    return near_code(found, spanned_lines(reached))


def _constants(
    workspace: Workspace,
    sources: Mapping[str, Sequence[str]],
    builds: Sequence[Built],
    signatures: Sequence[Signature],
) -> tuple[int | float, ...]:
    """Return the numbers that an entry compares with, in any build or as the source writes them."""
    found: list[int | float] = []
    spanned: set[tuple[str, int]] = set()
    for built in builds:
        if built.status == REFUSED:
            continue
        isa = workspace.toolchain(built.build).isa
        for signature in signatures:
            reached = workspace.reached(built, signature.symbol)
            found += in_code(reached, isa)
            spanned |= spanned_lines(reached)
    for file, lines in sources.items():
        own = [line for number, line in enumerate(lines, 1) if (file, number) in spanned]
        text = "\n".join(own)
        found += [*in_source(text), *floats_in_source(text)]
    return with_neighbours(found)


def reference_of(
    workspace: Workspace,
    snippet: Snippet,
    builds: Sequence[Built],
    signatures: Sequence[Signature],
) -> str:
    """Return the reference build of a snippet: the bench's, or the first that has the entry."""
    name = snippet.reference or signatures[0].name
    entry = next((s for s in signatures if s.name == name), signatures[0])
    able = [b.build for b in builds if not written_elsewhere(b, entry)]
    if workspace.plan.reference in able or not able:
        return workspace.plan.reference.name
    return able[0].name


@usecase
def replay_call(workspace: Workspace, name: str, call_seconds: float) -> "Replay":
    """Call a candidate and the reference once more on an input set that was kept."""
    from hot_anvil.core.verify.verdicts import CORRECT, candidate_name

    kept = load_inputs(workspace.store, name)
    if kept is None:
        raise RequestError(
            f"{workspace.store.folder}: no input set is kept under '{name}'. A check keeps one "
            "for each candidate that fails, and names it."
        )
    (snippet,) = find_snippets(workspace.bench, [kept["snippet"]])
    wanted = [workspace.build(kept[key]) for key in ("build", "reference_build")]
    builds = workspace.compile([snippet.name], wanted)
    signatures = find_callable(workspace, snippet).signatures
    entries = {signature.name: number for number, signature in enumerate(signatures)}
    programs = link_builds(workspace, builds, signatures, 0)
    callers = []
    for entry, build in ((kept["reference_entry"], wanted[1]), (kept["entry"], wanted[0])):
        program = programs.get(build.name)
        if entry not in entries or program is None or program.why:
            why = program.why if program and program.why else "the bench has changed since"
            raise RequestError(f"{entry}@{build.name} cannot be called again: {why}.")
        side = Side(
            program.path, entries[entry], signatures[entries[entry]], kept["layout"],
            lasting_variables(workspace, snippet),
        )  # fmt: skip
        callers.append(Caller(side, workspace.bench.root, call_seconds))
    reference, candidate = callers
    inputs = kept["inputs"]
    _must_fit(inputs, candidate.side.signature, name)
    try:
        verdict, why, place = difference(reference, candidate, inputs, snippet.tolerance)
        other = for_rival(inputs, candidate.side.signature, reference.side.signature)
        expected = _told(reference, other) if other else ""
        got = _told(candidate, inputs)
    finally:
        reference.close()
        candidate.close()
    alone = len(entries) == 1 and len(snippet.entries) < 2
    return Replay(
        snippet,
        candidate_name(kept["entry"], kept["build"], alone),
        candidate_name(kept["reference_entry"], kept["reference_build"], alone),
        kept["label"],
        tuple(told_inputs(inputs, candidate.side.signature)),
        expected,
        got,
        verdict or CORRECT,
        why,
        place,
    )


def _told(caller: Caller, inputs: InputSet) -> str:
    output = caller.call(inputs).output
    return told_output(output, caller.side.signature, inputs) if output else ""


def _must_fit(inputs: InputSet, signature: Signature, name: str) -> None:
    """Raise RequestError where a kept input set is of another interface."""
    given = [(a.name, len(a.data)) for a in inputs.arguments if a.kind == "scalar"]
    taken = [(p.name, p.type.size) for p in signature.parameters if p.type.kind != "pointer"]
    names = [p.name for p in signature.parameters]
    if given != taken or names != [a.name for a in inputs.arguments]:
        raise RequestError(
            f"{signature.name} takes other parameters now than when '{name}' was kept: check "
            "it anew."
        )
