"""What the compilers of a workspace's builds say of their own work."""

from collections.abc import Iterator, Sequence

from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.code.records import Code
from hot_anvil.core.remarks.table import SAME, Answered, SnippetRemarks, Span
from hot_anvil.system.asking.remarks import ask_remarks
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.system.build.demangling import titles_of
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.workspace import Workspace, usecase


@usecase
def ask_builds(
    workspace: Workspace, builds: Sequence[str] = (), snippets: Sequence[str] = ()
) -> tuple[SnippetRemarks, ...]:
    """Return what is said of each snippet under the builds named, all of the grid for none."""
    compiled = workspace.compile_named(builds, snippets)
    with thread_pool(workspace.scope.limits.at_once) as pool:
        answers = list(pool.map(lambda one: ask_build(workspace, one), compiled))
    out = []
    for name in dict.fromkeys(one.snippet.name for one in compiled):
        own = [a for one, a in zip(compiled, answers, strict=True) if one.snippet.name == name]
        files = dict.fromkeys(r.file for answer in own for r in answer.remarks if r.file)
        mine = next(one.snippet for one in compiled if one.snippet.name == name)
        order = sorted(files, key=lambda file: (file not in mine.sources, file.startswith("/")))
        sources = read_sources(workspace.bench.root, order)
        codes = [
            workspace.code(one)
            for one in compiled
            if one.snippet.name == name and one.status == COMPILED and not one.whole
        ]
        titles = {symbol: title for code in codes for symbol, title in code.titles.items()}
        symbols = dict.fromkeys(r.function for answer in own for r in answer.remarks)
        titles |= titles_of([s for s in symbols if s not in titles], workspace.store)
        spans = {symbol: span for code in reversed(codes) for symbol, span in _spans(code)}
        out.append(SnippetRemarks(name, tuple(own), sources, titles, spans))
    return tuple(out)


def _spans(code: Code) -> Iterator[tuple[str, Span]]:
    """Give the lines of each function, up to where the next one in its file begins."""
    begins = sorted({(*f.begins, f.name) for f in code.functions if f.begins[1] and not f.parent})
    for k, (file, line, symbol) in enumerate(begins):
        after = (next_line for other, next_line, _ in begins[k + 1 :] if other == file)
        last = next((one - 1 for one in after if one > line), 1 << 30)
        yield symbol, Span(file, line, last)


def ask_build(workspace: Workspace, built: Built) -> Answered:
    """Return what the compiler says of a snippet under one build, its sources together."""
    name = built.build.name
    if built.status != COMPILED:
        return Answered(name, (), {}, "", built.why)
    said = [ask_remarks(job, unit, workspace.store) for job, unit in workspace.jobs_of(built)]
    if len(said) == 1:
        return said[0]
    totals = {
        kind: sum(one.totals.get(kind, 0) for one in said)
        for kind in dict.fromkeys(k for one in said for k in one.totals)
    }
    code = next((one.code for one in said if one.code not in ("", SAME)), said[0].code)
    why = "" if any(not one.why for one in said) else said[0].why
    return Answered(name, tuple(r for one in said for r in one.remarks), totals, code, why)
