"""The workspace's looks at where the time of correct candidates goes."""

from collections import Counter
from collections.abc import Mapping, Sequence

from hot_anvil.core.arch.boards import names_board
from hot_anvil.core.config.records import find_snippets
from hot_anvil.core.inputs.input_sets import InputSet, make_input_set
from hot_anvil.core.inputs.spec import InputSpec, point_label, sweep_points
from hot_anvil.core.measure.hotspots import Counted, Hot, Hotspots, Seen, make_hotspots
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import Verdict
from hot_anvil.errors import MissingError, RequestError
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.worker_objects import PLACEMENTS
from hot_anvil.system.check.checking import read_files
from hot_anvil.system.execute.calls import line_finder
from hot_anvil.system.execute.emulation import runs_on_chip
from hot_anvil.system.measure.chip_costs import chip_places
from hot_anvil.system.measure.counting import count_places, find_emulator
from hot_anvil.system.measure.program_sampling import look_at_runs
from hot_anvil.system.measure.sampling import program_code, sample_calls
from hot_anvil.usecases.comparison import compare_builds
from hot_anvil.usecases.entries import known_functions
from hot_anvil.usecases.kernels import is_kernels
from hot_anvil.usecases.linking import link_builds
from hot_anvil.usecases.programs import given_runs, link_program
from hot_anvil.usecases.verification import check_snippets
from hot_anvil.workspace import Workspace, usecase


@usecase
def find_hotspots(
    workspace: Workspace,
    builds: Sequence[str],
    snippets: Sequence[str],
    entries: Sequence[str],
    at: str,
    seconds: float,
) -> tuple[Hot, ...]:
    """Return where the time goes in each snippet's correct candidates of some builds.

    ``at`` is the label of a sweep point, "" for the last. ``seconds`` is for
    each candidate.
    """
    wanted = [workspace.build(name).name for name in builds]
    chosen = find_snippets(workspace.bench, snippets)
    if entries:  # a program has none
        chosen = tuple(snippet for snippet in chosen if not snippet.program)
    # Entries that a snippet does not name are no reason to check it.
    named = [s for s in chosen if not (entries and s.entries) or {*entries} & {*s.entries}]
    out = []
    for checked in check_snippets(workspace, [s.name for s in named]) if named else ():
        if checked.fault:
            raise checked.fault
        if checked.snippet.program:
            hot = _program(workspace, checked, wanted, seconds)
        else:
            hot = _snippet(workspace, checked, wanted, entries, at, seconds)
        if hot.candidates or hot.left_out:
            out.append(hot)
    if entries and not out:
        known = [s.name for snippet in chosen for s in known_functions(workspace, snippet)]
        hint = did_you_mean(entries[0], known)
        raise RequestError(
            f"{entries[0]}: no entry is called so.{hint} They are: {listed(known)}.",
            about="entries",
        )
    return tuple(out)


def _snippet(
    workspace: Workspace,
    checked: Checked,
    builds: Sequence[str],
    entries: Sequence[str],
    at: str,
    seconds: float,
) -> Hot:
    snippet = checked.snippet
    if is_kernels(snippet):
        raise RequestError(
            f"snippet {snippet.name}: kernels have no times here: hot-anvil launch counts what "
            "each of their lines does."
        )
    points = {point_label(point): point for point in sweep_points(snippet)}
    if at and at not in points:
        raise RequestError(
            f"{at}: snippet {snippet.name} is measured at: {listed(points)}.", about="at"
        )
    label = at or list(points)[-1]
    asked = [
        v
        for v in checked.verdicts
        if (not builds or v.build in builds) and (not entries or v.entry in entries)
    ]
    built = [
        b for b in workspace.compile([snippet.name]) if b.build.name in {v.build for v in asked}
    ]
    programs = link_builds(workspace, built, checked.signatures, PLACEMENTS[0])
    files = read_files(workspace.bench, snippet)
    names = [signature.name for signature in checked.signatures]
    found: list[Hotspots] = []
    for number, verdict in enumerate(v for v in asked if v.usable):
        workspace.progress(f"looking into {snippet.name}", number, len(asked))
        entry = names.index(verdict.entry)
        signature = checked.signatures[entry]
        inputs = make_input_set(
            workspace.bench, snippet, signature, InputSpec(points[label]), files
        )
        path = programs[verdict.build].path
        chain = workspace.toolchain(workspace.build(verdict.build))
        counts: Counted = ""
        took = 0.0
        if verdict.emulator:
            one, counts = _counted(workspace, verdict, path, chain.target, entry, inputs)
            seen = [one]
        else:
            seen, took = sample_calls(path, entry, inputs, seconds)
        code = program_code(path, chain, workspace.store)
        lines = line_finder(path, workspace.bench.root)
        found.append(make_hotspots(verdict.candidate, label, took, code, seen, lines, counts))
    return _hot(workspace, checked, builds, asked, found)


def _counted(
    workspace: Workspace,
    verdict: Verdict,
    path: str,
    target: str,
    entry: int,
    inputs: InputSet,
) -> tuple[Seen, Counted]:
    """Return what one call did on another machine, all of it, and what was counted."""
    if runs_on_chip(verdict.emulator):
        places = chip_places(path, entry, inputs)
        return Seen(places.cycles, Counter(), places.times), "cycles"
    host, board = host_toolchain(workspace.found.toolchains), names_board(verdict.emulator)
    emulator = find_emulator(host, target, workspace.store, board)
    if emulator.why:
        raise MissingError(f"{verdict.candidate}: {emulator.why}.")
    times = count_places(emulator, path, entry, inputs)
    return Seen(Counter(times), Counter(), times), "instructions"


def _program(workspace: Workspace, checked: Checked, builds: Sequence[str], seconds: float) -> Hot:
    """Look at whole runs; ``seconds`` is for each build."""
    snippet = checked.snippet
    root = workspace.bench.root
    given = [(one.run, one.stdin, one.needs) for one in given_runs(workspace, snippet)]
    asked = [v for v in checked.verdicts if not builds or v.build in builds]
    built = {b.build.name: b for b in workspace.compile([snippet.name])}
    found = []
    for number, verdict in enumerate(v for v in asked if v.usable):
        workspace.progress(f"looking into {snippet.name}", number, len(asked))
        path = link_program(workspace, built[verdict.build]).path
        chain = workspace.toolchain(workspace.build(verdict.build))
        code = program_code(path, chain, workspace.store)
        last = max(i.address + max(i.size, 1) for f in code.functions for i in f.instructions)
        seen, took = look_at_runs(path, given, last, seconds, root)
        lines = line_finder(path, root)
        hot = make_hotspots(verdict.candidate, "", took, code, seen, lines)
        found.append(hot._replace(unit="run"))
    return _hot(workspace, checked, builds, asked, found)


def _hot(
    workspace: Workspace,
    checked: Checked,
    builds: Sequence[str],
    asked: Sequence[Verdict],
    found: Sequence[Hotspots],
) -> Hot:
    """Return what was found, beside how the lines of two builds differ and what was left out."""
    left_out = tuple(f"{v.candidate}: {v.verdict}" for v in asked if not v.usable)
    both = {v.build for v in asked if v.usable} == {*builds} and len(builds) == 2
    states = _states(workspace, checked, builds) if both else {}
    return Hot(checked.snippet.name, tuple(found), states, left_out)


def _states(
    workspace: Workspace, checked: Checked, builds: Sequence[str]
) -> Mapping[tuple[str, int], str]:
    left, right = builds
    (diff,) = compare_builds(workspace, left, right, [checked.snippet.name])
    return {(row.file, row.line): row.state for row in diff.diff.rows}
