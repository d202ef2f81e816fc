"""Gather what a page tells of a bench, from the store and the answers kept: nothing is measured."""

import time
from collections.abc import Callable, Sequence
from typing import TypeVar

from hot_anvil._version import __version__
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.config.records import Snippet, find_snippets
from hot_anvil.core.diff.ledger import Ledger
from hot_anvil.core.measure.hotspots import Hot
from hot_anvil.core.measure.results import Picked
from hot_anvil.core.results.answers import KeptAnswer, snippet_of
from hot_anvil.core.results.code import Listing, SnippetDiff
from hot_anvil.core.results.pages import (
    Column,
    Page,
    PageSnippet,
    chosen_columns,
    lead_of,
    page_lines,
)
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.system.measure.machine import machine_identity
from hot_anvil.usecases.answers import identities_of, last_answers
from hot_anvil.usecases.comparison import compare_builds, make_ledgers
from hot_anvil.usecases.inspection import make_facts, make_frames
from hot_anvil.usecases.listings import list_build
from hot_anvil.workspace import Workspace, usecase

Made = TypeVar("Made")
_ASKS = {
    "check": "no verdicts: 'hot-anvil check' finds which builds compute the right thing",
    "pick": "no choice: 'hot-anvil pick' measures and chooses, or make the report with --fresh",
    "hotspots": "no hotspots: 'hot-anvil hotspots' finds where the time goes",
}


@usecase
def make_page(
    workspace: Workspace, builds: Sequence[str] = (), snippets: Sequence[str] = ()
) -> Page:
    """Return the page of a bench; ``builds`` are those whose instructions it shows.

    Snippets are compiled where the store has them not yet. Raises RequestError where none compiles.
    """
    wanted = [workspace.build(name).name for name in builds]
    chosen = find_snippets(workspace.bench, snippets)
    made = []
    for number, snippet in enumerate(chosen):
        workspace.progress(f"gathering {snippet.name}", number, len(chosen))
        made.append(_snippet(workspace, snippet, wanted))
    used = {build.toolchain for one in chosen for build in workspace.plan.of[one.name]}
    chains = [c for c in workspace.found.toolchains if c.name in used]
    return Page(
        workspace.bench.title,
        time.time(),
        __version__,
        machine_identity()[1],
        tuple((c.name, c.version, c.target) for c in chains),
        tuple(workspace.plan.notes),
        tuple(made),
    )


def _snippet(workspace: Workspace, snippet: Snippet, wanted: Sequence[str]) -> PageSnippet:
    builts = workspace.compile([snippet.name])
    found = last_answers(workspace.store.results, snippet.name)
    answers = {command: _own(kept, snippet.name) for command, kept in found.items()}
    ledger = _or_none(make_ledgers, workspace, (), [snippet.name], ())
    if not ledger:
        lacking = ("no code: no build of the grid compiles it",)
        columns = _columns(workspace, builts, None, ())
        rest = (tuple(answers.values()), (), builts, (), (), lacking)
        return PageSnippet(snippet.name, columns, -1, (), {}, (), *rest)
    (rows,) = ledger
    compiled = [b.build.name for b in builts if b.status == COMPILED]
    base_name = workspace.plan.baseline.name
    base_name = base_name if base_name in compiled else (compiled or [""])[0]
    first = wanted or [base_name, *_leaders(answers), *compiled]
    shown = chosen_columns(rows.columns, [name for name in first if name in compiled])
    if wanted:
        shown = tuple(k for k, name in enumerate(rows.columns) if name in wanted)
    shown = tuple(k for k in shown if rows.columns[k] in compiled)
    base = rows.columns.index(base_name) if base_name in rows.columns else -1
    return _with_code(workspace, snippet, rows, builts, answers, base, shown)


def _with_code(
    workspace: Workspace,
    snippet: Snippet,
    ledger: Ledger,
    builts: Sequence[Built],
    answers: dict[str, KeptAnswer],
    base: int,
    shown: Sequence[int],
) -> PageSnippet:
    names = [snippet.name]
    listings: dict[int, Listing] = {}
    diffs: dict[int, SnippetDiff] = {}
    for k in shown:
        build = ledger.columns[k]
        listings[k] = list_build(workspace, build, names)[0]
        if k != base and base >= 0:
            one = _or_none(compare_builds, workspace, ledger.columns[base], build, names)
            if one and one[0].isa == one[0].right_isa:
                diffs[k] = one[0]
    hot = answers["hotspots"].answer.results[0] if "hotspots" in answers else None
    changed = _changed(workspace, snippet.name, answers)
    usable = hot if isinstance(hot, Hot) and not changed else None
    lines = page_lines(ledger, base, listings, diffs, usable)
    files = list(dict.fromkeys(row.file for row in ledger.rows if row.line > 0))
    known = [ledger.columns[k] for k in shown]
    own = snippet.entries
    facts = _or_none(make_facts, workspace, known, names, own) or ()
    facts = tuple(one._replace(codes={}) for one in facts)  # evidence is on no page
    framed = list(dict.fromkeys([ledger.columns[base], *_leaders(answers)][:2])) if known else []
    frames = [_or_none(make_frames, workspace, name, names, own) for name in framed]
    return PageSnippet(
        snippet.name,
        _columns(workspace, builts, ledger, shown),
        base,
        lines,
        read_sources(workspace.bench.root, files),
        tuple(lead_of(one) for one in diffs.values()),
        tuple(answers.values()),
        changed,
        tuple(builts),
        facts,
        tuple(frame for made in frames for frame in made or ()),
        tuple(text for command, text in _ASKS.items() if command not in answers
              and not (command == "check" and {"pick", "measure"} & set(answers))),
    )  # fmt: skip


def _own(kept: KeptAnswer, snippet: str) -> KeptAnswer:
    """Return a kept answer with what it says of one snippet only."""
    own = tuple(one for one in kept.answer.results if snippet_of(one) == snippet)
    return kept._replace(answer=kept.answer._replace(results=own))


def _leaders(answers: dict[str, KeptAnswer]) -> list[str]:
    """Return the builds of the choice, of what is tied with it and of what nothing beats."""
    if "pick" not in answers:
        return []
    picked: Picked = answers["pick"].answer.results[0]
    builds = {v.candidate: v.build for v in picked.measured.checked.verdicts}
    pick = picked.pick
    unbeaten = [row.candidate for row in pick.ranking if row.undominated]
    order = [pick.choice or "", *pick.tied, *unbeaten, *(row.candidate for row in pick.ranking)]
    return list(dict.fromkeys(builds[name] for name in order if name in builds))


def _changed(workspace: Workspace, snippet: str, answers: dict[str, KeptAnswer]) -> tuple[str, ...]:
    """Return the builds whose artefacts are others than when an answer was given."""
    now = identities_of(workspace, snippet)
    then = [kept.answer.artefacts for kept in answers.values()]
    return tuple(
        build
        for (name, build), artefacts in now.items()
        if name == snippet
        and any(known.get((name, build), artefacts) != artefacts for known in then)
    )


def _columns(
    workspace: Workspace, builts: Sequence[Built], ledger: Ledger | None, shown: Sequence[int]
) -> tuple[Column, ...]:
    visible = {ledger.columns[k] for k in shown} if ledger else set()
    totals = dict(zip(ledger.columns, ledger.totals, strict=True)) if ledger else {}
    return tuple(
        Column(
            b.build.name,
            " ".join(b.build.flags),
            workspace.command(b.snippet, b.build),
            b.why,
            totals.get(b.build.name),
            None if b.why else b.code_bytes,
            b.build.name in visible,
        )
        for b in builts
    )


def _or_none(make: Callable[..., Made], *given: object) -> Made | None:
    """Return what can be made; what cannot be is no part of a page, which says so."""
    try:
        return make(*given)
    except RequestError:
        return None


def fresh_answers(workspace: Workspace, snippets: Sequence[str]) -> None:
    """Check, measure, choose and look for hotspots anew, and keep what comes of it."""
    from hot_anvil.core.measure.options import DEFAULTS
    from hot_anvil.core.results.answers import Answer
    from hot_anvil.core.verify.options import CALL_SECONDS
    from hot_anvil.system.measure.machine import environment_notes
    from hot_anvil.usecases.answers import keep_answer
    from hot_anvil.usecases.hotspots import find_hotspots
    from hot_anvil.usecases.picking import pick_snippets

    notes = environment_notes()
    picked = pick_snippets(workspace, snippets, DEFAULTS, CALL_SECONDS)
    keep_answer(workspace, Answer("pick", picked, notes))
    for item in picked:
        builds = [v.build for v in item.measured.checked.correct if v.candidate == item.pick.choice]
        if not builds:
            continue
        name = item.pick.snippet
        base = workspace.plan.baseline.name
        correct = {v.build for v in item.measured.checked.correct}
        asked = list(dict.fromkeys([*([base] if base in correct else []), *builds]))
        found = _or_none(find_hotspots, workspace, asked, [name], (), "", 1.0)
        if found:
            files = {line.file for hot in found for one in hot.candidates for line in one.lines}
            sources = read_sources(workspace.bench.root, sorted(files))
            keep_answer(workspace, Answer("hotspots", found, sources=sources))
