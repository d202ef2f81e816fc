"""Comparisons of a workspace: two builds, two entries, an edit, two files, many builds."""

import json
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.code.records import (
    EMITTED,
    LINKED,
    Code,
    View,
    find_functions,
    find_symbols,
    join_codes,
)
from hot_anvil.core.codec import read
from hot_anvil.core.config.records import find_snippets
from hot_anvil.core.diff.records import Explained
from hot_anvil.core.diff.side import Side, lone_functions, only_file
from hot_anvil.core.diff.stored import Stored, from_stored, to_stored
from hot_anvil.core.names import listed
from hot_anvil.core.results.code import SnippetDiff
from hot_anvil.core.results.syntax import with_values
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.system.build.grid import plan_jobs
from hot_anvil.system.build.jobs import find_earlier, load_code, load_remarks, load_sources
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.workspace import Workspace, usecase

if TYPE_CHECKING:
    from hot_anvil.core.diff.ledger import Ledger
    from hot_anvil.core.remarks.records import Remark
    from hot_anvil.core.toolchain.remarks import DoneRemark


def compare_kept(
    workspace: Workspace,
    left: Side,
    right: Side,
    entries: Collection[str] = (),
    same_function: Mapping[str, str] | None = None,
    edited: bool = False,
    files: Mapping[str, str] | None = None,
    ask: bool = True,
) -> SnippetDiff:
    """Compare two sides, or take what was found from the store when they were compared before.

    With ``ask`` the compilers are asked about reasons that they know better, once for each.
    """

    fresh: list[Explained] = []

    def make(_work: Path) -> Any:
        from hot_anvil.core.code.places import LineMap
        from hot_anvil.core.diff.edited import map_lines
        from hot_anvil.core.reasons.asked import KINDS as ASKED
        from hot_anvil.core.reasons.asked import with_answers
        from hot_anvil.core.reasons.comparing import explain_difference
        from hot_anvil.system.process.parallel import over_cores

        a, c = (
            side if side.remarks else side._replace(remarks=_remarks(workspace, side))
            for side in (left, right)
        )
        found = explain_difference(
            a, c, entries, same_function or {}, edited, files or {}, over_cores
        )
        if ask and not same_function and any(r.kind in ASKED for r in found.reasons):
            lines = map_lines(a.sources, c.sources, files or {}) if edited else LineMap()
            answers = _asked(workspace, a), _asked(workspace, c)
            found = found._replace(reasons=with_answers(found.reasons, answers, lines))
        fresh.append(found)
        return to_stored(found)

    units = [unit.artefact for side in (left, right) for unit in side.built.shown]
    about = [
        sorted(entries),
        sorted((same_function or {}).items()),
        edited,
        sorted((files or {}).items()),
        ask,
    ]
    sides = [[side.code.view, len(side.built.shown)] for side in (left, right)]
    key = digest(f"compared {stage_digest('comparison')}", json.dumps([units, about, sides]))
    plain = workspace.store.derive(key, make)
    codes = left.code, right.code
    names = left.name, right.name
    isas = (
        codes[0].isa if codes[0].total else codes[1].isa,
        codes[1].isa if codes[1].total else codes[0].isa,
    )
    explained = fresh[0] if fresh else from_stored(read(Stored, plain), *codes)
    return with_values(SnippetDiff(left.built, right.built, explained, *isas, names), *codes)


def _remarks(workspace: Workspace, side: Side) -> "tuple[DoneRemark, ...]":
    units = [unit for unit in side.built.units if unit.artefact]
    from hot_anvil.core.toolchain.remarks import DoneRemark

    return tuple(DoneRemark(*row) for u in units for row in load_remarks(u, workspace.store))


def _asked(workspace: Workspace, side: Side) -> "tuple[Remark, ...]":
    """Return what a side's compiler says of it, nothing where it can be asked no longer."""
    from hot_anvil.usecases.remarks import ask_build

    now = workspace.memo.built.get((side.built.snippet.name, side.built.build.name))
    if now is None or now.units != side.built.units:
        return ()  # made of files as they were before an edit, or of another bench
    return ask_build(workspace, side.built).remarks


def side_of(workspace: Workspace, built: Built, view: str, name: str) -> Side:
    """Return a build of a snippet as one side of a comparison."""
    code = workspace.code(built, view)
    return Side(name, built, code, read_sources(workspace.bench.root, code.files))


@usecase
def compare_builds(
    workspace: Workspace,
    left: str,
    right: str,
    snippets: Sequence[str] = (),
    entries: Collection[str] = (),
    view: View = EMITTED,
) -> tuple[SnippetDiff, ...]:
    """Compare each snippet on two sides, each a build or ENTRY@BUILD."""
    (left_entry, first), (right_entry, second) = (side_named(workspace, t) for t in (left, right))
    if bool(left_entry) != bool(right_entry):
        raise RequestError(
            f"{left} and {right}: give an entry on both sides, or on neither, such as "
            f"clamp@{first.name} and clamp@{second.name}."
        )
    built = {(b.snippet.name, b.build): b for b in workspace.compile(snippets, [first, second])}
    names = [
        n
        for n in dict.fromkeys(n for n, _ in built)
        if (n, first) in built and (n, second) in built
    ]
    sides = {
        (name, build): side_of(workspace, built[name, build], _view(built, name, view), build.name)
        for name in names
        for build in dict.fromkeys((first, second))
    }
    pairs = [(sides[n, first], sides[n, second]) for n in names]
    if left_entry:
        return _compare_entries(workspace, pairs, left_entry, right_entry, (left, right))
    codes = [side.code for side in sides.values()]
    symbols = find_symbols(entries, codes)
    out = [compare_kept(workspace, a, b, symbols) for a, b in pairs]
    return tuple(item for item in out if item.diff.functions or not entries)


def _view(built: Mapping[tuple[str, Build], Built], name: str, view: str) -> str:
    """Return the view that both sides have: code made while linking has only the linked one."""
    late = any(one.whole for (snippet, _), one in built.items() if snippet == name)
    return LINKED if late else view


def side_named(workspace: Workspace, text: str) -> tuple[str, Build]:
    """Split ENTRY@BUILD; a build's own name may hold an @ too, as clang-16@riscv64 does."""
    known = {name for build in workspace.plan.builds for name in (build.name, build.toolchain)}
    entry, at, build = text.partition("@")
    if not at:
        only = workspace.plan.builds
        if len(only) == 1 and text not in known and ":" not in text and " " not in text:
            return text, only[0]  # an entry alone, where there is but one build
        return "", workspace.build(text)
    if text in known or any(text.startswith(f"{name}:") for name in known):
        return "", workspace.build(text)
    try:
        return entry, workspace.build(build)
    except RequestError:
        if any(name.startswith(f"{entry}@") or name == entry for name in known):
            return "", workspace.build(text)  # tells what is wrong with the build
        raise


def _compare_entries(
    workspace: Workspace,
    pairs: Sequence[tuple[Side, Side]],
    left: str,
    right: str,
    names: tuple[str, str],
) -> tuple[SnippetDiff, ...]:
    found = []
    for a, b in pairs:
        mine, theirs = find_functions([a.code], left), find_functions([b.code], right)
        if mine and theirs:
            same = {min(mine): min(theirs)}
            found.append(
                compare_kept(
                    workspace, a._replace(name=names[0]), b._replace(name=names[1]), (), same
                )
            )
    if not found:
        for name, codes in (
            (left, [a.code for a, _ in pairs]),
            (right, [b.code for _, b in pairs]),
        ):
            find_symbols([name], codes)  # names the one that is not there
        raise RequestError(f"{left} and {right} are in no snippet together.")
    return tuple(found)


@usecase
def compare_edit(
    workspace: Workspace, build: str, steps: int, snippets: Sequence[str], entries: Collection[str]
) -> tuple[SnippetDiff, ...]:
    """Compare what a build made of the source ``steps`` edits ago with what it makes now."""
    chosen = workspace.build(build)
    out = []
    known: list[Code] = []
    asked = workspace.compile(snippets, [chosen])
    for built in asked:
        old = _earlier(workspace, built, steps)
        if old is None:
            continue
        now = side_of(workspace, built, EMITTED, f"{chosen.name} now")
        known += [old.code, now.code]
        symbols = {s for name in entries for s in find_functions([old.code, now.code], name)}
        out.append(compare_kept(workspace, old, now, symbols, edited=True))
    if not out:
        raise RequestError(
            f"no source that {chosen.name} compiles was another one {steps} "
            f"{'edit' if steps == 1 else 'edits'} ago, as far as the store in "
            f"{workspace.store.folder} knows. Compile before an edit, then compare after it.",
            about="edits",
        )
    find_symbols(entries, known)
    return tuple(item for item in out if item.diff.functions or not entries)


def _earlier(workspace: Workspace, built: Built, steps: int) -> Side | None:
    """Return a snippet as the build made it ``steps`` edits ago, None if nothing was another."""
    if built.whole:
        raise RequestError(
            f"{built.build.name} makes its code while linking, and earlier code of that "
            "is not kept. Compare a build without link-time optimisation.",
            about="edits",
        )
    found = workspace.found
    jobs = plan_jobs(
        [(built.snippet, built.build)], found.toolchains, found.families, workspace.store.root
    )
    units = []
    sources: dict[str, Sequence[str]] = {}
    changed = False
    for unit, job in zip(built.units, jobs.values(), strict=True):
        old = find_earlier(job, workspace.store, steps)
        changed = changed or (old is not None and old.status == COMPILED)
        chosen = old if old is not None and old.status == COMPILED else unit
        units.append(chosen)
        sources |= load_sources(chosen, workspace.store)
    if not changed:
        return None
    code = join_codes([load_code(unit, workspace.store) for unit in units])
    rest = [file for file in code.files if file not in sources]
    sources |= read_sources(workspace.bench.root, rest)
    before = built._replace(units=tuple(units))
    when = "before the last edit" if steps == 1 else f"{steps} edits ago"
    return Side(f"{built.build.name} {when}", before, code, sources)


def compare_files(
    left: Workspace, right: Workspace, builds: tuple[str, str], entries: Collection[str]
) -> tuple[SnippetDiff, ...]:
    """Compare two bare sources, each under a build; ``entries`` may name one function of each."""
    sides = []
    for workspace, build in zip((left, right), builds, strict=True):
        (built,) = workspace.compile((), [workspace.build(build)]) or (None,)
        if built is None:
            raise RequestError(f"{workspace.bench.file}: {build} has no compiler for it.")
        side = side_of(workspace, built, EMITTED, f"{workspace.bench.file} {build}")
        sides.append(side._replace(remarks=_remarks(workspace, side)))  # each from its own store
    a, b = sides
    files = _renamed_files(a, b)
    same = _named_pair(a, b, entries) or ({} if entries else lone_functions(a.code, b.code))
    symbols = {s for name in entries for s in find_functions([a.code, b.code], name)}
    if entries and not symbols:
        find_symbols(entries, [a.code, b.code])
    return (compare_kept(right, a, b, () if same else symbols, same, True, files),)


def _named_pair(a: Side, b: Side, entries: Collection[str]) -> Mapping[str, str]:
    """Return the functions to compare where two names are given, the first of each side alone."""
    if len(entries) != 2:
        return {}
    one, other = list(entries)
    mine, theirs = find_functions([a.code], one), find_functions([b.code], other)
    return {min(mine): min(theirs)} if mine and theirs and mine != theirs else {}


def _renamed_files(a: Side, b: Side) -> Mapping[str, str]:
    old, new = only_file(a.built.snippet.sources), only_file(b.built.snippet.sources)
    return {old: new} if old and new else {}


@usecase
def make_ledgers(
    workspace: Workspace, builds: Sequence[str], snippets: Sequence[str], entries: Collection[str]
) -> tuple["Ledger", ...]:
    """Return each snippet's ledger under the builds named, all of the grid when none is."""
    from hot_anvil.core.diff.ledger import Column, make_ledger

    chosen = [workspace.build(name) for name in builds] or list(workspace.plan.builds)
    compiled = workspace.compile(snippets, list(dict.fromkeys(chosen)))
    codes = {id(b): workspace.code(b) for b in compiled if b.status == COMPILED}
    symbols = find_symbols(entries, list(codes.values()))
    out = []
    for name in dict.fromkeys(b.snippet.name for b in compiled):
        own = [b for b in compiled if b.snippet.name == name]
        columns = [Column(b.build.name, codes.get(id(b)), b.why) for b in own]
        files = list(dict.fromkeys(f for c in columns if c.code for f in c.code.files))
        made = make_ledger(name, columns, read_sources(workspace.bench.root, files), symbols)
        if made.rows or not entries:
            out.append(made)
    if not any(ledger.columns for ledger in out):
        asked = [s.name for s in find_snippets(workspace.bench, snippets)]
        usable = dict.fromkeys(b.name for name in asked for b in workspace.plan.of[name])
        raise RequestError(
            f"{listed(asked)}: not compiled under {listed(builds)}. Its builds are: "
            f"{listed(usable)}."
        )
    return tuple(out)
