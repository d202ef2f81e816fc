"""The choice: costs beside times, and what must not be slower than something."""

from collections.abc import Sequence

from hot_anvil.core.build.records import COMPILED
from hot_anvil.core.measure.choosing import (
    Cost,
    Pick,
    flags_tied_to_cpu,
    pick,
    rests_on_compiling,
)
from hot_anvil.core.measure.code_identity import CodeIdentity
from hot_anvil.core.measure.compile_times import once
from hot_anvil.core.measure.options import EARLIER, Options
from hot_anvil.core.measure.results import Measured, Picked
from hot_anvil.core.measure.summary import Result, summarise
from hot_anvil.core.measure.verdict_words import SLOWER
from hot_anvil.core.verify.results import Checked
from hot_anvil.usecases.compile_times import time_compiles
from hot_anvil.usecases.earlier_code import slower_than_earlier
from hot_anvil.usecases.evidence import identities
from hot_anvil.usecases.measurement import check_to_measure, measure_checked
from hot_anvil.workspace import Workspace, in_turn, usecase


@usecase
def pick_snippets(
    workspace: Workspace, snippets: Sequence[str], options: Options, call_seconds: float
) -> tuple[Picked, ...]:
    """Do the whole job and choose the fastest correct candidate of each snippet."""
    checked = check_to_measure(workspace, snippets, options, call_seconds)
    return tuple(in_turn(workspace, lambda one: pick_checked(workspace, one, options), checked))


def pick_checked(workspace: Workspace, checked: Checked, options: Options) -> Picked:
    """Measure a snippet and choose its fastest correct candidate."""
    measured = measure_checked(workspace, checked, options, True)
    checked = measured.checked  # less those that ended while timed
    if checked.fault:
        why = "it could not be checked"
        return Picked(measured, Pick(checked.snippet.name, None, (), (), (), "", why, ""))
    costs = costs_of(workspace, checked)
    together = measured.overall
    share = checked.snippet.share if options.share is None else options.share
    seen = None
    if checked.snippet.share_in and options.share is None:
        from hot_anvil.usecases.share import measure_share

        seen = measure_share(workspace, checked.snippet, [s.symbol for s in checked.signatures])
        share = seen.share
    wanted = (checked.snippet.name, together, checked.verdicts)
    made = pick(*wanted, costs, options.prefer, share)
    resting = rests_on_compiling(made.ranking, options.prefer)
    if resting:
        names = {v.build for v in checked.verdicts if v.candidate in resting}
        builds = workspace.compile([checked.snippet.name])
        took = time_compiles(workspace, builds, names)
        costs = {
            v.candidate: costs[v.candidate]._replace(compiling=took[v.build])
            for v in checked.verdicts
        }
        made = pick(*wanted, costs, options.prefer, share)
    alike: tuple[CodeIdentity, ...] = ()
    if together and not checked.snippet.program:
        alike = identities(workspace, checked, together.best, together.to_best)
    return Picked(measured, made, alike, share, seen)


@usecase
def slower_than(workspace: Workspace, measured: Measured, limit: str) -> list[Result]:
    """Return the candidates told slower than their own entry under the build ``limit``.

    For each size. An entry that was not measured under it cannot be slower. With EARLIER: slower
    than their earlier code.
    """
    if limit == EARLIER:
        return slower_than_earlier(measured)
    if not measured.measurements:
        return []
    build = workspace.build(limit).name
    earlier = {own.name for own in workspace.plan.builds if own.earlier}
    builds = {v.candidate: v.build for v in measured.checked.timed}
    entries = {v.candidate: v.entry for v in measured.checked.timed}
    out = []
    for measurements in measured.measurements:
        for candidate in (name for name, own in builds.items() if own == build):
            timed = measurements.same_as.get(candidate, candidate)
            out += [
                row
                for row in summarise([measurements], timed).results
                if row.comparison.verdict.word == SLOWER
                and entries[row.candidate] == entries[candidate]
                and builds[row.candidate] not in earlier
            ]
    return out


def costs_of(workspace: Workspace, checked: Checked) -> dict[str, Cost]:
    """Return what each candidate costs besides time."""
    symbols = {signature.name: signature.symbol for signature in checked.signatures}
    built = {b.build.name: b for b in workspace.compile([checked.snippet.name])}
    compiled = {name for name, b in built.items() if b.status == COMPILED}

    def code_bytes(build: str, entry: str) -> int | None:
        """Count an entry with all that it reaches: less code here may be more there."""
        if not entry:  # a whole program
            return built[build].code_bytes
        return workspace.reached_bytes(built[build], symbols[entry])

    return {
        v.candidate: Cost(
            code_bytes(v.build, v.entry) if v.build in compiled else None,
            once(built[v.build].seconds),
            workspace.command(checked.snippet, built[v.build].build),
            flags_tied_to_cpu(built[v.build].build.flags),
        )
        for v in checked.verdicts
    }
