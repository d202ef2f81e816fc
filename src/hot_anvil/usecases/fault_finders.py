"""Builds that find faults: sanitized programs, and compilers asked for every warning."""

import re
import time
from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise
from pathlib import Path

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.code.records import Function
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.toolchain.diagnostics import Diagnostic
from hot_anvil.core.toolchain.records import Cure, Toolchain
from hot_anvil.errors import AnvilError
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.system.build.linking import Program
from hot_anvil.system.check.plan import Experiments, Sanitized, Variant
from hot_anvil.system.check.reaching import Instrumented
from hot_anvil.system.process.running import run
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store, shared_store
from hot_anvil.workspace import Workspace

_STARTERS = (b"pthread_create", b"GOMP_parallel", b"__kmpc_fork_call", b"thrd_create")


_OPENMP = (b"GOMP_parallel", b"__kmpc_fork_call")
_FENCE = re.compile(r"\b(?:atomic_thread_fence|__sync_synchronize)\s*\(")
_TOLD = "__sanitizer_cov_trace_pc"
_ASKED_AGAIN = 300  # seconds after which a toolchain is asked again for what it lacked
_LANGUAGES = ("c", "c++", "fortran")  # that sanitizers watch


def starts_threads(built: Built, store: Store) -> bool:
    objects = (store.artefact(unit.artefact).object for unit in built.units)
    if built.status != COMPILED:
        return False
    return any(name in data for data in (o.read_bytes() for o in objects) for name in _STARTERS)


def blind_to_races(workspace: Workspace, snippet: Snippet, builds: Sequence[Built]) -> str:
    """Return why a race detector would report races that are none, "" where it would not."""
    compiled = [built for built in builds if built.status == COMPILED]
    objects = (workspace.store.artefact(u.artefact).object for b in compiled for u in b.units)
    if any(name in data for data in (o.read_bytes() for o in objects) for name in _OPENMP):
        return "the OpenMP runtime is not instrumented, so its hand-overs would look like races"
    texts = read_sources(workspace.bench.root, snippet.sources).values()
    if any(_FENCE.search(line) for lines in texts for line in lines):
        return "the detector does not see values handed over by fences"
    return ""


def extra_builds(
    workspace: Workspace, snippet: Snippet, flags_of: str
) -> list[tuple[Build, Toolchain]]:
    """Return builds for finding faults, one for each family, with the flags that it has for it.

    The reference's family goes first, with the reference's own flags before them.
    """
    languages = set(snippet.languages) & set(_LANGUAGES)
    if flags_of == "unset_flags" and not _all_instrumented(snippet):
        return []
    reference = workspace.plan.reference
    first = workspace.toolchain(reference)
    found: dict[str, tuple[Build, Toolchain]] = {}
    for chain in [first, *reversed(workspace.found.toolchains)]:
        if chain.family in found or chain.machines:
            continue
        flags = getattr(workspace.family(chain), flags_of)
        able = flags and chain.can["run"] and languages & set(chain.drivers)
        # What is told of reached blocks the worker takes: nothing of the compiler's is linked.
        if able and (flags_of == "reach_flags" or links_with(flags, chain, workspace.store)):
            own = reference.flags if chain.family == first.family else ()
            found[chain.family] = Build(chain.name, "", (*own, *flags)), chain
    return list(found.values())


def _all_instrumented(snippet: Snippet) -> bool:
    """Tell whether all that a snippet runs can be watched: what libraries set is not seen."""
    return snippet.languages == ("c",) and not (snippet.packages or snippet.driver)


def links_with(flags: Sequence[str], chain: Toolchain, store: Store) -> bool:
    """Tell whether a toolchain has what these flags link: sanitizers come in packages apart."""
    driver = next(iter(chain.drivers.values()))

    def attempt(work: Path) -> bool | None:
        (work / "empty.c").write_text("int main(void) { return 0; }\n")
        failed = run([driver.path, *flags, "empty.c", "-o", "empty"], work).failed
        return None if failed else True

    key = digest("links with", driver.identity, *flags)
    now = digest(key, str(int(time.time()) // _ASKED_AGAIN))  # the package may come meanwhile
    kept = shared_store(store)
    lacks = kept.derive(now, lambda _: None if kept.derive(key, attempt) else True)
    return not lacks


def extra_program(
    workspace: Workspace,
    snippet: Snippet,
    flags_of: str,
    link: Callable[[Built], Program],
    but: str = "",
) -> Sanitized:
    """Return a program that finds faults while it runs; ``link`` makes it of a build.

    ``but`` is a family that is left out. Where no library of sanitizers is, a build that stops
    without a word takes their place.
    """
    whys = []
    ways = [(flags_of, one) for one in extra_builds(workspace, snippet, flags_of)]
    if flags_of == "sanitizer_flags":
        ways += [("trap_flags", one) for one in extra_builds(workspace, snippet, "trap_flags")]
    for way, (build, chain) in ways:
        if chain.family == but:
            continue
        name = f"{chain.name} with {'traps' if way == 'trap_flags' else 'sanitizers'}"
        (built,) = workspace.compile_apart([(snippet, build)])
        if built.status != COMPILED:
            whys.append(f"{name} does not compile it: {built.why}")
            continue
        try:
            program = link(built)
        except AnvilError as error:
            program = Program("", str(error), "")
        if not program.why:
            return Sanitized(name, program, way == "trap_flags")
        whys.append(f"{name} {program.why}")
    why = next(iter(whys), "no toolchain here has sanitizers for it")
    return Sanitized("sanitizers", Program("", why, ""))


def reach_program(
    workspace: Workspace,
    snippet: Snippet,
    signatures: Sequence[Signature],
    link: Callable[[Built], Program],
) -> Instrumented:
    """Return the build that notes what it reaches, and where the entries' blocks begin."""
    for build, _ in extra_builds(workspace, snippet, "reach_flags"):
        (built,) = workspace.compile_apart([(snippet, build)])
        if built.status != COMPILED:
            continue
        try:
            program = link(built)
        except AnvilError:
            continue
        if program.why:
            continue  # clang wants its own runtime library for it
        blocks = {s.symbol: _blocks(workspace.reached(built, s.symbol)) for s in signatures}
        return Instrumented(program, blocks)
    return Instrumented(Program("", "no toolchain here notes what is reached", ""), {})


def _blocks(functions: Sequence[Function]) -> frozenset[tuple[str, int]]:
    """Return the lines behind the calls by which blocks tell that they are reached."""
    out = set()
    for function in functions:
        for one, following in pairwise(function.instructions):
            if any(_TOLD in operand for operand in one.operands) and following.line:
                out.add((following.file, following.line))
    return frozenset(out)


def experiments(workspace: Workspace, link: Callable[[Built], Program]) -> Experiments:
    """Return how builds are varied to narrow down a fault; ``link`` makes a program of one."""

    def vary(built: Built, variant: Variant) -> Program:
        flags = (*built.build.flags, *variant.flags)
        build = Build(built.build.toolchain, "", flags)
        try:
            with workspace.store.workplace() as work:
                snippet = _with_edited(built.snippet, variant.edited, work, workspace.bench.root)
                (made,) = workspace.compile_apart([(snippet, build)])
                if made.status != COMPILED:
                    return Program("", made.why, "")
                return link(made)
        except AnvilError as error:
            return Program("", str(error), "")

    def family(built: Built) -> str:
        return workspace.toolchain(built.build).family

    def cures(built: Built) -> Sequence[Cure]:
        chain = workspace.toolchain(built.build)
        return [c for c in workspace.family(chain).cures if not c.isas or chain.isa in c.isas]

    return Experiments(vary, cures, family)


def _with_edited(snippet: Snippet, edited: Mapping[str, str], folder: Path, root: str) -> Snippet:
    """Return a snippet with some sources in another text; what they include is found as before."""
    places = {}
    flags = dict(snippet.source_flags)
    for source, text in edited.items():
        place = folder / Path(source).name
        place.write_text(text)
        places[source] = str(place)
        beside = str(Path(root, source).parent)
        flags[str(place)] = (*snippet.source_flags.get(source, ()), "-iquote", beside)
    sources = tuple(places.get(source, source) for source in snippet.sources)
    return snippet._replace(sources=sources, source_flags=flags)


def all_warnings(
    workspace: Workspace, snippet: Snippet
) -> Sequence[tuple[str, Sequence[Diagnostic]]]:
    """Return what compilers warn of when they are asked for all that they can see."""
    wanted = extra_builds(workspace, snippet, "warning_flags")
    made = workspace.compile_apart([(snippet, build) for build, _ in wanted])
    return [(chain.name, built.diagnostics) for (_, chain), built in zip(wanted, made, strict=True)]
