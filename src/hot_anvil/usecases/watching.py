"""What a save does to the code: against the last state that compiled, build by build."""

import time
from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.code.records import Code, find_functions, only_functions, parts_by_owner
from hot_anvil.core.config.records import find_snippets
from hot_anvil.core.diff.side import Side
from hot_anvil.core.facts.records import FunctionFacts
from hot_anvil.core.results.looks import BuildLook, ExpectationChange, FactChange, Look
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.usecases.comparison import compare_kept
from hot_anvil.usecases.inspection import check_expectations
from hot_anvil.workspace import Memo, Workspace, usecase

_FACTS_UNSAID = ("bytes", "padding")  # what changes with every edit and says nothing by itself


class Held(NamedTuple):
    """The last good states, by names of snippet and build."""

    sides: Mapping[tuple[str, str], Side]
    expected: Mapping[tuple[str, str, str], str]  # entry, fact, build -> state


NOTHING = Held({}, {})


class Wanted(NamedTuple):
    """What is watched."""

    builds: tuple[str, ...] = ()
    snippets: tuple[str, ...] = ()
    entries: tuple[str, ...] = ()


def afresh(workspace: Workspace) -> Workspace:
    """Return a workspace that knows nothing of how its files were before."""
    workspace.store.forget_digests()
    return workspace._replace(memo=Memo())


@usecase
def look(
    workspace: Workspace, held: Held, wanted: Wanted, number: int, files: Sequence[str]
) -> tuple[Look, Held]:
    """Compile what is watched and return what that changed, with the states to hold from now on."""
    began = time.perf_counter()
    built = workspace.compile_named(wanted.builds, wanted.snippets)
    compiling = time.perf_counter() - began
    sides = dict(held.sides)
    looks: list[BuildLook] = []
    facts: list[FactChange] = []
    for one in built:
        key = one.snippet.name, one.build.name
        before = sides.get(key)
        if one.status != COMPILED:
            looks.append(BuildLook(one, None, before is not None, before and before.code.total))
            continue
        code = workspace.code(one)
        now = Side(one.build.name, one, code, read_sources(workspace.bench.root, code.files))
        sides[key] = now
        changed = _changed(before.code, code, wanted.entries) if before else set()
        diff = None
        if before and changed:
            names = (
                before._replace(name=f"{one.build.name} before"),
                now._replace(name=f"{one.build.name} now"),
            )
            diff = compare_kept(workspace, *names, changed, edited=True, ask=False)
            facts += _fact_changes(before, now, changed)
        looks.append(BuildLook(one, diff, True, code.total))
    stirred = {one.built.snippet.name for one in looks if one.diff is not None}
    about = [one for one in built if not number or one.snippet.name in stirred]
    expected, told = _expectations(workspace, held, about)
    sources = {
        file: list(lines)
        for file, lines in read_sources(
            workspace.bench.root, sorted({d.file for a in looks for d in a.errors if d.file})
        ).items()
    }
    made = Look(
        number, tuple(files), time.perf_counter() - began, compiling, tuple(looks), tuple(facts),
        tuple(told), sources,
    )  # fmt: skip
    return made, Held(sides, expected)


def _changed(before: Code, now: Code, entries: Collection[str]) -> set[str]:
    """Return the functions whose instructions are others than before, of those asked for."""
    left, right = (_texts(code) for code in (before, now))
    out = {name for name in {*left, *right} if left.get(name) != right.get(name)}
    if not entries:
        return out
    asked = {s for name in entries for s in find_functions([before, now], name)}
    return out & asked


def _texts(code: Code) -> dict[str, list[tuple[str, tuple[str, ...]]]]:
    return {
        owner: [(i.mnemonic, i.operands) for part in parts for i in part.instructions]
        for owner, parts in parts_by_owner(code.functions).items()
    }


def _fact_changes(before: Side, now: Side, changed: Collection[str]) -> Iterator[FactChange]:
    from hot_anvil.core.facts.gather import gather_facts

    old, new = (
        {
            f.name: f
            for f in gather_facts(
                only_functions(side.code, changed), side.sources,
                {n: s for unit in side.built.shown for n, s in unit.sizes.items()},
            )
        }
        for side in (before, now)
    )  # fmt: skip
    for name in old:
        if name in new:
            yield from _of_function(now.built.build.name, old[name], new[name])


def _of_function(build: str, old: FunctionFacts, new: FunctionFacts) -> Iterator[FactChange]:
    pairs = [("", old.facts, new.facts)]
    if len(old.loops) == len(new.loops):  # else which is which is not known
        pairs += [
            (b.lines, a.facts, b.facts) for a, b in zip(old.loops, new.loops, strict=True)
        ]  # fmt: skip
    for loop, before, after in pairs:
        left = {fact.name: fact.words for fact in before}
        right = {fact.name: fact.words for fact in after}
        for fact in dict.fromkeys((*left, *right)):
            a, b = left.get(fact, "-"), right.get(fact, "-")
            if a != b and fact not in _FACTS_UNSAID:
                yield FactChange(build, new.title, loop, fact, a, b)


def _expectations(
    workspace: Workspace, held: Held, built: Sequence[Built]
) -> tuple[dict[tuple[str, str, str], str], list[ExpectationChange]]:
    names = {one.snippet.name for one in built if one.snippet.expectations}
    if not names or any(e.of_calls for one in built for e in one.snippet.expectations):
        return dict(held.expected), []  # what calls cost elsewhere takes longer than a save may
    builds = list(dict.fromkeys(one.build.name for one in built if one.status == COMPILED))
    if not builds:
        return dict(held.expected), []
    found = dict(held.expected)
    told = []
    for one in check_expectations(workspace, builds, sorted(names)):
        for outcome in one.outcomes:
            key = outcome.expectation.entry, outcome.fact, outcome.build
            before = held.expected.get(key)
            found[key] = outcome.state
            if before is not None and before != outcome.state:
                told.append(ExpectationChange(
                    outcome.build, outcome.expectation.entry, outcome.fact, before, outcome.state,
                    outcome.found,
                ))  # fmt: skip
    return found, told


def first_files(workspace: Workspace, wanted: Wanted) -> list[str]:
    """Return the files to watch before anything is compiled: sources, and the bench's file."""
    snippets = find_snippets(workspace.bench, wanted.snippets)
    return _there(workspace, {source for one in snippets for source in one.sources})


def watched_files(workspace: Workspace, wanted: Wanted) -> list[str]:
    """Return the bench's own files that its builds read, with its bench file."""
    built = workspace.compile_named(wanted.builds, wanted.snippets)
    files = {source for one in built for source in one.snippet.sources}
    for key in {job.key for one in built for job, _ in workspace.jobs_of(one)}:
        files.update(workspace.store.files_of(key))
    return _there(workspace, files)


def _there(workspace: Workspace, files: set[str]) -> list[str]:
    bench = Path(workspace.bench.file).name
    named = files | ({bench} if bench.endswith(".toml") else set())
    own = (file for file in named if not file.startswith("/"))
    return sorted(file for file in own if Path(workspace.store.root, file).exists())
