"""Measurements that the store keeps: written after each, read back by ``history``."""

from collections.abc import Sequence

from hot_anvil.core.build.records import COMPILED
from hot_anvil.core.measure.history import (
    Compared,
    Maker,
    State,
    compare_states,
    read_state,
    state_document,
)
from hot_anvil.core.measure.summary import Summary
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.verify.results import Checked
from hot_anvil.errors import RequestError
from hot_anvil.system.store.results import Results
from hot_anvil.usecases.answers import kept_heads
from hot_anvil.usecases.code_identities import codes_of
from hot_anvil.workspace import Workspace

KIND = "measurement"


def keep_states(
    workspace: Workspace,
    checked: Checked,
    summaries: Sequence[Summary],
    baseline: str,
    imported: str,
) -> None:
    """Keep what was measured, with what made the code and where it ran."""
    built = {b.build.name: b for b in workspace.compile([checked.snippet.name])}
    codes = codes_of(workspace, checked)
    makers = {}
    for verdict in checked.verdicts:
        one = built[verdict.build]
        if one.build.earlier:
            continue  # kept when it was measured first
        chain = workspace.toolchain(one.build)
        compiled = one.status == COMPILED
        makers[verdict.candidate] = Maker(
            f"{chain.name} ({chain.version})",
            workspace.command(checked.snippet, one.build),
            codes.get(verdict.candidate, ""),
            one.build.name,
            tuple(unit.artefact for unit in one.units) if compiled and not one.whole else (),
        )
    machine = workspace.machine
    for summary in summaries:
        document = state_document(summary, baseline, makers, machine, imported)
        workspace.store.results.add(KIND, checked.snippet.name, document)


def kept_states(
    results: Results, snippets: Sequence[str], candidates: Sequence[str]
) -> list[State]:
    """Return what was kept, the oldest first; only states that hold one of the candidates."""
    states = [read_state(*row) for row in results.of_kind(KIND)]
    if snippets:
        states = [state for state in states if state.snippet in snippets]
    if not states and kept_heads(results, snippets):
        return []  # there is something to list all the same
    if not states:
        raise RequestError(
            f"{results.path.parent}: nothing was measured here yet. Measuring and "
            "picking keep what they measure."
        )
    known = list(dict.fromkeys(e.candidate for s in states for e in s.entries))
    for name in candidates:
        if name not in known:
            hint = did_you_mean(name, known) or f" Known: {listed(known)}."
            raise RequestError(f"{name}: nothing was measured of this candidate.{hint}")
    if candidates:
        states = [s for s in states if any(s.entry(name) for name in candidates)]
    return states


def compared_states(states: Sequence[State], wanted: Sequence[int]) -> list[Compared]:
    """Compare two states by number, and their sizes measured at the same time.

    Without numbers: for each snippet and size the last one with the one before
    whose code, toolchain or machine differs.
    """
    if wanted:
        by_number = {state.number: state for state in states}
        for number in wanted:
            if number not in by_number:
                raise RequestError(
                    f"{number}: there is no such measurement. They are: "
                    f"{listed(map(str, by_number))}.",
                    about="numbers",
                )
        before, after = (by_number[number] for number in wanted)
        if (before.snippet, before.inputs) != (after.snippet, after.inputs):
            raise RequestError(
                f"{wanted[0]} {wanted[1]}: one is of {_told(before)}, the other of {_told(after)}.",
                about="numbers",
            )
        return [compare_states(before, after)]
    out = []
    for key in dict.fromkeys((s.snippet, s.inputs) for s in states):
        own = [s for s in states if (s.snippet, s.inputs) == key]
        last = own[-1]
        earlier = [s for s in own[:-1] if _makers(s) != _makers(last)] or own[:-1]
        if earlier:
            out.append(compare_states(earlier[-1], last))
    if not states:
        raise RequestError("Nothing was measured yet, so there is nothing to compare.")
    if not out:
        raise RequestError("There is only one measurement of each; measure again to compare.")
    return out


def _told(state: State) -> str:
    return f"{state.snippet}, {state.inputs}" if state.inputs else state.snippet


def _makers(state: State) -> list[object]:
    rows = ((e.candidate, e.maker.toolchain, e.maker.command, e.maker.code) for e in state.entries)
    return [state.machine, sorted(rows)]
