"""One build's code by source line, and proof that our debug flag does not change it."""

from collections.abc import Collection, Sequence

from hot_anvil.core.asm.listing import list_functions
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.code.records import EMITTED, LINKED, View, find_symbols, only_functions
from hot_anvil.core.proof.records import DebugProof
from hot_anvil.core.results.code import CompilerText, Listing
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.system.build.grid import plan_jobs
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.workspace import Workspace, usecase


@usecase
def compile_builds(
    workspace: Workspace, snippets: Sequence[str] = (), builds: Sequence[str] = ()
) -> tuple[Built, ...]:
    """Return the snippets under the builds named, all of the grid when none is."""
    return workspace.compile(snippets, [workspace.build(name) for name in builds])


@usecase
def list_build(
    workspace: Workspace,
    build: str,
    snippets: Sequence[str] = (),
    entries: Collection[str] = (),
    view: View = EMITTED,
) -> tuple[Listing, ...]:
    """Return each snippet's code under one build; raises RequestError if it is refused.

    ``view`` is EMITTED or LINKED. What was made while linking has no other.
    """
    builds = workspace.compile(snippets, [workspace.build(build)])
    if not builds:
        raise RequestError(f"{build}: this build has no compiler for any source asked for.")
    codes = [workspace.code(built, view, True) for built in builds]
    symbols = find_symbols(entries, codes)
    out = []
    for built, code in zip(builds, codes, strict=True):
        shown = only_functions(code, symbols) if entries else code
        functions = list_functions(shown, read_sources(workspace.bench.root, shown.files))
        if functions or not entries:
            out.append(Listing(built, functions, shown.isa, shown.view))
    return tuple(out)


@usecase
def compiler_texts(
    workspace: Workspace, build: str, snippets: Sequence[str] = ()
) -> tuple[CompilerText, ...]:
    """Return the compiler's own text of each source under one build, untouched.

    Raises RequestError for a build that is refused, and for code that no compiler wrote as text.
    """
    builds = workspace.compile(snippets, [workspace.build(build)])
    out = []
    for built in builds:
        workspace.code(built)  # which says why where it is refused
        if built.whole:
            raise RequestError(
                f"{built.build.name}: the code of snippet {built.snippet.name} is made while "
                "linking, so there is no text of a compiler's; leave --raw out."
            )
        for unit in built.units:
            file = workspace.store.artefact(unit.artefact).text
            text = file.read_bytes().decode(errors="surrogateescape")
            out.append(CompilerText(built.snippet.name, built.build.name, unit.source, text))
    if not out:
        raise RequestError(f"{build}: this build has no compiler for any source asked for.")
    return tuple(out)


@usecase
def list_library(workspace: Workspace, build: str, function: str) -> Listing:
    """Return a library function's own code, as a build's toolchain would link it."""
    from hot_anvil.system.build.library_code import library_function

    chosen = workspace.build(build)
    chain = workspace.toolchain(chosen)
    found = library_function(function, chain, chosen.flags, workspace.store)
    titles = {f.name: f.name.partition("@")[0] for f in found.code.functions}
    functions = list_functions(found.code._replace(titles=titles), {})
    nothing = Built(workspace.bench.snippets[0], chosen, (), False)
    return Listing(nothing, functions, found.code.isa, LINKED, found.path, found.note)


@usecase
def prove_debug_flag(
    workspace: Workspace, builds: Sequence[Built]
) -> dict[tuple[str, str], DebugProof]:
    """Return whether our debug flag changes code: (snippet, build) -> proof.

    Every build that compiled is compiled once more without it.
    """
    from hot_anvil.system.build.debug_flag import prove_debug

    usable = [b for b in builds if b.status == COMPILED]
    found, store = workspace.found, workspace.store
    pairs = [(b.snippet, b.build) for b in usable]
    jobs = plan_jobs(pairs, found.toolchains, found.families, store.root)

    def prove(built: Built) -> DebugProof:
        own = (built.snippet.name, built.build.name)
        mine = {key[1]: job for key, job in jobs.items() if (key[0], key[2]) == own}
        return prove_debug(built, mine, store)

    with thread_pool(workspace.scope.limits.at_once) as pool:
        proofs = list(pool.map(prove, usable))
    keys = [(b.snippet.name, b.build.name) for b in usable]
    return dict(zip(keys, proofs, strict=True))
