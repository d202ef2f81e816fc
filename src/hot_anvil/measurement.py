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
