"""A compiler's forms between source and assembly: of one function, pass by pass, or of a source."""

import re
from collections.abc import Sequence

from hot_anvil.core.build.records import COMPILED, Built, Unit
from hot_anvil.core.code.records import find_functions, names_of
from hot_anvil.core.stages.records import FunctionStages, Offered, Stage, WholeForm
from hot_anvil.errors import RequestError
from hot_anvil.system.asking import gnu_stages
from hot_anvil.system.asking.remarks import ask_remarks
from hot_anvil.system.asking.stages import Staged, ask_stages, why_no_stages
from hot_anvil.system.asking.whole_forms import MIR, TEXTS, ask_form, forms_of, read_form, read_text
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.system.build.demangling import titles_of
from hot_anvil.system.build.jobs import Job, load_code
from hot_anvil.system.process.threads import thread_pool
from hot_anvil.workspace import Workspace, usecase


@usecase
def offer_stages(
    workspace: Workspace, builds: Sequence[str], snippets: Sequence[str]
) -> tuple[Offered, ...]:
    """Return what each build's compiler can show, once for each toolchain and flags."""
    out: dict[str, Offered] = {}
    for built in workspace.compile_named(builds, snippets):
        if built.build.name in out or built.status != COMPILED:
            continue
        job, _ = workspace.jobs_of(built)[0]
        name = built.snippet.name
        why = why_no_stages(job)
        if why:
            out[built.build.name] = Offered(name, built.build.name, {}, why)
            continue
        forms = {"whole source": forms_of(job)}
        if job.family.records and job.family.records.stages == "gnu":
            on = gnu_stages.passes(job, workspace.store)
            for kind, form in (("tree", "GIMPLE"), ("rtl", "RTL")):
                first = ("gimple",) if kind == "tree" else ()
                forms[form] = (*first, *(n for k, n in on if k == kind))
        out[built.build.name] = Offered(name, built.build.name, forms, "")
    return tuple(out.values())


@usecase
def make_stages(
    workspace: Workspace,
    builds: Sequence[str],
    snippets: Sequence[str],
    entry: str,
    only: str = "",
) -> tuple[FunctionStages, ...]:
    """Return one function's forms under the builds named, all of the grid when none is.

    With ``only`` just that stage, where a compiler can be asked for it alone: in a long source
    that takes a small part of the time.
    """
    compiled = workspace.compile_named(builds, snippets)
    if builds:
        for built in compiled:
            workspace.code(built)  # which says why where it is refused
    usable = [one for one in compiled if one.status == COMPILED]
    with thread_pool(workspace.scope.limits.at_once) as pool:
        found = list(pool.map(lambda one: _of_build(workspace, one, entry, only), usable))
    out = tuple(one for one in found if one is not None)
    if not out:
        raise RequestError(
            f"{entry}: no such function, or none that a compiler here shows the forms of.",
            about="entries",
        )
    return out


def _of_build(workspace: Workspace, built: Built, entry: str, only: str) -> FunctionStages | None:
    for job, unit in workspace.jobs_of(built):
        if why_no_stages(job):
            continue
        code = load_code(unit, workspace.store)
        symbols = find_functions([code], entry)
        symbol = min(symbols) if symbols else entry  # one that is inlined everywhere
        if not symbols and not _names_it(job, workspace, entry):
            continue
        title = code.title(symbol)
        staged = _alone(workspace, job, unit, symbol, title, only) if only else None
        staged = staged or ask_stages(job, unit, symbol, title, workspace.store, workspace.progress)
        if not staged.stages:
            continue
        called = {
            name
            for stage in staged.stages
            for statement in stage.body.statements
            for name in statement.callees
        }
        titles = titles_of(called, workspace.store)
        names = {s: names_of(s, title) for s, title in titles.items()}
        files = dict.fromkeys(
            s.file for stage in staged.stages for s in stage.body.statements if s.file
        )
        sources = read_sources(workspace.bench.root, list(files))
        inlined: tuple[str, ...] = ()
        if any("ipa-inline" in stage.passed for stage in staged.stages):
            inlined = _inlined(workspace, job, unit, symbol)
        return FunctionStages(
            built.snippet.name, built.build.name, symbol, title, staged.stages, names, sources,
            staged.code, inlined,
        )  # fmt: skip
    return None


def _alone(
    workspace: Workspace, job: Job, unit: Unit, symbol: str, title: str, stage: str
) -> Staged | None:
    """Return one stage of a function where it is a form of the whole source, else None."""
    assert job.family.records is not None
    if stage in TEXTS or (job.family.records.stages != "gnu" and stage not in forms_of(job)):
        return None
    form = ask_form(job, unit, stage, workspace.store)
    plain = title.partition("(")[0].rpartition("::")[2]
    names = (symbol, plain) if stage in (MIR, "gimple") else (symbol,)
    body = next((one for one in read_form(form) if one.function in names), None)
    return Staged((Stage(stage, body),), form.code) if body else None


def _names_it(job: Job, workspace: Workspace, entry: str) -> bool:
    """Tell whether a source holds a name at all, before a compiler is asked about it."""
    lines = read_sources(workspace.bench.root, [job.source]).get(job.source, ())
    return any(entry in line for line in lines)


def _inlined(workspace: Workspace, job: Job, unit: Unit, symbol: str) -> tuple[str, ...]:
    """Return what the whole-program inliner says that it put into a function."""
    said = ask_remarks(job, unit, workspace.store).remarks
    found = (
        re.match(r"Inlin(?:ed|ing) (\S+?)/\d+ (?:in)?to ", r.text)
        for r in said
        if r.step != "einline" and r.function == symbol
    )
    return tuple(dict.fromkeys(m[1] for m in found if m))


@usecase
def whole_forms(
    workspace: Workspace, build: str, snippets: Sequence[str], stage: str
) -> tuple[WholeForm, ...]:
    """Return one form of each source under one build, to be read as a stream."""
    out = []
    for built in workspace.compile_named([build], snippets):
        workspace.code(built)  # which says why where it is refused
        for job, unit in workspace.jobs_of(built):
            why = why_no_stages(job)
            if why:
                raise RequestError(f"{why}.")
            form = ask_form(job, unit, stage, workspace.store)
            is_text = stage in TEXTS
            functions = iter(()) if is_text else read_form(form)
            lines = read_text(form) if is_text else iter(())
            out.append(
                WholeForm(
                    built.snippet.name, built.build.name, unit.source, stage, is_text, functions,
                    lines,
                )
            )  # fmt: skip
    return tuple(out)
