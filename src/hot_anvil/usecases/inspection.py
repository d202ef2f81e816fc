"""Facts of a workspace's builds: found once for each artefact, then side by side."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from hot_anvil.core.arch import architecture
from hot_anvil.core.build.records import COMPILED, REFUSED, Built
from hot_anvil.core.code.records import EMITTED, Code, find_functions, find_symbols
from hot_anvil.core.codec import read
from hot_anvil.core.config.positions import line_of
from hot_anvil.core.config.records import Bench, Snippet
from hot_anvil.core.facts.expectation import Expectation
from hot_anvil.core.facts.records import FunctionFacts
from hot_anvil.core.facts.silent import silent_lines
from hot_anvil.core.facts.table import (
    Column,
    FactTable,
    ScalarLoop,
    SnippetFacts,
    make_table,
    scalar_builds,
)
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.workspace import Workspace, usecase

if TYPE_CHECKING:
    from hot_anvil.core.binary.frame_layout import BuildFrame
    from hot_anvil.core.facts.expectations import Called, Expected


@usecase
def make_facts(
    workspace: Workspace,
    builds: Sequence[str],
    snippets: Sequence[str],
    entries: Collection[str],
) -> tuple[SnippetFacts, ...]:
    """Return each snippet's facts under the builds named, all of the grid when none is."""
    chosen = [workspace.build(name) for name in builds] or list(workspace.plan.builds)
    compiled = workspace.compile(snippets, list(dict.fromkeys(chosen)))
    codes = {id(b): workspace.code(b, EMITTED, True) for b in compiled if b.status == COMPILED}
    symbols = find_symbols(entries, list(codes.values()))
    out = []
    for name in dict.fromkeys(b.snippet.name for b in compiled):
        own = [b for b in compiled if b.snippet.name == name]
        made = _snippet_facts(workspace, name, own, codes, symbols)
        if made.table.functions or not entries:
            out.append(made)
    if not out:
        raise RequestError(
            f"{listed(builds)}: no compiler of these takes the sources. The builds are: "
            f"{listed(build.name for build in workspace.plan.builds)}."
        )
    return tuple(out)


def _snippet_facts(
    workspace: Workspace,
    name: str,
    builds: Sequence[Built],
    codes: Mapping[int, Code],
    symbols: Collection[str],
) -> SnippetFacts:
    columns = []
    for built in builds:
        if built.status == REFUSED:
            columns.append(Column(built.build.name, None, built.why))
            continue
        found = facts_of_build(workspace, built, codes[id(built)])
        kept = tuple(f for f in found if not symbols or f.name in symbols)
        own = frozenset(codes[id(built)].files)
        columns.append(Column(built.build.name, kept, files=own))
    by_build = {b.build.name: codes[id(b)] for b in builds if id(b) in codes}
    files = dict.fromkeys(file for code in by_build.values() for file in code.files)
    sources = read_sources(workspace.bench.root, list(files))
    table = make_table(name, columns)
    silent = silent_lines(by_build, sources, symbols)
    scalar = tuple(_scalar_loops(workspace, table, builds))
    return SnippetFacts(table, by_build, silent, scalar)


def _scalar_loops(
    workspace: Workspace, table: FactTable, builds: Sequence[Built]
) -> Iterator[ScalarLoop]:
    """Give the loops that only other builds vectorise, with what the compilers say of that."""
    found = list(scalar_builds(table))
    names = dict.fromkeys(name for _, _, own in found for name in own)
    asked = [one for one in builds if one.build.name in names]
    if not asked:
        return
    from hot_anvil.core.remarks.table import not_vectorised
    from hot_anvil.system.process.threads import thread_pool
    from hot_anvil.usecases.remarks import ask_build

    with thread_pool(workspace.scope.limits.at_once) as pool:
        answers = list(pool.map(lambda one: ask_build(workspace, one), asked))
    said = {answer.build: answer.remarks for answer in answers}
    for function, loop, own in found:
        first, _, last = loop.lines.partition("-")
        lines = range(int(first), int(last or first) + 1)
        reasons: dict[str, list[str]] = {}
        for build in own:
            why = not_vectorised(said.get(build, ()), lines, loop.file)
            reasons.setdefault(why, []).append(build)
        for why, of in reasons.items():
            yield ScalarLoop(function.title, loop.file, loop.lines, tuple(of), why)


def facts_of_build(workspace: Workspace, built: Built, code: Code) -> tuple[FunctionFacts, ...]:
    """Return the facts of all functions of a build, from the store where they are kept."""

    def make(_work: Path) -> Any:
        from hot_anvil.core.facts.gather import gather_facts
        from hot_anvil.system.process.parallel import over_cores

        sources = read_sources(workspace.bench.root, code.files)
        sizes = {name: size for unit in built.shown for name, size in unit.sizes.items()}
        return gather_facts(code, sources, sizes, spread=over_cores)

    artefacts = [unit.artefact for unit in built.shown]
    key = digest(f"facts {stage_digest('facts')}", *artefacts, code.view)
    return read(tuple[FunctionFacts, ...], workspace.store.derive(key, make))


@usecase
def make_frames(
    workspace: Workspace, build: str, snippets: Sequence[str], entries: Collection[str]
) -> tuple["BuildFrame", ...]:
    """Return where the variables of each function live under one build."""
    from hot_anvil.core.binary.frame_layout import BuildFrame
    from hot_anvil.system.build.frames import load_frames

    chosen = workspace.build(build)
    chain = workspace.toolchain(chosen)
    arch = architecture(chain.isa)
    if not arch.abi.stack:
        raise RequestError(
            f"{build}: {arch.title} has no registers or frame before it is assembled."
        )
    family = next(f for f in workspace.found.families if f.name == chain.family)
    built = workspace.compile(snippets, [chosen])
    codes = [workspace.code(one) for one in built]
    symbols = find_symbols(entries, codes)
    out = []
    for one, code in zip(built, codes, strict=True):
        if one.whole:
            raise RequestError(
                f"{build}: its code is made while linking, and its variables are not kept. Take a "
                "build without link-time optimisation."
            )
        starts = {
            f.name: tuple(i.address - f.instructions[0].address for i in f.instructions)
            for f in code.functions
            if f.instructions
        }
        for frame, same in load_frames(one, chain, family, workspace.store):
            if frame.symbol in starts and (not symbols or frame.symbol in symbols):
                own = starts[frame.symbol]
                out.append(BuildFrame(one.snippet.name, chosen.name, frame, same, own))
    if not out:
        raise RequestError(f"{build}: the compiler's debug info tells of no variables here.")
    return tuple(out)


@usecase
def check_expectations(
    workspace: Workspace, builds: Sequence[str], snippets: Sequence[str]
) -> tuple["Expected", ...]:
    """Return whether the expectations of the snippets hold, under the builds or all of the grid."""
    from hot_anvil.core.build.builds import names_of
    from hot_anvil.core.config.records import find_snippets
    from hot_anvil.core.facts.expectations import Expected, Outcome, is_about, judge, judge_calls

    chosen = [workspace.build(name) for name in builds]
    out = []
    for snippet in find_snippets(workspace.bench, snippets):
        if not snippet.expectations:
            continue
        compiled = workspace.compile([snippet.name], chosen)
        codes = {
            b.build.name: workspace.code(b, EMITTED, True) for b in compiled if b.status == COMPILED
        }
        columns = [
            (b, facts_of_build(workspace, b, codes[b.build.name]))
            if b.build.name in codes
            else (b, None)
            for b in compiled
        ]
        symbols = _entry_symbols(workspace, snippet, codes)
        called = _called(workspace, snippet)
        outcomes: list[Outcome] = []
        for expectation in _with_lines(workspace.bench, snippet.expectations):
            about = [
                (b.build.name, facts, b.why)
                for b, facts in columns
                if is_about(expectation, names_of(b.build, workspace.found.toolchains))
            ]
            if not about and not chosen:
                raise RequestError(
                    f"{workspace.bench.file}:{expectation.line}: expect: no build is called "
                    f"{listed(expectation.builds)}. The builds are: "
                    f"{listed(b.build.name for b in compiled)}."
                )
            outcomes += judge(expectation, about, symbols[expectation.entry])
            if expectation.of_calls:
                outcomes += judge_calls(expectation, [name for name, _, _ in about], called)
        first = {entry: min(names, default="") for entry, names in symbols.items()}
        out.append(Expected(snippet.name, tuple(outcomes), codes, first))
    if not out:
        raise RequestError(
            f"{workspace.bench.file}: there is nothing to expect. Add a [[snippet.expect]] table, "
            'such as: entry = "NAME", facts = { calls = 0 }.'
        )
    return tuple(out)


def _called(workspace: Workspace, snippet: Snippet) -> "Called":
    """Return what calls cost on other machines, where an expectation asks for it."""
    if not any(expectation.of_calls for expectation in snippet.expectations):
        return {}
    from hot_anvil.core.inputs.spec import point_label, sweep_points
    from hot_anvil.usecases.elsewhere import facts_of_calls
    from hot_anvil.usecases.verification import check_snippets

    (checked,) = check_snippets(workspace, [snippet.name])
    if checked.fault:
        raise checked.fault
    known = [point_label(point) for point in sweep_points(snippet)]
    for one in _with_lines(workspace.bench, snippet.expectations):
        if one.at and one.at not in known:
            raise RequestError(
                f"{workspace.bench.file}:{one.line}: expect: there are no inputs '{one.at}'. "
                f"They are: {listed(filter(None, known)) or 'only one, so leave it out'}."
            )
    return facts_of_calls(workspace, checked)


def _with_lines(bench: Bench, told: Sequence[Expectation]) -> list[Expectation]:
    """Return expectations with their lines in the bench's file."""
    return [one._replace(line=line_of(bench.text, one.place) or 0) for one in told]


def _entry_symbols(
    workspace: Workspace, snippet: Snippet, codes: Mapping[str, Code]
) -> dict[str, set[str]]:
    """Return the symbols of each entry expected of; refuse one that no build has."""
    out: dict[str, set[str]] = {}
    for expectation in _with_lines(workspace.bench, snippet.expectations):
        found = out[expectation.entry] = find_functions(codes.values(), expectation.entry)
        if codes and not found:
            known = dict.fromkeys(
                code.title(f.owner) for code in codes.values() for f in code.functions
            )
            raise RequestError(
                f"{workspace.bench.file}:{expectation.line}: expect: no build has a function "
                f"'{expectation.entry}'.{did_you_mean(expectation.entry, known)} The functions "
                f"are: {listed(known)}."
            )
    return out
