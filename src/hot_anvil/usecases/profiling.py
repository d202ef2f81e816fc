"""Builds that are compiled with what a run of the bench's inputs showed."""

from collections.abc import Sequence

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.inputs.input_sets import make_input_set
from hot_anvil.core.inputs.spec import InputSpec, sweep_points
from hot_anvil.core.toolchain.records import Profiling
from hot_anvil.errors import RequestError
from hot_anvil.system.build.grid import compile_grid
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.native_tools import native_tool
from hot_anvil.system.check.checking import read_files
from hot_anvil.system.execute.calls import prepare_inputs
from hot_anvil.system.execute.training import train
from hot_anvil.system.store.store import Store
from hot_anvil.usecases.linking import link_builds
from hot_anvil.workspace import Workspace

_DEFINE = {"gnu": "-DPROFILE_GNU", "llvm": "-DPROFILE_LLVM"}


def compile_trained(
    workspace: Workspace,
    snippet: Snippet,
    build: Build,
    signatures: Sequence[Signature],
    store: Store,
    call_seconds: float,
) -> Built:
    """Return a build of a snippet, compiled with the counts of a run on the bench's inputs.

    ``store`` compiles, in the bench's folder or a copy of it. Raises RequestError with the reason
    where it cannot be had.
    """
    chain = workspace.toolchain(build)
    profiling = workspace.family(chain).profiling
    if profiling is None or not chain.can["run"]:
        raise RequestError(f"{chain.name}: nothing is known here of compiling with profiles.")
    counting = _with_flags(snippet, profiling.make, "")
    found = workspace.found
    made = build._replace(flags=(*build.flags, profiling.make[0]), trial=f"{build.trial} counting")
    host = host_toolchain(found.toolchains)
    tool, why = native_tool(
        host, workspace.store, ("profile.c",), "profile.o", ("-c", _DEFINE[profiling.form])
    )
    if why:
        raise RequestError(f"{host.name} does not compile what leaves the counts: {why}")
    linked = ("-Wl,--wrap=_exit", str(tool.folder / "profile.o"), *counting.link_flags)
    counting = counting._replace(link_flags=linked)
    (built,) = compile_grid([(counting, made)], found.toolchains, found.families, store)
    if built.status != COMPILED:
        raise RequestError(f"it does not compile to count: {built.why}")
    program = link_builds(workspace, [built], signatures, 0)[made.name]
    if program.why:
        raise RequestError(f"its counting build {program.why}")
    files = read_files(workspace.bench, snippet)
    ready = []
    for number, signature in enumerate(signatures):
        sets = [
            make_input_set(workspace.bench, _trained_on(snippet), signature, InputSpec(p), files)
            for p in sweep_points(snippet)
        ]
        root = workspace.bench.root
        ready.append(prepare_inputs(number, signature, sets, root, call_seconds))
    data, why = train(program.path, ready, profiling, chain, workspace.store)
    if why:
        raise RequestError(f"its counting build: {why}")
    using = _with_flags(snippet, profiling.use, data)
    (built,) = compile_grid([(using, build)], found.toolchains, found.families, store)
    return built._replace(snippet=using)


def _with_flags(snippet: Snippet, flags: Sequence[str], data: str) -> Snippet:
    """Return a snippet each source of which has the flags, filled in."""
    own = {
        source: (
            *snippet.source_flags.get(source, ()),
            *(f.replace("{data}", data).replace("{unit}", f"unit{k}") for f in flags),
        )
        for k, source in enumerate(snippet.sources)
    }
    return snippet._replace(source_flags=own)


def _trained_on(snippet: Snippet) -> Snippet:
    """Return a snippet with the inputs that it is to be trained on."""
    return snippet


def can_train(workspace: Workspace, build: Build) -> Profiling | None:
    """Return how a build's compiler is trained, None where it cannot be."""
    chain = workspace.toolchain(build)
    return workspace.family(chain).profiling if chain.can["run"] else None
