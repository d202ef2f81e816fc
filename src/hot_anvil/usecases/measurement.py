"""Measure: from checked candidates to ratios."""

from collections.abc import Sequence

from hot_anvil.core.binary.elf import code_alignment
from hot_anvil.core.build.records import Built
from hot_anvil.core.measure.measurements import POSITION, Measurements, measurements_document
from hot_anvil.core.measure.options import Options
from hot_anvil.core.measure.results import Measured
from hot_anvil.core.measure.summary import summarise
from hot_anvil.core.verify.options import CheckOptions
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import candidate_name
from hot_anvil.errors import FaultError, RequestError
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.linking import LIBRARY, WORKER, Program
from hot_anvil.system.build.worker_objects import PLACEMENTS, loading_worker
from hot_anvil.system.measure.measuring import Linked, measure_snippet
from hot_anvil.system.measure.rounds import ContestantEnded
from hot_anvil.usecases.earlier_code import compare_earlier, pairs_of
from hot_anvil.usecases.elsewhere import count_elsewhere
from hot_anvil.usecases.evidence import identities, with_counts
from hot_anvil.usecases.history import keep_states
from hot_anvil.usecases.imported_times import read_imported
from hot_anvil.usecases.linking import link_builds
from hot_anvil.usecases.verification import check_snippets
from hot_anvil.workspace import Workspace, in_turn, usecase

RUN_SECONDS = 60.0  # that one run of a program that passed the check may take


@usecase
def measure_snippets(
    workspace: Workspace, snippets: Sequence[str], options: Options, call_seconds: float
) -> tuple[Measured, ...]:
    """Check snippets, then measure what is correct."""
    checked = check_to_measure(workspace, snippets, options, call_seconds)
    return tuple(in_turn(workspace, lambda one: measure_checked(workspace, one, options), checked))


def check_to_measure(
    workspace: Workspace, snippets: Sequence[str], options: Options, call_seconds: float
) -> tuple[Checked, ...]:
    """Check what is to be measured; a wrong file of times is told before anything runs."""
    if options.imported:
        read_imported(options.imported)
    return check_snippets(workspace, snippets, CheckOptions(call_seconds))


def measure_checked(
    workspace: Workspace, checked: Checked, options: Options, only_best: bool = False
) -> Measured:
    """Measure what is correct of a snippet; ``only_best`` only as far as a pick needs."""
    measured = _measure_here(workspace, checked, options, only_best)
    if checked.fault or options.imported or workspace.executor:
        return measured  # what emulators count does not depend on the machine
    return measured._replace(elsewhere=count_elsewhere(workspace, checked))


def _measure_here(
    workspace: Workspace, checked: Checked, options: Options, only_best: bool
) -> Measured:
    if checked.fault or (not checked.timed and not options.imported):
        return Measured(checked, checked.reference, (), (), None)
    pairs = pairs_of(workspace, checked)
    try:
        all_measurements, anchor = _all_measurements(workspace, checked, options, only_best, pairs)
    except ContestantEnded as ended:  # it may only do so after many calls: out, and once more
        if not ended.candidate:  # apart it can be told which
            return _measure_here(workspace, checked, options._replace(apart=True), only_best)
        rest = checked.without(ended.candidate, ended.kind, ended.why)
        return _measure_here(workspace, rest, options, only_best)
    if not all_measurements:
        return Measured(checked, checked.reference, (), (), None)
    summaries = tuple(summarise([measurements], anchor) for measurements in all_measurements)
    together = summaries[0] if len(all_measurements) == 1 else summarise(all_measurements, anchor)
    for measurements in all_measurements if not options.tried else ():
        workspace.store.results.add(
            "bench", checked.snippet.name, measurements_document(measurements)
        )
    if not options.cold and not options.tried:  # a history is of warm calls
        keep_states(workspace, checked, summaries, anchor, options.imported)
    against = {r.candidate: r.comparison for r in together.results}
    alike = () if checked.snippet.program else identities(workspace, checked, anchor, against)
    earlier_rows = compare_earlier(workspace, checked, all_measurements, pairs)
    measured = Measured(
        checked,
        anchor,
        tuple(all_measurements),
        summaries,
        together,
        alike,
        earlier=earlier_rows,
    )
    return with_counts(workspace, measured) if options.counted else measured


def _all_measurements(
    workspace: Workspace,
    checked: Checked,
    options: Options,
    only_best: bool,
    watched: Sequence[tuple[str, str]],
) -> tuple[list[Measurements], str]:
    if options.imported:
        from hot_anvil.usecases.imported_times import imported_measurements

        return imported_measurements(
            workspace, checked, options.imported, baseline_of(workspace, checked)
        )
    if checked.snippet.program and options.cold:
        raise RequestError(
            f"snippet {checked.snippet.name}: --cold is for calls of functions; a program finds "
            "what its start leaves it. Leave --cold out, or name other snippets with --snippet."
        )
    if checked.snippet.program:
        from hot_anvil.usecases.program_measurement import measure_program

        return measure_program(workspace, checked, options, only_best, RUN_SECONDS)
    linked = link_all(workspace, checked, options.apart)
    measure = (workspace.bench, checked, linked, baseline_of(workspace, checked))
    if workspace.executor:
        return workspace.executor.measure(*measure, options, only_best, watched)
    return measure_snippet(*measure, options, only_best, workspace.progress, watched)


def baseline_of(workspace: Workspace, checked: Checked) -> str:
    """Return the candidate that ratios are given against."""
    entry = checked.snippet.reference or checked.signatures[0].name
    alone = len(checked.signatures) == 1 and len(checked.snippet.entries) < 2
    return candidate_name(entry, workspace.plan.baseline.name, alone)


def link_all(workspace: Workspace, checked: Checked, apart: bool) -> Linked:
    """Link the builds to time at every placement: as programs, or as libraries where that works."""
    wanted = {verdict.build for verdict in checked.timed}
    builds = [b for b in workspace.compile([checked.snippet.name]) if b.build.name in wanted]
    first, *others = PLACEMENTS
    signatures = checked.signatures
    programs = {
        name: {first: p} for name, p in link_builds(workspace, builds, signatures, first).items()
    }
    libraries: dict[str, dict[int, Program]] = {}
    if not apart and not checked.snippet.threads:
        able = [built for built in builds if not programs[built.build.name][first].reaches]
        made = link_builds(workspace, able, signatures, first, LIBRARY)
        libraries = {n: {first: p} for n, p in made.items() if not (p.why or p.reaches)}
    for placement in others:
        workspace.progress(f"linking {checked.snippet.name}", placement, PLACEMENTS[-1])
        # What shares a process needs no programs at other placements.
        for form, images in ((LIBRARY, libraries), (WORKER, programs)):
            own = [b for b in builds if (b.build.name in libraries) == (form == LIBRARY)]
            for name, program in link_builds(workspace, own, signatures, placement, form).items():
                if program.why:
                    raise FaultError(f"{name} {program.why} at another placement.")
                images[name][placement] = program
    host = host_toolchain(workspace.found.toolchains)
    aligned = frozenset(b.build.name for b in builds if _is_aligned(workspace, b))
    return Linked(programs, libraries, loading_worker(host, workspace.store), aligned)


def _is_aligned(workspace: Workspace, built: Built) -> bool:
    """Tell whether code starts at multiples of POSITION only; not known of a whole image."""
    objects = [workspace.store.artefact(unit.artefact).object for unit in built.units]
    return not built.whole and all(code_alignment(o.read_bytes()) >= POSITION for o in objects)
