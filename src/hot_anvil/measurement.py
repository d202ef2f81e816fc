"""Measure and pick: from checked candidates to ratios, and to the one to use."""

from collections.abc import Mapping
from typing import TYPE_CHECKING

from hot_anvil.core.contest import Contest, Count, contest_document
from hot_anvil.core.elf import data_bytes
from hot_anvil.core.errors import FaultError
from hot_anvil.core.how import How
from hot_anvil.core.inputs import make_input_set
from hot_anvil.core.judged import Checked, Measured, Picked
from hot_anvil.core.likeness import Likeness, body_of, compare
from hot_anvil.core.measure import SLOWER, Against, Result, standing
from hot_anvil.core.pick import Cost, flags_tied_to_cpu, pick
from hot_anvil.core.verdict import Verdict, candidate_name
from hot_anvil.core.wanted import Wanted, point_label, sweep_points
from hot_anvil.system.harness import PLACEMENTS, loading_worker
from hot_anvil.system.linker import host_toolchain
from hot_anvil.system.linking import LIBRARY, PROGRAM, Program
from hot_anvil.system.measuring import LaneEnded, Linked, measure_snippet

if TYPE_CHECKING:
    from hot_anvil.api import Workshop

RUN_SECONDS = 60.0  # that one run of a program that passed the check may take


def measure_checked(
    workshop: "Workshop", checked: Checked, how: How, only_best: bool = False
) -> Measured:
    """Measure what is correct of a snippet; ``only_best`` only as far as a pick needs."""
    if not checked.correct:
        return Measured(checked, checked.reference, (), (), None)
    try:
        contests, anchor = _contests(workshop, checked, how, only_best)
    except LaneEnded as ended:  # it may only do so after many calls: out, and once more
        if not ended.candidate:  # apart it can be told which
            return measure_checked(workshop, checked, how._replace(apart=True), only_best)
        rest = checked.without(ended.candidate, ended.kind, ended.why)
        return measure_checked(workshop, rest, how, only_best)
    standings = tuple(standing([contest], anchor) for contest in contests)
    together = standings[0] if len(contests) == 1 else standing(contests, anchor)
    for contest in contests:
        workshop.store.record("bench", checked.snippet.name, contest_document(contest))
    against = {r.candidate: r.against for r in together.results}
    alike = () if checked.snippet.program else likenesses(workshop, checked, anchor, against)
    measured = Measured(checked, anchor, tuple(contests), standings, together, alike)
    return with_counts(workshop, measured) if how.counted else measured


def _contests(
    workshop: "Workshop", checked: Checked, how: How, only_best: bool
) -> tuple[list[Contest], str]:
    if checked.snippet.program:
        from hot_anvil.program_measurement import measure_program

        return measure_program(workshop, checked, how, only_best, RUN_SECONDS)
    linked = link_all(workshop, checked, how.apart)
    measure = (workshop.bench, checked, linked, baseline_of(workshop, checked))
    return measure_snippet(*measure, how, only_best, workshop.progress)


def with_counts(workshop: "Workshop", measured: Measured) -> Measured:
    """Add how many instructions a call of each correct candidate executes, under an emulator."""
    from hot_anvil.system.checking import read_files
    from hot_anvil.system.counting import count_calls, find_emulator
    from hot_anvil.system.pool import thread_pool

    checked = measured.checked
    if checked.snippet.program or not checked.correct:
        return measured
    emulator = find_emulator(host_toolchain(workshop.found.toolchains), workshop.store)
    builds = workshop.compile([checked.snippet.name])
    programs = workshop.link(builds, checked.signatures, PLACEMENTS[0])
    files = read_files(workshop.bench, checked.snippet)
    points = sweep_points(checked.snippet)
    names = [signature.name for signature in checked.signatures]
    sets = [
        [
            make_input_set(workshop.bench, checked.snippet, signature, Wanted(point), files)
            for point in points
        ]
        for signature in checked.signatures
    ]

    def count(verdict: Verdict) -> list[Count]:
        entry = names.index(verdict.entry)
        return count_calls(emulator, programs[verdict.build], entry, sets[entry])

    with thread_pool() as pool:
        rows = list(pool.map(count, checked.correct))
    counts = {
        (verdict.candidate, point_label(point)): found
        for verdict, row in zip(checked.correct, rows, strict=True)
        for point, found in zip(points, row, strict=True)
    }
    return measured._replace(counts=counts, counted_by=emulator.name or emulator.why)


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
    return Linked(programs, libraries, loading_worker(host, workshop.store))


def likenesses(
    workshop: "Workshop", checked: Checked, other: str, against: Mapping[str, Against]
) -> tuple[Likeness, ...]:
    """Return what each candidate's instructions, beside those of ``other``, say of its time."""
    built = {b.build.name: b for b in workshop.compile([checked.snippet.name])}
    symbols = {signature.name: signature.symbol for signature in checked.signatures}
    data = {
        name: sum(
            data_bytes((workshop.store.artefact(unit.artefact) / "code.o").read_bytes())
            for unit in b.units
        )
        for name, b in built.items()
        if not b.whole
    }
    bodies = {
        v.candidate: body_of(workshop.code(built[v.build]), symbols[v.entry], data[v.build])
        for v in checked.correct
        if v.build in data
    }
    if other not in bodies:
        return ()
    return tuple(
        compare(name, other, body, bodies[other], against[name])
        for name, body in bodies.items()
        if name != other
    )


def pick_checked(workshop: "Workshop", checked: Checked, how: How) -> Picked:
    """Measure a snippet and choose its fastest correct candidate."""
    measured = measure_checked(workshop, checked, how, True)
    checked = measured.checked  # less those that ended while timed
    costs = costs_of(workshop, checked)
    together = measured.overall
    share = checked.snippet.share
    made = pick(checked.snippet.name, together, checked.verdicts, costs, how.prefer, share)
    alike: tuple[Likeness, ...] = ()
    if together and not checked.snippet.program:
        alike = likenesses(workshop, checked, together.best, together.to_best)
    return Picked(measured, made, alike)


def slower_than(workshop: "Workshop", measured: Measured, limit: str | None) -> list[Result]:
    """Return the candidates told slower than their own entry under the build ``limit``.

    For each size. An entry that was not measured under it cannot be slower.
    """
    if limit is None or not measured.contests:
        return []
    build = workshop.build(limit).name
    builds = {v.candidate: v.build for v in measured.checked.correct}
    entries = {v.candidate: v.entry for v in measured.checked.correct}
    out = []
    for contest in measured.contests:
        for candidate in (name for name, own in builds.items() if own == build):
            timed = contest.same_as.get(candidate, candidate)
            out += [
                row
                for row in standing([contest], timed).results
                if row.against.told.word == SLOWER and entries[row.candidate] == entries[candidate]
            ]
    return out


def costs_of(workshop: "Workshop", checked: Checked) -> dict[str, Cost]:
    """Return what each candidate costs besides time."""
    symbols = {signature.name: signature.symbol for signature in checked.signatures}
    built = {b.build.name: b for b in workshop.compile([checked.snippet.name])}
    return {
        v.candidate: Cost(
            built[v.build].entry_bytes(symbols[v.entry]) if v.entry else built[v.build].code_bytes,
            built[v.build].seconds,
            workshop.command(checked.snippet, built[v.build].build),
            flags_tied_to_cpu(built[v.build].build.flags),
        )
        for v in checked.verdicts
    }
