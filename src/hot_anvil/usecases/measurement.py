"""Measure: from checked candidates to ratios."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.binary.elf import code_alignment
from hot_anvil.core.build.records import Built
from hot_anvil.core.measure.measurements import POSITION, Contest, contest_document
from hot_anvil.core.measure.options import How
from hot_anvil.core.measure.results import Checked, Measured
from hot_anvil.core.measure.summary import standing
from hot_anvil.core.verify.verdicts import candidate_name
from hot_anvil.errors import FaultError
from hot_anvil.system.build.link_command import host_toolchain
from hot_anvil.system.build.linking import LIBRARY, PROGRAM, Program
from hot_anvil.system.build.worker_objects import PLACEMENTS, loading_worker
from hot_anvil.system.measure.measuring import LaneEnded, Linked, measure_snippet
from hot_anvil.usecases.earlier_code import pairs_of, since_earlier
from hot_anvil.usecases.evidence import likenesses, with_counts
from hot_anvil.usecases.history import keep_states

if TYPE_CHECKING:
    from hot_anvil.api import Workshop

RUN_SECONDS = 60.0  # that one run of a program that passed the check may take


def measure_checked(
    workshop: "Workshop", checked: Checked, how: How, only_best: bool = False
) -> Measured:
    """Measure what is correct of a snippet; ``only_best`` only as far as a pick needs."""
    if not checked.correct and not how.outside:
        return Measured(checked, checked.reference, (), (), None)
    pairs = pairs_of(workshop, checked)
    try:
        contests, anchor = _contests(workshop, checked, how, only_best, pairs)
    except LaneEnded as ended:  # it may only do so after many calls: out, and once more
        if not ended.candidate:  # apart it can be told which
            return measure_checked(workshop, checked, how._replace(apart=True), only_best)
        rest = checked.without(ended.candidate, ended.kind, ended.why)
        return measure_checked(workshop, rest, how, only_best)
    if not contests:
        return Measured(checked, checked.reference, (), (), None)
    standings = tuple(standing([contest], anchor) for contest in contests)
    together = standings[0] if len(contests) == 1 else standing(contests, anchor)
    for contest in contests:
        workshop.store.record("bench", checked.snippet.name, contest_document(contest))
    keep_states(workshop, checked, standings, anchor, how.outside)
    against = {r.candidate: r.against for r in together.results}
    alike = () if checked.snippet.program else likenesses(workshop, checked, anchor, against)
    since = since_earlier(workshop, checked, contests, pairs)
    measured = Measured(checked, anchor, tuple(contests), standings, together, alike, since=since)
    return with_counts(workshop, measured) if how.counted else measured


def _contests(
    workshop: "Workshop",
    checked: Checked,
    how: How,
    only_best: bool,
    watched: Sequence[tuple[str, str]],
) -> tuple[list[Contest], str]:
    if how.outside:
        from hot_anvil.usecases.imported_times import outside_contests

        return outside_contests(workshop, checked, how.outside, baseline_of(workshop, checked))
    if checked.snippet.program:
        from hot_anvil.usecases.program_measurement import measure_program

        return measure_program(workshop, checked, how, only_best, RUN_SECONDS)
    linked = link_all(workshop, checked, how.apart)
    measure = (workshop.bench, checked, linked, baseline_of(workshop, checked))
    return measure_snippet(*measure, how, only_best, workshop.progress, watched)


def baseline_of(workshop: "Workshop", checked: Checked) -> str:
    """Return the candidate that ratios are given against."""
    entry = checked.snippet.reference or checked.signatures[0].name
    alone = len(checked.signatures) == 1 and len(checked.snippet.entries) < 2
    return candidate_name(entry, workshop.plan.baseline.name, alone)


def link_all(workshop: "Workshop", checked: Checked, apart: bool) -> Linked:
    """Link the builds to time at every placement: as programs, or as libraries where that works."""
    wanted = {verdict.build for verdict in checked.correct}
    builds = [b for b in workshop.compile([checked.snippet.name]) if b.build.name in wanted]
    first, *others = PLACEMENTS
    signatures = checked.signatures
    programs = {name: {first: p} for name, p in workshop.link(builds, signatures, first).items()}
    libraries: dict[str, dict[int, Program]] = {}
    if not apart and not checked.snippet.threads:
        able = [built for built in builds if not programs[built.build.name][first].reaches]
        made = workshop.link(able, signatures, first, LIBRARY)
        libraries = {n: {first: p} for n, p in made.items() if not (p.why or p.reaches)}
    for placement in others:
        workshop.progress(f"linking {checked.snippet.name}", placement, PLACEMENTS[-1])
        # What shares a process needs no programs at other placements.
        for form, images in ((LIBRARY, libraries), (PROGRAM, programs)):
            own = [b for b in builds if (b.build.name in libraries) == (form == LIBRARY)]
            for name, program in workshop.link(own, signatures, placement, form).items():
                if program.why:
                    raise FaultError(f"{name} {program.why} at another placement.")
                images[name][placement] = program
    host = host_toolchain(workshop.found.toolchains)
    aligned = frozenset(b.build.name for b in builds if _is_aligned(workshop, b))
    return Linked(programs, libraries, loading_worker(host, workshop.store), aligned)


def _is_aligned(workshop: "Workshop", built: Built) -> bool:
    """Tell whether code starts at multiples of POSITION only; not known of a whole image."""
    objects = [workshop.store.artefact(unit.artefact) / "code.o" for unit in built.units]
    return not built.whole and all(code_alignment(o.read_bytes()) >= POSITION for o in objects)
