"""The choice: costs beside times, and what must not be slower than something."""

from typing import TYPE_CHECKING

from hot_anvil.core.build.records import COMPILED
from hot_anvil.core.measure.choosing import Cost, flags_tied_to_cpu, pick
from hot_anvil.core.measure.code_identity import Likeness
from hot_anvil.core.measure.options import How
from hot_anvil.core.measure.results import Checked, Measured, Picked
from hot_anvil.core.measure.summary import SLOWER, Result, standing
from hot_anvil.core.model.call_graph import reached
from hot_anvil.usecases.evidence import likenesses
from hot_anvil.usecases.measurement import measure_checked

if TYPE_CHECKING:
    from hot_anvil.api import Workshop


def pick_checked(workshop: "Workshop", checked: Checked, how: How) -> Picked:
    """Measure a snippet and choose its fastest correct candidate."""
    measured = measure_checked(workshop, checked, how, True)
    checked = measured.checked  # less those that ended while timed
    costs = costs_of(workshop, checked)
    together = measured.overall
    share = checked.snippet.share
    seen = None
    if checked.snippet.share_in:
        from hot_anvil.usecases.share import measure_share

        seen = measure_share(workshop, checked.snippet, [s.symbol for s in checked.signatures])
        share = seen.share
    made = pick(checked.snippet.name, together, checked.verdicts, costs, how.prefer, share)
    alike: tuple[Likeness, ...] = ()
    if together and not checked.snippet.program:
        alike = likenesses(workshop, checked, together.best, together.to_best)
    return Picked(measured, made, alike, share, seen)


def slower_than(workshop: "Workshop", measured: Measured, limit: str | None) -> list[Result]:
    """Return the candidates told slower than their own entry under the build ``limit``.

    For each size. An entry that was not measured under it cannot be slower.
    """
    if limit is None or not measured.contests:
        return []
    build = workshop.build(limit).name
    earlier = {own.name for own in workshop.plan.builds if own.earlier}
    builds = {v.candidate: v.build for v in measured.checked.correct}
    entries = {v.candidate: v.entry for v in measured.checked.correct}
    out = []
    for contest in measured.contests:
        for candidate in (name for name, own in builds.items() if own == build):
            timed = contest.same_as.get(candidate, candidate)
            out += [
                row
                for row in standing([contest], timed).results
                if row.against.told.word == SLOWER
                and entries[row.candidate] == entries[candidate]
                and builds[row.candidate] not in earlier
            ]
    return out


def costs_of(workshop: "Workshop", checked: Checked) -> dict[str, Cost]:
    """Return what each candidate costs besides time."""
    symbols = {signature.name: signature.symbol for signature in checked.signatures}
    built = {b.build.name: b for b in workshop.compile([checked.snippet.name])}
    codes = {n: workshop.code(b) for n, b in built.items() if b.status == COMPILED}

    def code_bytes(build: str, entry: str) -> int | None:
        """Count an entry with all that it reaches: less code here may be more there."""
        if not entry:  # a whole program
            return built[build].code_bytes
        parts = reached(codes[build], symbols[entry])
        sizes = [built[build].entry_bytes(name) for name in {part.owner for part in parts}]
        return sum(size or 0 for size in sizes) if any(sizes) else None

    return {
        v.candidate: Cost(
            code_bytes(v.build, v.entry) if v.build in codes else None,
            built[v.build].seconds,
            workshop.command(checked.snippet, built[v.build].build),
            flags_tied_to_cpu(built[v.build].build.flags),
        )
        for v in checked.verdicts
    }
