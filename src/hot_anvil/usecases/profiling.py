"""Builds that are compiled with what a run of the bench's inputs showed."""

from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.build.builds import Build, Plan
from hot_anvil.core.build.records import COMPILED, Built, refused_unit
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.inputs.input_sets import make_input_set
from hot_anvil.core.inputs.spec import InputSpec, sweep_points
from hot_anvil.core.names import listed
from hot_anvil.core.toolchain.records import Profiling, Toolchain
from hot_anvil.core.verify.options import CALL_SECONDS
from hot_anvil.errors import AnvilError, RequestError
from hot_anvil.system.build.grid import compile_grid
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.native_tools import native_tool
from hot_anvil.system.check.checking import read_files
from hot_anvil.system.execute.calls import PreparedInputs, prepare_inputs
from hot_anvil.system.execute.training import train
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store
from hot_anvil.usecases.entries import find_callable
from hot_anvil.usecases.linking import link_builds
from hot_anvil.workspace import Memo, Workspace

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
    flags = (*build.flags, profiling.make[0])
    made = build._replace(flags=flags, profiled=False, trial=f"{build.trial} counting".strip())
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
    data = _counts(workspace.store, program.path, ready, profiling, chain)
    using = _with_flags(snippet, profiling.use, data)
    (built,) = compile_grid([(using, build)], found.toolchains, found.families, store)
    return built._replace(snippet=using)


def _counts(
    store: Store,
    path: str,
    ready: Sequence[PreparedInputs],
    profiling: Profiling,
    chain: Toolchain,
) -> str:
    """Return the folder with the counts of a counting build, run once on equal inputs."""
    given = (argument.data for one in ready for inputs in one.sets for argument in inputs.arguments)
    key = digest(f"counts {stage_digest('worker')}", path, *given)
    failed: list[str] = []

    def run(_work: Path) -> str | None:
        folder, why = train(path, ready, profiling, chain, store)
        failed.append(why)
        return folder or None

    folder = store.derive(key, run)
    if folder and not Path(folder).is_dir():  # somebody has tidied up
        folder = run(Path())
    if not folder:
        raise RequestError(f"its counting build: {failed[-1]}")
    return str(folder)


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
    return snippet._replace(inputs={**snippet.inputs, **snippet.training})


def compile_profiled(workspace: Workspace, snippet: Snippet, build: Build) -> Built:
    """Return a profiled build of a snippet; one that cannot be trained is refused, with the why."""
    plain = build._replace(profiled=False)
    plan = Plan((plain,), plain, plain, (), {snippet.name: (plain,)})
    bench = workspace.bench._replace(snippets=(snippet,))
    alone = workspace._replace(bench=bench, plan=plan, memo=Memo())
    try:
        if snippet.program:
            raise RequestError("a whole program is not trained here")
        signatures = find_callable(alone, snippet).signatures
        store = workspace.store
        return compile_trained(alone, snippet, build, signatures, store, CALL_SECONDS)
    except AnvilError as error:
        why = str(error).rstrip(".")
        units = tuple(refused_unit(source, why) for source in snippet.sources)
        return Built(snippet, build, units, False)


def trained_notes(builds: Sequence[Built]) -> tuple[str, ...]:
    """Say which builds are judged by the very inputs that they were trained on."""
    names = [b.build.name for b in builds if b.build.profiled and not b.snippet.training]
    if not names:
        return ()
    return (
        f"{listed(names)}: compiled with what a run of these very inputs showed; other inputs may "
        "find it slower. [snippet.training] names others to train on.",
    )
