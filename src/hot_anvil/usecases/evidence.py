"""What stands beside times: executed instructions, and whether code is the same at all."""

from collections.abc import Callable, Mapping, Sequence

from hot_anvil.core.binary.elf import data_bytes
from hot_anvil.core.build.records import COMPILED
from hot_anvil.core.inputs.input_sets import InputSet, make_input_set
from hot_anvil.core.inputs.spec import InputSpec, point_label, sweep_points
from hot_anvil.core.measure.code_identity import CodeIdentity, compare
from hot_anvil.core.measure.measurements import Count
from hot_anvil.core.measure.results import Measured
from hot_anvil.core.measure.summary import Comparison
from hot_anvil.core.model.entry_body import Body
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import Verdict
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.worker_objects import PLACEMENTS
from hot_anvil.system.check.checking import read_files
from hot_anvil.system.measure.counting import Emulator, count_calls, find_emulator
from hot_anvil.system.measure.stepping import find_stepper, step_calls
from hot_anvil.system.process.notices import notice
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.usecases.linking import link_builds
from hot_anvil.workspace import Workspace


def with_counts(workspace: Workspace, measured: Measured) -> Measured:
    """Add how many instructions a call of each timed candidate executes, under an emulator."""
    checked = measured.checked
    if checked.snippet.program:
        notice(f"{checked.snippet.name} is a whole program: only calls of entries are counted")
    if checked.snippet.program or not checked.timed:
        return measured
    host = host_toolchain(workspace.found.toolchains)
    emulator = find_emulator(host, host.target, workspace.store)
    counts = counts_of(workspace, checked, checked.timed, emulator)
    counts |= _stepped(workspace, checked, counts)
    return measured._replace(counts=counts, counted_by=emulator.name or emulator.why)


def _stepped(
    workspace: Workspace, checked: Checked, counts: Mapping[tuple[str, str], Count]
) -> dict[tuple[str, str], Count]:
    """Return the counts of what the emulator could not run, stepped through on this processor."""
    unknown = {name for (name, _), count in counts.items() if count.instructions is None}
    verdicts = [verdict for verdict in checked.timed if verdict.candidate in unknown]
    if not verdicts:
        return {}
    stepper = find_stepper(host_toolchain(workspace.found.toolchains), workspace.store)
    entries = {signature.name: signature for signature in checked.signatures}

    def count(verdict: Verdict, path: str, entry: int, sets: Sequence[InputSet]) -> list[Count]:
        return step_calls(stepper, path, entries[verdict.entry].symbol, entry, sets)

    found = _counted(workspace, checked, verdicts, count)
    return {key: one for key, one in found.items() if one.instructions is not None}


def counts_of(
    workspace: Workspace, checked: Checked, verdicts: Sequence[Verdict], emulator: Emulator
) -> dict[tuple[str, str], Count]:
    """Return the instructions of a warm call, by candidate and inputs, of some candidates."""

    def count(verdict: Verdict, path: str, entry: int, sets: Sequence[InputSet]) -> list[Count]:
        return count_calls(emulator, path, entry, sets)

    return _counted(workspace, checked, verdicts, count)


def _counted(
    workspace: Workspace,
    checked: Checked,
    verdicts: Sequence[Verdict],
    way: Callable[[Verdict, str, int, Sequence[InputSet]], list[Count]],
) -> dict[tuple[str, str], Count]:
    wanted = {verdict.build for verdict in verdicts}
    builds = [b for b in workspace.compile([checked.snippet.name]) if b.build.name in wanted]
    programs = link_builds(workspace, builds, checked.signatures, PLACEMENTS[0])
    points = sweep_points(checked.snippet)
    names = [signature.name for signature in checked.signatures]
    sets = sets_of(workspace, checked)

    def count(verdict: Verdict) -> list[Count]:
        entry = names.index(verdict.entry)
        return way(verdict, programs[verdict.build].path, entry, sets[entry])

    with thread_pool() as pool:
        rows = list(pool.map(count, verdicts))
    return {
        (verdict.candidate, point_label(point)): found
        for verdict, row in zip(verdicts, rows, strict=True)
        for point, found in zip(points, row, strict=True)
    }


def sets_of(workspace: Workspace, checked: Checked) -> list[list[InputSet]]:
    """Return the values that each entry of a snippet is measured with, at each point."""
    files = read_files(workspace.bench, checked.snippet)
    return [
        [
            make_input_set(workspace.bench, checked.snippet, signature, InputSpec(point), files)
            for point in sweep_points(checked.snippet)
        ]
        for signature in checked.signatures
    ]


def identities(
    workspace: Workspace, checked: Checked, other: str, against: Mapping[str, Comparison]
) -> tuple[CodeIdentity, ...]:
    """Return what each candidate's instructions, beside those of ``other``, say of its time."""
    built = {b.build.name: b for b in workspace.compile([checked.snippet.name])}
    symbols = {signature.name: signature.symbol for signature in checked.signatures}
    data = {
        name: sum(
            data_bytes((workspace.store.artefact(unit.artefact).object).read_bytes())
            for unit in b.units
        )
        for name, b in built.items()
        if b.status == COMPILED and not b.whole
    }
    bodies = {
        v.candidate: Body(
            workspace.instructions_of(built[v.build], symbols[v.entry]), data[v.build]
        )
        for v in checked.timed
        if v.build in data
    }
    if other not in bodies:
        return ()
    return tuple(
        compare(name, other, body, bodies[other], against[name])
        for name, body in bodies.items()
        if name != other and name in against
    )
