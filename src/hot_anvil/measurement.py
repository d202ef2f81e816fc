"""Measure and pick: from checked candidates to ratios, and to the one to use."""

import secrets
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.contest import contest_document
from hot_anvil.core.errors import FaultError
from hot_anvil.core.judged import Checked, Measured, Picked
from hot_anvil.core.measure import standing
from hot_anvil.core.pick import Cost, pick
from hot_anvil.core.verdict import candidate_name
from hot_anvil.system.harness import PLACEMENTS, loading_worker
from hot_anvil.system.linker import host_toolchain
from hot_anvil.system.linking import LIBRARY, PROGRAM, Program
from hot_anvil.system.measuring import Budget, LaneEnded, Linked, measure_snippet

if TYPE_CHECKING:
    from hot_anvil.api import Workshop


def measure_checked(workshop: "Workshop", checked: Checked, budget: Budget) -> Measured:
    """Measure what is correct of a snippet."""
    if not checked.correct or checked.snippet.program:
        return Measured(checked, checked.reference, (), (), None)
    linked = link_all(workshop, checked, budget.apart)
    baseline = baseline_of(workshop, checked)
    measure = (workshop.bench, checked, linked, baseline)
    try:
        contests, anchor = measure_snippet(*measure, budget, workshop.progress)
    except LaneEnded as ended:  # it may only do so after many calls: out, and once more
        if not ended.candidate:  # apart it can be told which
            return measure_checked(workshop, checked, budget._replace(apart=True))
        rest = checked.without(ended.candidate, ended.kind, ended.why)
        return measure_checked(workshop, rest, budget)
    standings = tuple(standing([contest], anchor) for contest in contests)
    together = standings[0] if len(contests) == 1 else standing(contests, anchor)
    for contest in contests:
        workshop.store.record("bench", checked.snippet.name, contest_document(contest))
    return Measured(checked, anchor, tuple(contests), standings, together)


def baseline_of(workshop: "Workshop", checked: Checked) -> str:
    """Return the candidate that ratios are given against."""
    entry = checked.snippet.reference or checked.signatures[0].name
    alone = len(checked.signatures) == 1 and len(checked.snippet.entries) < 2
    return candidate_name(entry, workshop.plan.baseline.name, alone)


def link_all(workshop: "Workshop", checked: Checked, apart: bool) -> Linked:
    """Link the builds to time at every placement: as programs, or as libraries where that works."""
    wanted = {verdict.build for verdict in checked.correct}
    builds = [b for b in workshop.compile([checked.snippet.name]) if b.build.name in wanted]
    programs: dict[str, dict[int, Program]] = {built.build.name: {} for built in builds}
    libraries: dict[str, dict[int, Program]] = {}
    host = host_toolchain(workshop.found.toolchains)
    for placement in PLACEMENTS:
        workshop.progress(f"linking {checked.snippet.name}", placement, PLACEMENTS[-1])
        if placement == PLACEMENTS[0] and not (apart or checked.snippet.threads):
            made = workshop.link(builds, checked.signatures, placement, LIBRARY)
            libraries = {
                name: {placement: program}
                for name, program in made.items()
                if not program.why and not program.reaches
            }
        elif libraries:
            able = [built for built in builds if built.build.name in libraries]
            made = workshop.link(able, checked.signatures, placement, LIBRARY)
            for name, program in made.items():
                libraries[name][placement] = _sound(name, program)
        own = builds
        if placement != PLACEMENTS[0]:  # there every build's program was linked for the check
            own = [built for built in builds if built.build.name not in libraries]
        for name, program in workshop.link(own, checked.signatures, placement, PROGRAM).items():
            programs[name][placement] = _sound(name, program)
    return Linked(programs, libraries, loading_worker(host, workshop.store))


def _sound(name: str, program: Program) -> Program:
    if program.why:
        raise FaultError(f"{name} {program.why} at another placement.")
    return program


def pick_checked(workshop: "Workshop", checked: Checked, budget: Budget) -> Picked:
    """Measure a snippet and choose its fastest correct candidate."""
    measured = measure_checked(workshop, checked, budget)
    checked = measured.checked  # less those that ended while timed
    costs = {} if checked.snippet.program else costs_of(workshop, checked)
    made = pick(checked.snippet.name, measured.overall, checked.verdicts, costs)
    return Picked(measured, made)


def costs_of(workshop: "Workshop", checked: Checked) -> dict[str, Cost]:
    """Return what each candidate costs besides time."""
    symbols = {signature.name: signature.symbol for signature in checked.signatures}
    built = {b.build.name: b for b in workshop.compile([checked.snippet.name])}
    return {
        v.candidate: Cost(
            built[v.build].entry_bytes(symbols[v.entry]),
            built[v.build].seconds,
            workshop.command(checked.snippet, built[v.build].build),
        )
        for v in checked.verdicts
    }


def make_budget(seconds: float, seed: int | None, only_best: bool, apart: bool = False) -> Budget:
    """Return a budget; without a seed one is drawn."""
    return Budget(seconds, only_best, secrets.randbits(32) if seed is None else seed, apart)


__all__: Sequence[str] = ("make_budget", "measure_checked", "pick_checked")
