"""Earlier code measured beside the code now: what an edit or another compiler changed.

Times of two moments are not paired, so the code of an earlier measurement,
which the store still has, takes part in the same rounds as the code now.
"""

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.config.records import find_snippets
from hot_anvil.core.measure.history import State
from hot_anvil.core.measure.measurements import Measurements
from hot_anvil.core.measure.results import EarlierComparison, Measured
from hot_anvil.core.measure.summary import Result, compare_two
from hot_anvil.core.measure.verdict_words import SLOWER
from hot_anvil.core.names import listed
from hot_anvil.core.verify.results import Checked
from hot_anvil.errors import RequestError
from hot_anvil.system.build.jobs import load_unit
from hot_anvil.usecases.code_identities import codes_of
from hot_anvil.usecases.history import kept_states
from hot_anvil.workspace import Workspace, usecase

if TYPE_CHECKING:
    pass


@usecase
def with_earlier(workspace: Workspace, snippets: Sequence[str], number: int) -> Workspace:
    """Return a workspace in which the code of measurement ``number`` takes part.

    0 stands for each snippet's last other code.

    Raises RequestError when there is none.
    """
    names = [snippet.name for snippet in find_snippets(workspace.bench, snippets)]
    states = [
        state for state in kept_states(workspace.store.results, names, ()) if not state.imported
    ]
    if number and number not in (state.number for state in states):
        raise RequestError(
            f"{number}: there is no such measurement of {listed(names)}. They are: "
            f"{listed(str(state.number) for state in states)}.",
            about="number",
        )
    taken: list[Built] = []
    for name in names:
        built = {b.build.name: b for b in workspace.compile([name]) if b.status == COMPILED}
        for state in reversed(states):
            if state.snippet == name and number in (0, state.number):
                earlier = list(_earlier(workspace, state, built))
                taken += earlier
                if earlier:
                    break
    if not taken:
        which = f"measurement {number}" if number else "any earlier measurement"
        raise RequestError(
            f"no code of {which} is kept that is other than the code now. Measure, edit or "
            "change the compiler, then measure beside the earlier code.",
            about="number",
        )
    return workspace.with_earlier(taken)


def _earlier(workspace: Workspace, state: State, now: dict[str, Built]) -> Iterator[Built]:
    """Give the builds of a state whose code the store has and is other than the code now."""
    kept = {entry.maker.build: entry.maker.units for entry in state.entries}
    for name, artefacts in kept.items():
        one = now.get(name)
        if one is None or one.whole or artefacts == tuple(unit.artefact for unit in one.units):
            continue
        units = [load_unit(workspace.store, artefact) for artefact in artefacts]
        known = tuple(unit for unit in units if unit is not None)
        if known and len(known) == len(units):
            build = one.build._replace(earlier=state.number)
            yield one._replace(build=build, units=known, fresh=False)


def pairs_of(workspace: Workspace, checked: Checked) -> tuple[tuple[str, str], ...]:
    """Return the candidates that earlier code is measured beside: (now, earlier)."""
    builds = {b.build.name: b.build for b in workspace.compile([checked.snippet.name])}
    correct = {v.candidate for v in checked.timed}
    out = []
    for verdict in checked.timed:
        build = builds[verdict.build]
        now = verdict.candidate.removesuffix(f"#{build.earlier}")
        if build.earlier and now in correct:
            out.append((now, verdict.candidate))
    return tuple(out)


def slower_than_earlier(measured: Measured) -> list[Result]:
    """Return the candidates told slower than their earlier code, for each size."""
    results = {(r.inputs, r.candidate): r for s in measured.summaries for r in s.results}
    return [
        results[one.inputs, one.candidate]._replace(comparison=one.comparison)
        for one in measured.earlier
        if one.comparison.verdict.word == SLOWER
    ]


def compare_earlier(
    workspace: Workspace,
    checked: Checked,
    all_measurements: Sequence[Measurements],
    pairs: Sequence[tuple[str, str]],
) -> tuple[EarlierComparison, ...]:
    """Return how each candidate compares with its earlier code, at each size."""
    if not pairs:
        return ()
    codes = codes_of(workspace, checked)
    return tuple(
        EarlierComparison(
            measurements.inputs,
            now,
            earlier,
            compare_two(measurements, now, earlier),
            codes[now] == codes[earlier],
        )
        for measurements in all_measurements
        for now, earlier in pairs
    )
