"""The workspace's launches of kernels: what they did, which block ran where, what a thread did."""

from collections.abc import Sequence
from math import prod
from typing import NamedTuple

from hot_anvil.core.arch.ptx import ISA
from hot_anvil.core.arch.ptx.device.device import Launched
from hot_anvil.core.arch.ptx.device.schedule import SPREAD, WARP, Device, Scheduler
from hot_anvil.core.arch.ptx.device.watching import Watch
from hot_anvil.core.build.records import COMPILED
from hot_anvil.core.config.records import Snippet, find_snippets
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.inputs.spec import spec_of_size
from hot_anvil.core.kernels.assembler import Resources
from hot_anvil.core.kernels.occupancy import occupancy
from hot_anvil.core.kernels.records import KernelLaunch, Mapped, ThreadSteps, line_counts
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.verify.crash_report import NOWHERE, Place
from hot_anvil.core.verify.verdicts import candidate_name
from hot_anvil.errors import RequestError
from hot_anvil.system.build.kernel_assembling import machine_code_of, resources_of
from hot_anvil.usecases.comparison import side_named
from hot_anvil.usecases.kernels import (
    Came,
    Made,
    fault_text,
    is_kernels,
    launch,
    make_kernel,
    place_of,
    shape_for,
    signatures_of,
    values_for,
)
from hot_anvil.workspace import Workspace, usecase

MOST_PROCESSORS = 256


class Watched(NamedTuple):
    """Which threads of which block to follow."""

    block: int = 0
    thread: int | None = None  # None: of a warp
    warp: int | None = None
    most: int = 1_000_000  # instructions


@usecase
def launch_kernels(
    workspace: Workspace,
    names: Sequence[str],
    snippets: Sequence[str] = (),
    entries: Sequence[str] = (),
    size: str = "",
    schedulers: Sequence[Scheduler] = (SPREAD,),
    processors: int = 4,
    machine: bool = False,
) -> tuple[KernelLaunch, ...]:
    """Launch kernels under each build named, a BUILD or ENTRY@BUILD; all of them without a name.

    ``machine``: with the real machine's code. Raises RequestError where there is no such kernel,
    build or size.
    """
    if not 1 <= processors <= MOST_PROCESSORS:
        raise RequestError(
            f"--processors {processors}: the device has from 1 to {MOST_PROCESSORS} "
            "multiprocessors.", about="processors",
        )  # fmt: skip
    chosen = _chosen(workspace, names, snippets, entries)
    out = []
    for number, (snippet, made, candidate) in enumerate(chosen):
        workspace.progress(f"launching {snippet.name}", number, len(chosen))
        inputs = _inputs(workspace, snippet, made, size)
        if made.why:
            if names:
                name = f"{made.signature.name}@{made.built.build.name}"
                raise RequestError(f"{name} cannot be launched here: {made.why}.")
            out.append(_not_run(workspace, snippet, made, candidate, inputs))
            continue
        came = [
            launch(made, inputs, shape_for(workspace, snippet, made.signature, inputs),
                   Device(processors), one)
            for one in schedulers
        ]  # fmt: skip
        maps = tuple(
            Mapped(name, processors, one.launched.placements)
            for name, one in zip(schedulers, came, strict=True)
        )
        told = _told(workspace, made, candidate, inputs, came[0], maps)
        out.append(_with_machine_code(workspace, made, told) if machine else told)
    return tuple(out)


@usecase
def step_kernel(
    workspace: Workspace,
    name: str,
    snippets: Sequence[str],
    entries: Sequence[str],
    size: str,
    watched: Watched,
) -> ThreadSteps:
    """Follow one thread or one warp of a kernel under a build, BUILD or ENTRY@BUILD."""
    chosen = _chosen(workspace, [name], snippets, entries)
    if len(chosen) > 1:
        raise RequestError(
            "step follows one kernel: name one with --entry: "
            f"{listed(dict.fromkeys(made.signature.name for _, made, _ in chosen))}."
        )
    ((snippet, made, candidate),) = chosen
    if made.why:
        raise RequestError(f"{name} cannot be launched here: {made.why}.")
    inputs = _inputs(workspace, snippet, made, size)
    shape = shape_for(workspace, snippet, made.signature, inputs)
    watch = _watch(watched, prod(shape.grid), prod(shape.block))
    came = launch(made, inputs, shape, watch=watch)
    told = _told(workspace, made, candidate, inputs, came, ())
    elements = {p.name: p.type.to.size for p in made.signature.parameters if p.type.to}
    unsigned = frozenset(
        p.name for p in made.signature.parameters if p.type.to and p.type.to.kind == "uint"
    )
    buffers = tuple((n, at, size, elements.get(n, 1) or 1) for n, at, size in watch.buffers)
    return ThreadSteps(
        told, watch.block, watch.threads, made.instructions, tuple(watch.moments), watch.full,
        buffers, unsigned,
    )  # fmt: skip


def _watch(wanted: Watched, blocks: int, threads: int) -> Watch:
    if wanted.block >= blocks:
        raise RequestError(
            f"--block {wanted.block}: the launch has blocks 0 to {blocks - 1}.", about="block"
        )
    if wanted.warp is not None:
        warps = -(-threads // WARP)
        if wanted.warp >= warps:
            raise RequestError(
                f"--warp {wanted.warp}: a block has warps 0 to {warps - 1}.", about="warp"
            )
        own = range(wanted.warp * WARP, min((wanted.warp + 1) * WARP, threads))
        return Watch(wanted.block, own, wanted.most)
    thread = wanted.thread or 0
    if thread >= threads:
        raise RequestError(
            f"--thread {thread}: a block has threads 0 to {threads - 1}.", about="thread"
        )
    return Watch(wanted.block, (thread,), wanted.most)


def has_kernels(workspace: Workspace, snippets: Sequence[str], names: Sequence[str]) -> bool:
    """Tell whether what is asked for is of kernels: by the builds, or by the snippets alone."""
    chosen = find_snippets(workspace.bench, snippets)
    if not any(is_kernels(snippet) for snippet in chosen):
        return False
    if not names:
        return all(is_kernels(snippet) for snippet in chosen)
    builds = [side_named(workspace, name)[1] for name in names]
    return any(workspace.toolchain(one).isa == ISA for one in builds)


def _chosen(
    workspace: Workspace, names: Sequence[str], snippets: Sequence[str], entries: Sequence[str]
) -> list[tuple[Snippet, Made, str]]:
    """Return the kernels to launch, each under its builds, with the candidate's name."""
    known = [s for s in find_snippets(workspace.bench, snippets) if is_kernels(s)]
    if not known:
        raise RequestError(
            "there is no kernel: launch is for snippets whose sources are .cu files.",
            about="snippets",
        )
    sides = [side_named(workspace, name) for name in names]
    wanted = {*entries, *(own for own, _ in sides if own)}
    out = []
    seen: dict[str, None] = {}
    for snippet in known:
        signatures = signatures_of(workspace, snippet)
        alone = len(signatures) == 1
        seen |= dict.fromkeys(s.name for s in signatures)
        own = [s for s in signatures if not wanted or s.name in wanted]
        if not own:
            continue
        builds = list(dict.fromkeys(build for _, build in sides))
        for built in workspace.compile([snippet.name], builds):
            if workspace.toolchain(built.build).isa != ISA:
                if names:
                    raise RequestError(f"{built.build.name} makes no PTX: no kernel is in it.")
                continue
            if names and built.status != COMPILED:
                raise RequestError(f"{built.build.name} does not compile: {built.why}.")
            for signature in own:
                if _is_asked(sides, signature.name, built.build):
                    made = make_kernel(workspace, built, signature)
                    out.append(
                        (snippet, made, candidate_name(signature.name, built.build.name, alone))
                    )
    missing = [name for name in wanted if name not in seen]
    if missing:
        hint = did_you_mean(missing[0], seen)
        raise RequestError(
            f"{missing[0]}: no kernel is called so.{hint} They are: {listed(seen)}.",
            about="entries",
        )
    if not out:
        raise RequestError(
            "no build of the grid makes PTX of these kernels: name nvcc, or clang for it "
            "(clang-16@nvptx64; on Debian: apt install clang-16)."
        )
    return out


def _is_asked(sides: Sequence[tuple[str, object]], entry: str, build: object) -> bool:
    return not sides or any(own in ("", entry) and build == wanted for own, wanted in sides)


def _inputs(workspace: Workspace, snippet: Snippet, made: Made, size: str) -> InputSet:
    return values_for(workspace, snippet, made.signature, spec_of_size(snippet, size))


def _told(
    workspace: Workspace,
    made: Made,
    candidate: str,
    inputs: InputSet,
    came: Came,
    maps: tuple[Mapped, ...],
) -> KernelLaunch:
    launched = came.launched
    assert made.launch
    target = made.launch.module.target
    found, why = _resources(workspace, made, target)
    shared = launched.shared
    threads = prod(came.shape.block)
    fits = occupancy(target, threads, found.registers if found else 0, shared)
    ending, said, place = _ending(launched, made)
    return KernelLaunch(
        made.built.snippet.name,
        candidate,
        made.built.build.name,
        inputs.label,
        came.shape,
        ending,
        said,
        place,
        tuple((fault_text(race, made), place_of(made, race.place)) for race in launched.races),
        line_counts(launched.counts, made.instructions),
        launched.counts.barriers,
        maps,
        shared,
        target,
        found,
        why,
        fits,
    )


def _not_run(
    workspace: Workspace, snippet: Snippet, made: Made, candidate: str, inputs: InputSet
) -> KernelLaunch:
    """Return a launch that there was none of, and why."""
    shape = shape_for(workspace, snippet, made.signature, inputs)
    return KernelLaunch(
        snippet.name, candidate, made.built.build.name, inputs.label,
        shape, "not run", made.why, NOWHERE, (), (), 0, (), 0, "", None, made.why, None,
    )  # fmt: skip


def _with_machine_code(workspace: Workspace, made: Made, told: KernelLaunch) -> KernelLaunch:
    assert made.launch
    why = "the disassembler lists no such kernel"
    for unit in made.built.units:
        text = workspace.store.artefact(unit.artefact).text
        found, complaint = machine_code_of(text, told.target, workspace.store)
        if made.launch.kernel.name in found:
            return told._replace(machine=found[made.launch.kernel.name])
        why = complaint or why
    return told._replace(no_machine=why)


def _ending(launched: Launched, made: Made) -> tuple[str, str, Place]:
    if launched.fault:
        place = place_of(made, launched.fault.place)
        return "crashed", fault_text(launched.fault, made), place
    if launched.unknown:
        return "not run", launched.unknown, NOWHERE
    if launched.hung:
        return "hung", "it executes more than any launch may here", NOWHERE
    return "returned", "", NOWHERE


def _resources(workspace: Workspace, made: Made, target: str) -> tuple[Resources | None, str]:
    assert made.launch
    for unit in made.built.units:
        text = workspace.store.artefact(unit.artefact).text
        found, why = resources_of(text, target, workspace.store)
        if why:
            return None, why
        if made.launch.kernel.name in found:
            return found[made.launch.kernel.name], ""
    return None, "the assembler's report is not understood"
