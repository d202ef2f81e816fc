"""Results as flat tables, a row each thing: for CSV and for data frames."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from hot_anvil.core.binary.image_map import BuildImage
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.diff.ledger import Ledger
from hot_anvil.core.experiments.results import WhatIf
from hot_anvil.core.facts.expectations import Expected
from hot_anvil.core.facts.records import Fact
from hot_anvil.core.facts.table import SnippetFacts
from hot_anvil.core.flags.records import Narrowed
from hot_anvil.core.kernels.records import KernelLaunch
from hot_anvil.core.measure.history import State
from hot_anvil.core.measure.hotspots import Hot
from hot_anvil.core.measure.results import Measured, Picked
from hot_anvil.core.measure.summary import Comparison
from hot_anvil.core.remarks.table import SnippetRemarks, told
from hot_anvil.core.results.code import Listing, SnippetDiff
from hot_anvil.core.stages.records import FunctionStages, counts_of
from hot_anvil.core.stages.told import SnippetCalls
from hot_anvil.core.verify.results import Checked
from hot_anvil.errors import RequestError

Row = Sequence[Any]


class Table(NamedTuple):
    """Columns by name, with their rows; None where a value is not known."""

    columns: tuple[str, ...]
    rows: tuple[Row, ...]


def table_of(results: Iterable[Any]) -> Table:
    """Return results of one kind as a table; raises RequestError for a kind that is none."""
    found = list(results)
    if not found:
        return Table((), ())
    known = _KINDS.get(type(found[0]))
    if known is None:
        raise RequestError(f"{type(found[0]).__name__}: such results are no table.")
    columns, rows = known
    return Table(tuple(columns.split()), tuple(row for one in found for row in rows(one)))


def csv_table(results: Iterable[Any]) -> Iterator[Row]:
    """Give a table's rows, the head first."""
    table = table_of(results)
    if table.columns:
        yield table.columns
    yield from table.rows


def _remarks(one: SnippetRemarks) -> Iterator[Row]:
    for answer in one.answered:
        for r in answer.remarks:
            function = one.titles.get(r.function, r.function)
            why = "; ".join(map(told, r.why))
            yield (one.snippet, answer.build, r.file or None, r.line or None, r.column or None,
                   function or None, r.about, r.kind, r.step, r.text or None, why or None,
                   r.times)  # fmt: skip


def _image(one: BuildImage) -> Iterator[Row]:
    for section in one.sections:
        start = one.snippet, one.build, section.name, section.holds
        yield (*start, "", section.address, section.size, section.alignment)
        for thing in section.things:
            name = one.titles.get(thing.name, thing.name)
            yield (*start, name, thing.address, thing.size, None)


def _narrowed(one: Narrowed) -> Iterator[Row]:
    for needed in one.needed:
        for where, effect in (("left", needed.alone), ("right", needed.taken)):
            yield (one.snippet, one.entry, one.left, one.right, needed.change.name,
                   needed.change.kind, where, effect.same, effect.left, effect.right,
                   "; ".join(effect.reasons) or effect.why or None)  # fmt: skip


def _whatif(one: WhatIf) -> Iterator[Row]:
    for tried in one.tried:
        told = tried.result.comparison.verdict if tried.result else None
        yield (one.snippet, one.entry, one.build, tried.experiment.name, tried.state,
               *(told[:4] if told else (None,) * 4), tried.experiment.promise or None,
               tried.broken.what if tried.broken else None, tried.code_bytes,
               "; ".join(tried.reasons) or tried.why or None)  # fmt: skip


def _calls(one: SnippetCalls) -> Iterator[Row]:
    for row in one.callers:
        for k, call in enumerate(row.caller.calls):
            for build, left in row.left.items():
                yield (one.snippet, row.caller.title, call.file or None, call.line or None,
                       call.title, call.kind, call.elided or None, build,
                       None if call.elided else left[k].fate, left[k].instructions)  # fmt: skip


def _stages(one: FunctionStages) -> Iterator[Row]:
    for stage in one.stages:
        yield (one.snippet, one.build, one.title, stage.name, stage.body.form,
               *counts_of(stage.body))  # fmt: skip


def _built(one: Built) -> Iterator[Row]:
    compiled = one.status == COMPILED
    count = sum(unit.proof.instructions for unit in one.shown) if compiled else None
    flags = " ".join(one.build.flags)
    size = one.code_bytes if compiled else None
    yield (one.snippet.name, one.build.name, flags, one.status, one.why, one.seconds or None, size,
           count)  # fmt: skip


def _listing(one: Listing) -> Iterator[Row]:
    start = one.built.snippet.name, one.built.build.name
    for function in one.functions:
        for line in function.lines:
            for placed in line.instructions:
                item = placed.instruction
                size = item.size if item.size >= 0 else None
                place = line.file, line.line or None, line.text, placed.place
                words = item.mnemonic, ", ".join(item.operands)
                yield (*start, function.title, *place, *words, size)


def _diff(one: SnippetDiff) -> Iterator[Row]:
    start = one.left.snippet.name, *one.names
    for row in one.diff.rows:
        kinds = dict.fromkeys(one.explained.reasons[k].kind for k in row.reasons)
        yield (*start, row.file, row.line or None, row.text, row.state, row.left_count,
               row.right_count, "; ".join(kinds))  # fmt: skip


def _ledger(one: Ledger) -> Iterator[Row]:
    for row in one.rows:
        for build, cell in zip(one.columns, row.cells, strict=True):
            counts = (cell.instructions, " ".join(cell.marks)) if cell else (None, "")
            yield (one.snippet, row.file, row.line or None, row.text, build, *counts)


def _facts(one: SnippetFacts) -> Iterator[Row]:
    for column in one.table.columns:
        for function in column.functions or ():
            start = one.table.snippet, column.build, function.title
            yield from _each_fact((*start, 0, function.line, ""), function.facts)
            for loop in function.loops:
                yield from _each_fact((*start, loop.number, loop.lines, loop.part), loop.facts)


def _each_fact(start: Row, facts: Sequence[Fact]) -> Iterator[Row]:
    for fact in facts:
        value = "; ".join(fact.value) if isinstance(fact.value, tuple) else fact.value
        yield (*start, fact.name, value, fact.words, fact.note)


def _expected(one: Expected) -> Iterator[Row]:
    for outcome in one.outcomes:
        wanted = outcome.expectation
        yield (one.snippet, outcome.build, wanted.entry, outcome.fact, outcome.state, outcome.found)


def _checked(one: Checked) -> Iterator[Row]:
    for v in one.verdicts:
        yield (one.snippet.name, v.entry, v.build, v.candidate, v.verdict, v.accepted, v.why,
               v.input_sets, v.inputs, v.place.file or None, v.place.line or None)  # fmt: skip


def _against(one: Comparison) -> Row:
    told = one.verdict
    return told.ratio, told.low, told.high, told.word, one.visible


def _measured(one: Measured) -> Iterator[Row]:
    for summary in one.summaries:
        for r in summary.results:
            times = r.seconds_per_call, r.seconds_per_element, r.first_seconds
            told = *_against(r.comparison), r.placement_spread, r.same_as
            yield (r.snippet, r.inputs, r.candidate, *times, *told)


def _picked(one: Picked) -> Iterator[Row]:
    pick = one.pick
    for row in pick.ranking:
        cost = row.cost
        yield (pick.snippet, row.rank, row.candidate, row.candidate == pick.choice, *_against(
               row.comparison), row.placement_spread, cost.code_bytes, cost.compiling.seconds,
               row.undominated, cost.command)  # fmt: skip


def _hot(one: Hot) -> Iterator[Row]:
    for own in one.candidates:
        for line in own.lines:
            yield (one.snippet, own.candidate, own.inputs, line.file, line.line or None,
                   line.share.samples, line.share.share, line.share.error, own.counts or
                   "samples")  # fmt: skip


def _state(one: State) -> Iterator[Row]:
    for e in one.entries:
        yield (one.number, one.at, one.machine, one.snippet, one.inputs, e.candidate, e.seconds,
               e.quiet_seconds, e.ratio, e.low, e.high, e.word, e.maker.toolchain,
               e.maker.command)  # fmt: skip


def _launch(one: KernelLaunch) -> Iterator[Row]:
    for row in one.lines:
        yield (one.candidate, row.file, row.line or None, row.warps, row.threads, row.diverged,
               row.sectors, row.least, row.conflicts)  # fmt: skip


# Kind of record -> its columns and what gives its rows. Seconds, bytes, shares from 0 to 1.
_KINDS: Mapping[type, tuple[str, Callable[[Any], Iterator[Row]]]] = {
    Built: ("snippet build flags status why compile_seconds code_bytes instructions", _built),
    Listing: ("snippet build function file line text place mnemonic operands bytes", _listing),
    SnippetDiff: (
        "snippet left right file line text state left_instructions right_instructions reasons",
        _diff,
    ),
    Ledger: ("snippet file line text build instructions marks", _ledger),
    SnippetFacts: ("snippet build function loop lines part fact value words note", _facts),
    BuildImage: ("snippet build section holds name address bytes alignment", _image),
    SnippetCalls: (
        "snippet function file line callee kind elided build left instructions",
        _calls,
    ),
    FunctionStages: (
        "snippet build function stage form statements blocks loops calls allocations loads "
        "stores divisions vectors",
        _stages,
    ),
    SnippetRemarks: (
        "snippet build file line column function about kind pass text why count",
        _remarks,
    ),
    Narrowed: (
        "snippet entry left right change kind of same_code before after reasons",
        _narrowed,
    ),
    WhatIf: (
        "snippet entry build experiment state ratio low high word promise broken code_bytes "
        "reasons",
        _whatif,
    ),
    Expected: ("snippet build entry fact state found", _expected),
    Checked: (
        "snippet entry build candidate verdict accepted why input_sets inputs file line",
        _checked,
    ),
    Measured: (
        "snippet inputs candidate seconds_per_call seconds_per_element first_seconds ratio low "
        "high word visible placement_spread same_as",
        _measured,
    ),
    Picked: (
        "snippet rank candidate chosen ratio low high word visible placement_spread code_bytes "
        "compile_seconds unbeaten command",
        _picked,
    ),
    Hot: ("snippet candidate inputs file line samples share error unit", _hot),
    State: (
        "number at machine snippet inputs candidate seconds quiet_seconds ratio low high word "
        "toolchain command",
        _state,
    ),
    KernelLaunch: (
        "candidate file line warp_instructions thread_instructions diverged_branches sectors "
        "least_sectors bank_rounds",
        _launch,
    ),
}
