"""The workshop's looks at where the time of correct candidates goes."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.config.records import find_snippets
from hot_anvil.core.inputs.input_sets import make_input_set
from hot_anvil.core.inputs.spec import Wanted, point_label, sweep_points
from hot_anvil.core.measure.hotspots import Hot, Hotspots, make_hotspots
from hot_anvil.core.measure.results import Checked
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.verify.verdicts import CORRECT
from hot_anvil.errors import RequestError
from hot_anvil.system.build.worker_objects import PLACEMENTS
from hot_anvil.system.check.checking import read_files
from hot_anvil.system.execute.calls import line_finder
from hot_anvil.system.measure.sampling import look_at, program_code

if TYPE_CHECKING:
    from hot_anvil.api import Workshop


def look_for_hotspots(
    workshop: "Workshop",
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
    wanted = [workshop.build(name).name for name in builds]
    chosen = [s for s in find_snippets(workshop.bench, snippets) if not s.program]
    if not chosen:
        raise RequestError("hotspots looks into functions; a program has none to call.")
    # Entries that a snippet does not name are no reason to check it.
    named = [s for s in chosen if not (entries and s.entries) or {*entries} & {*s.entries}]
    out = []
    for checked in workshop.check([s.name for s in named]) if named else ():
        hot = _snippet(workshop, checked, wanted, entries, at, seconds)
        if hot.candidates or hot.left_out:
            out.append(hot)
    if entries and not out:
        known = [s.name for snippet in chosen for s in workshop.functions(snippet)]
        hint = did_you_mean(entries[0], known)
        raise RequestError(
            f"--entry {entries[0]}: no entry is called so.{hint} They are: {listed(known)}."
        )
    return tuple(out)


def _snippet(
    workshop: "Workshop",
    checked: Checked,
    builds: Sequence[str],
    entries: Sequence[str],
    at: str,
    seconds: float,
) -> Hot:
    snippet = checked.snippet
    points = {point_label(point): point for point in sweep_points(snippet)}
    if at and at not in points:
        raise RequestError(f"--at {at}: snippet {snippet.name} is measured at: {listed(points)}.")
    label = at or list(points)[-1]
    asked = [
        v
        for v in checked.verdicts
        if (not builds or v.build in builds) and (not entries or v.entry in entries)
    ]
    built = [
        b for b in workshop.compile([snippet.name]) if b.build.name in {v.build for v in asked}
    ]
    programs = workshop.link(built, checked.signatures, PLACEMENTS[0])
    files = read_files(workshop.bench, snippet)
    names = [signature.name for signature in checked.signatures]
    found: list[Hotspots] = []
    for number, verdict in enumerate(v for v in asked if v.verdict == CORRECT):
        workshop.progress(f"looking into {snippet.name}", number, len(asked))
        entry = names.index(verdict.entry)
        signature = checked.signatures[entry]
        inputs = make_input_set(workshop.bench, snippet, signature, Wanted(points[label]), files)
        path = programs[verdict.build].path
        seen, took = look_at(path, entry, inputs, seconds)
        chain = workshop.toolchain(workshop.build(verdict.build))
        code = program_code(path, chain, workshop.store)
        found.append(
            make_hotspots(
                verdict.candidate, label, took, code, seen, line_finder(path, workshop.bench.root)
            )
        )
    left_out = tuple(f"{v.candidate}: {v.verdict}" for v in asked if v.verdict != CORRECT)
    both = {v.build for v in asked if v.verdict == CORRECT} == {*builds} and len(builds) == 2
    states = _states(workshop, checked, builds) if both else {}
    return Hot(snippet.name, tuple(found), states, left_out)


def _states(
    workshop: "Workshop", checked: Checked, builds: Sequence[str]
) -> Mapping[tuple[str, int], str]:
    left, right = builds
    (diff,) = workshop.diff(left, right, [checked.snippet.name])
    return {(row.file, row.line): row.state for row in diff.diff.rows}
