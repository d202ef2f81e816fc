"""The workshop's checking: which builds compute the right thing, what is wrong with others."""

from collections.abc import Callable, Sequence
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.config.records import Snippet, find_snippets
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.toolchain.diagnostics import Diagnostic
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.core.verify.agreement import told_inputs, told_output
from hot_anvil.errors import AnvilError, RequestError
from hot_anvil.system.build.grid import compile_grid
from hot_anvil.system.build.linking import Program
from hot_anvil.system.check.checking import Matter, Sanitized, check_snippet, written_elsewhere
from hot_anvil.system.check.follow_up import follow_up, load_inputs
from hot_anvil.system.check.shrinking import Caller, Side, difference, for_rival
from hot_anvil.system.process.running import run
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store
from hot_anvil.usecases.entries import family_of, find_callable

if TYPE_CHECKING:
    from hot_anvil.api import Workshop
    from hot_anvil.core.measure.results import Again, Checked

_STARTERS = (b"pthread_create", b"GOMP_parallel", b"__kmpc_fork_call", b"thrd_create")
_LANGUAGES = ("c", "c++", "fortran")  # that sanitizers watch


def check_snippets(
    workshop: "Workshop", snippets: Sequence[str], call_seconds: float, repeat: int
) -> tuple["Checked", ...]:
    """Judge every candidate of the snippets against the reference."""
    workshop.store.sweep()  # what a check that was killed left
    workshop.compile(snippets)  # all at once: that keeps every core busy
    chosen = find_snippets(workshop.bench, snippets)
    functions = [snippet for snippet in chosen if not snippet.program]
    with thread_pool() as pool:  # the same for linking
        made = pool.map(lambda s: make_matter(workshop, s, call_seconds, repeat), functions)
        matters = {snippet.name: matter for snippet, matter in zip(functions, made, strict=True)}
    out = []
    for snippet in chosen:
        if snippet.program:
            from hot_anvil.usecases.programs import check_program

            checked = check_program(workshop, snippet, call_seconds, repeat)
        else:
            matter, notes = matters[snippet.name]
            checked = check_snippet(matter, follow_up)
            checked = checked._replace(notes=notes, starts_threads=matter.threaded)
        rows = [v._asdict() for v in checked.verdicts]
        workshop.store.record("check", snippet.name, rows)
        out.append(checked)
    return tuple(out)


def make_matter(
    workshop: "Workshop", snippet: Snippet, call_seconds: float, repeat: int
) -> tuple[Matter, tuple[str, ...]]:
    """Return all that checking a snippet needs, and notes on what is left out."""
    builds = workshop.compile([snippet.name])
    entries = find_callable(workshop, snippet)
    programs = workshop.link(builds, entries.signatures, 0)
    reference = reference_of(workshop, snippet, builds, entries.signatures)

    @cache
    def warnings() -> Sequence[tuple[str, Sequence[Diagnostic]]]:
        return _warnings(workshop, snippet)

    def link(built: Built) -> Program:
        return workshop.link([built], entries.signatures, 0)[built.build.name]

    @cache
    def races() -> Sanitized:
        return extra_program(workshop, snippet, "race_flags", link)

    matter = Matter(
        workshop.bench,
        snippet,
        reference,
        entries.signatures,
        builds,
        programs,
        extra_program(workshop, snippet, "sanitizer_flags", link),
        warnings,
        races,
        digest(*(d.identity for c in workshop.found.toolchains for d in c.drivers.values())),
        any(starts_threads(built, workshop.store) for built in builds),
        workshop.store,
        call_seconds,
        repeat,
        workshop.progress,
    )
    return matter, entries.notes


def starts_threads(built: Built, store: Store) -> bool:
    objects = (store.artefact(unit.artefact) / "code.o" for unit in built.units)
    if built.status != COMPILED:
        return False
    return any(name in data for data in (o.read_bytes() for o in objects) for name in _STARTERS)


def reference_of(
    workshop: "Workshop",
    snippet: Snippet,
    builds: Sequence[Built],
    signatures: Sequence[Signature],
) -> str:
    """Return the reference build of a snippet: the bench's, or the first that has the entry."""
    name = snippet.reference or signatures[0].name
    entry = next((s for s in signatures if s.name == name), signatures[0])
    able = [b.build for b in builds if not written_elsewhere(b, entry)]
    if workshop.plan.reference in able or not able:
        return workshop.plan.reference.name
    return able[0].name


def extra_builds(
    workshop: "Workshop", snippet: Snippet, flags_of: str
) -> list[tuple[Build, Toolchain]]:
    """Return builds for finding faults, one for each family, with the flags that it has for it.

    The reference's family goes first, with the reference's own flags before them.
    """
    languages = set(snippet.languages) & set(_LANGUAGES)
    reference = workshop.plan.reference
    first = workshop.toolchain(reference)
    found: dict[str, tuple[Build, Toolchain]] = {}
    for chain in [first, *reversed(workshop.found.toolchains)]:
        if chain.family in found:
            continue
        flags = getattr(family_of(workshop, chain), flags_of)
        able = flags and chain.can["run"] and languages & set(chain.drivers)
        if able and links_with(flags, chain, workshop.store):
            own = reference.flags if chain.family == first.family else ()
            found[chain.family] = Build(chain.name, "", (*own, *flags)), chain
    return list(found.values())


def links_with(flags: Sequence[str], chain: Toolchain, store: Store) -> bool:
    """Tell whether a toolchain has what these flags link: sanitizers come in packages apart."""
    driver = next(iter(chain.drivers.values()))

    def attempt(work: Path) -> bool:
        (work / "empty.c").write_text("int main(void) { return 0; }\n")
        return not run([driver.path, *flags, "empty.c", "-o", "empty"], work).failed

    return bool(store.derive(digest("links with", driver.identity, *flags), attempt))


def extra_program(
    workshop: "Workshop", snippet: Snippet, flags_of: str, link: Callable[[Built], Program]
) -> Sanitized:
    """Return a program that finds faults while it runs; ``link`` makes it of a build."""
    whys = []
    known = workshop.found.toolchains, workshop.found.families
    for build, chain in extra_builds(workshop, snippet, flags_of):
        name = f"{chain.name} with sanitizers"
        (built,) = compile_grid([(snippet, build)], *known, workshop.store)
        if built.status != COMPILED:
            whys.append(f"{name} does not compile it: {built.why}")
            continue
        try:
            program = link(built)
        except AnvilError as error:
            program = Program("", str(error), "")
        if not program.why:
            return Sanitized(name, program)
        whys.append(f"{name} {program.why}")
    why = next(iter(whys), "no toolchain here has sanitizers for it")
    return Sanitized("sanitizers", Program("", why, ""))


def _warnings(workshop: "Workshop", snippet: Snippet) -> Sequence[tuple[str, Sequence[Diagnostic]]]:
    """Return what compilers warn of when they are asked for all that they can see."""
    wanted = extra_builds(workshop, snippet, "warning_flags")
    known = workshop.found.toolchains, workshop.found.families
    pairs = [(snippet, build) for build, _ in wanted]
    made = compile_grid(pairs, *known, workshop.store)
    return [(chain.name, built.diagnostics) for (_, chain), built in zip(wanted, made, strict=True)]


def check_again(workshop: "Workshop", name: str, call_seconds: float) -> "Again":
    """Call a candidate and the reference once more on an input set that was kept."""
    from hot_anvil.core.measure.results import Again
    from hot_anvil.core.verify.verdicts import CORRECT, candidate_name

    kept = load_inputs(workshop.store, name)
    if kept is None:
        raise RequestError(
            f"{workshop.store.folder}: no input set is kept under '{name}'. 'hot-anvil check' "
            "keeps one for each candidate that fails, and names it."
        )
    (snippet,) = find_snippets(workshop.bench, [kept["snippet"]])
    wanted = [workshop.build(kept[key]) for key in ("build", "reference_build")]
    builds = workshop.compile([snippet.name], wanted)
    signatures = find_callable(workshop, snippet).signatures
    entries = {signature.name: number for number, signature in enumerate(signatures)}
    programs = workshop.link(builds, signatures, 0)
    callers = []
    for entry, build in ((kept["reference_entry"], wanted[1]), (kept["entry"], wanted[0])):
        program = programs.get(build.name)
        if entry not in entries or program is None or program.why:
            why = program.why if program and program.why else "the bench has changed since"
            raise RequestError(f"{entry}@{build.name} cannot be called again: {why}.")
        side = Side(program.path, entries[entry], signatures[entries[entry]], kept["way"])
        callers.append(Caller(side, workshop.bench.root, call_seconds))
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
    return Again(
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
            f"{signature.name} takes other parameters now than when '{name}' was kept: run "
            "'hot-anvil check' again."
        )
