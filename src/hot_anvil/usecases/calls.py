"""What C++ lines call, and what each build left of that."""

from collections.abc import Collection, Mapping, Sequence

from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.code.records import EMITTED, Code, names_of
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.stages.called import Caller
from hot_anvil.core.stages.remaining import left_of
from hot_anvil.core.stages.told import CallerLeft, SnippetCalls
from hot_anvil.errors import RequestError
from hot_anvil.system.asking.calls import Spoken, ask_calls
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.workspace import Workspace, usecase

_COMPILERS = ("_GLOBAL__", "__cxx_global")  # functions that compilers add to start up


@usecase
def make_calls(
    workspace: Workspace,
    builds: Sequence[str],
    snippets: Sequence[str],
    entries: Collection[str],
) -> tuple[SnippetCalls, ...]:
    """Return what each C++ snippet's functions call, and what the builds named left of it."""
    compiled = [
        one for one in workspace.compile_named(builds, snippets) if "c++" in one.snippet.languages
    ]
    if not compiled:
        raise RequestError(
            "calls tells what C++ calls, and no source asked for is C++; 'remarks' tells what was "
            "inlined in other languages."
        )
    out = []
    for name in dict.fromkeys(one.snippet.name for one in compiled):
        own = [one for one in compiled if one.snippet.name == name]
        usable = [one for one in own if one.status == COMPILED and not one.whole]
        if not usable:
            raise RequestError(
                f"{name}: no build asked for compiled it to code of its own"
                f"{': ' + own[0].why if own[0].why else ', before linking'}."
            )
        asked = _ask(workspace, usable[0])
        codes = {one.build.name: workspace.code(one, EMITTED, True) for one in usable}
        files = set(usable[0].snippet.sources)
        callers = [
            caller for one in asked for caller in one.callers
            if any(call.file in files for call in caller.calls)
            and not caller.symbol.startswith(_COMPILERS)
        ]  # fmt: skip
        chosen_callers = _named(callers, entries)
        if chosen_callers or not entries:
            out.append(_told(workspace, name, asked, chosen_callers, codes))
    if not out:
        raise RequestError("; ".join(_missing(workspace, compiled, entries)), about="entries")
    return tuple(out)


def _ask(workspace: Workspace, built: Built) -> list[Spoken]:
    chains, family, store = workspace.found.toolchains, workspace.family, workspace.store
    return [
        ask_calls(job, unit, chains, family, store)
        for job, unit in workspace.jobs_of(built)
        if job.language == "c++"
    ]


def _named(callers: Sequence[Caller], entries: Collection[str]) -> list[Caller]:
    return [
        one for one in callers
        if not entries or any(name in names_of(one.symbol, one.title) for name in entries)
    ]  # fmt: skip


def _missing(
    workspace: Workspace, compiled: Sequence[Built], entries: Collection[str]
) -> Sequence[str]:
    usable = next(one for one in compiled if one.status == COMPILED)
    known = [c.title for one in _ask(workspace, usable) for c in one.callers]
    return [
        f"{name}: no such function calls anything.{did_you_mean(name, known)} Those that do: "
        f"{listed(known)}."
        for name in entries
    ]


def _told(
    workspace: Workspace,
    name: str,
    asked: Sequence[Spoken],
    callers: Sequence[Caller],
    codes: Mapping[str, Code],
) -> SnippetCalls:
    files = dict.fromkeys(call.file for caller in callers for call in caller.calls if call.file)
    rows = tuple(
        CallerLeft(caller, {build: left_of(caller, code) for build, code in codes.items()})
        for caller in callers
    )
    first = asked[0]
    unknown = tuple(dict.fromkeys(text for one in asked for text in one.unknown))
    sources = read_sources(workspace.bench.root, list(files))
    return SnippetCalls(name, rows, first.reader, first.form, unknown, sources)
