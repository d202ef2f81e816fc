"""Measurements as text."""

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.measure.code_identity import CodeIdentity
from hot_anvil.core.measure.measurements import CPU, WALL
from hot_anvil.core.measure.scaling import Scaling, crossings, elements_of, scalings, sizes_of
from hot_anvil.core.measure.summary import ON_LOAD, Comparison, Result, Summary
from hot_anvil.core.measure.verdict_words import BASELINE, FASTER, SLOWER
from hot_anvil.views.text.check import excluded, not_checked
from hot_anvil.views.text.elsewhere import elsewhere
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Cell, Report, Span
from hot_anvil.views.text.words import (
    duration,
    interval,
    joined,
    memory,
    percent,
    plural,
    ratio,
    whole,
)

if TYPE_CHECKING:
    from hot_anvil.core.measure.measurements import Count
    from hot_anvil.core.measure.results import Measured

LITTLE = 0.01  # share of a time below which a cost is none to see
BUSY = 0.5  # share of disturbed batches above which the machine counts as busy


def measure_report(
    measured: Sequence["Measured"], notes: Sequence[str], width: int, said: Sequence[str] = ()
) -> Report:
    """Return a table per snippet and sweep point; of ``notes`` some were ``said`` before."""
    report = Report(width)
    for item in measured:
        report.blank()
        report.add(Span(item.checked.snippet.name, STRONG), f"  baseline {item.baseline}")
        for note in item.checked.notes:
            report.paragraph(f"note: {note}", DIM, indent=2)
        if not_checked(report, item.checked):
            continue
        if not item.summaries:
            away = item.elsewhere or any(v.emulator for v in item.checked.correct)
            why = "runs on this machine itself" if away else "is correct"
            report.add("  ", Span(f"nothing {why}, so nothing was timed", TROUBLE))
        shown: dict[str, None] = {}
        for summary in item.summaries:
            shown |= dict.fromkeys(_ratios(report, summary, item))
        report.tell_left_out()
        if item.summaries:
            report.paragraph(legend(tuple(shown)), DIM, indent=2)
        if item.counts:
            report.paragraph(counted(item), DIM, indent=2)
        elsewhere(report, item.elsewhere)
        _since(report, item)
        scaling(report, item.summaries)
        out = {v.candidate for v in item.checked.verdicts if not v.usable}
        # Of code that is out now as it was then, now is enough.
        now = [v for v in item.checked.verdicts if v.candidate.rpartition("#")[0] not in out]
        excluded(report, [v for v in now if v.candidate in out])
    environment(report, notes, said)
    return report


def slower_lines(report: Report, slower: Sequence[Result], limit: str | None) -> Report:
    """Add what is slower than it may be."""
    if limit:
        report.blank()
        nothing = f"nothing is told slower than under {limit}"
        report.add(Span(f"slower than under {limit}:", TROUBLE) if slower else nothing)
    for row in slower:
        told = row.comparison.verdict
        place = f" at {row.inputs}" if row.inputs else ""
        report.add(
            f"  {row.candidate}{place}  {ratio(told.ratio)}  {interval(told.low, told.high)}"
        )
    return report


def environment(report: Report, notes: Sequence[str], said: Sequence[str] = ()) -> None:
    """Add what limits how far the times can be trusted; what was ``said`` before is only named."""
    if notes:
        report.blank()
    for note in notes:
        if note not in said:
            report.paragraph(f"note: {note}", DIM)
    again = sum(note in said for note in notes)
    if again:
        report.paragraph(f"{plural(again, 'note')} on this machine as before: --notes", DIM)


def _ratios(report: Report, summary: Summary, item: "Measured") -> list[str]:
    """Add the table of one size; returns the heads of its columns."""
    apart = {one.earlier for one in item.earlier}  # earlier code has a table of its own
    shown_here = [row for row in summary.results if row.candidate not in apart]
    ordered = sorted(shown_here, key=lambda result: result.comparison.verdict.ratio)
    label = ordered[0].inputs
    if label:
        report.add("  ", Span(label, STRONG))
    alike = {identity.candidate: identity for identity in item.identities}
    rows = [
        _row(result, alike.get(result.candidate), item.counts.get((result.candidate, label)))
        for result in ordered
    ]
    timed = "wall time" if item.checked.snippet.program else "time a call"
    heads = ("candidate", timed, "an element", "first call", "CPU time", "memory", "instructions",
             "ratio", "interval", "word", "visible", "placement", "")  # fmt: skip
    shown = report.table(heads, rows, "lrrrrrrrrlrrl", spare=(3, 11, 10), filled=True)
    report.paragraph(circumstances(summary), DIM, indent=2)
    return shown


def counted(item: "Measured") -> str:
    """Return what the column of instructions holds, and why some are unknown."""
    text = (
        "instructions: executed by one warm call, what it calls and its return included; counted "
        f"by {item.counted_by}; the same everywhere, and not a time"
    )
    whys: dict[str, dict[str, None]] = {}
    for (candidate, _), count in item.counts.items():
        if count.why:
            whys.setdefault(count.why, {})[candidate] = None
    stepped: dict[str, str] = {}
    for (candidate, _), count in item.counts.items():
        if count.how:
            stepped[candidate] = count.how
    if stepped:
        text += f", but of {joined(list(stepped))}: {next(iter(stepped.values()))}"
    unknown = (f"unknown for {joined(list(names))}: {why}" for why, names in whys.items())
    return "; ".join((text, *unknown))


def _each(line: "Scaling", summaries: Sequence[Summary]) -> str:
    """Return the cost per element, where there is one to see."""
    name, _ = sizes_of(summaries)
    at_most = max(elements_of(summary, name) for summary in summaries)
    if not line.straight:
        return ""
    seen = line.per_element * at_most > LITTLE * line.per_call
    return duration(line.per_element) if seen else "none to see"


def _fixed(line: "Scaling") -> str:
    """Return the cost per call, where there is one to see."""
    if not line.straight:
        return ""
    return duration(line.per_call) if line.per_call > line.per_element else "none to see"


def _row(result: Result, alike: "CodeIdentity | None", count: "Count | None") -> list[Cell]:
    told = result.comparison.verdict
    is_base = told.word == BASELINE
    notes = [f"same code as {result.same_as}" if result.same_as else "", turning(result.comparison)]
    notes.append(alike.text if alike and not result.same_as else "")
    each = result.seconds_per_element
    return [
        result.candidate,
        duration(result.seconds_per_call),
        "" if each is None else duration(each),
        "" if result.first_seconds is None else duration(result.first_seconds),
        duration(result.usage.cpu_seconds) if result.usage else "",
        memory(result.usage.peak_bytes) if result.usage else "",
        "" if count is None else "unknown" if count.why else f"{count.instructions:,}",
        ratio(told.ratio),
        "" if is_base else interval(told.low, told.high),
        word(result.comparison),
        "" if is_base else percent(result.comparison.visible),
        spread(result.placement_spread),
        Span("; ".join(filter(None, notes)), DIM),
    ]


def turning(against: Comparison) -> str:
    """Return what turns the answer over, and the answers that differ from it, "" for none."""
    parts = [f"{against.depends} decides"] if against.depends else []
    built = against.as_built
    if built and built.word in (FASTER, SLOWER) and built.word != against.verdict.word:
        parts.append(f"as built {built.word}: {ratio(built.ratio)}")
    if against.depends == ON_LOAD and against.quiet and against.busy:
        parts.append(
            f"{ratio(against.quiet.ratio)} on a quiet machine, {ratio(against.busy.ratio)} on a "
            "busy one"
        )
    return ", ".join(parts)


def _since(report: Report, item: "Measured") -> None:
    """Add each candidate against its earlier code."""
    if not item.earlier:
        return
    seconds = {
        (r.inputs, r.candidate): r.seconds_per_call for s in item.summaries for r in s.results
    }
    rows: list[list[Cell]] = []
    same = sum(one.same_code for one in item.earlier)
    for one in (one for one in item.earlier if not one.same_code):
        told = one.comparison.verdict
        rows.append(
            [
                one.candidate,
                one.inputs,
                f"#{one.earlier.rpartition('#')[2]}",
                duration(seconds[one.inputs, one.earlier]),
                duration(seconds[one.inputs, one.candidate]),
                ratio(told.ratio),
                interval(told.low, told.high),
                word(one.comparison),
                percent(one.comparison.visible),
                Span(turning(one.comparison), DIM),
            ]
        )
    heads = ("beside earlier code", "", "", "then", "now", "now/then", "interval", "word",
             "visible", "")  # fmt: skip
    if rows:
        report.table(heads, rows, "lllrrrrlrl", spare=(8,), filled=True)
    if same:
        have = "has" if same == 1 else "have"
        report.paragraph(f"{same} more {have} the same code as then", DIM, indent=2)


def scaling(report: Report, summaries: Sequence[Summary]) -> None:
    """Add how times grow over a sweep, and where the fastest changes."""
    lines = scalings(summaries)
    changing = crossings(summaries)
    if not lines and not changing:
        return
    name, _ = sizes_of(summaries)
    unit = "an element" if summaries[0].measurements[0].elements else f"each {name}"
    report.add("  ", Span(f"growth over {name}", STRONG))
    if lines:
        rows: list[list[Cell]] = [
            [
                line.candidate,
                _fixed(line),
                _each(line, summaries),
                percent(line.misfit),
                "" if line.straight else Span(_curve(line), DIM),
            ]
            for line in sorted(lines, key=lambda line: line.per_element)
        ]
        heads = ("candidate", "a call", unit, "off by up to", "")
        report.table(heads, rows, "lrrrl")
    for change in changing:
        report.paragraph(
            f"the fastest is {change.below} up to about {name} = {whole(change.at)} and "
            f"{change.above} above (measured at {change.smaller} and {change.larger})",
            indent=2,
        )


def _curve(line: Scaling) -> str:
    """Return in words how times grow that are on no straight line."""
    if not line.curve:
        return "no straight line over these sizes"
    return f"grows like {line.curve}, off by up to {percent(line.curve_misfit)}"


def word(against: Comparison) -> Span:
    """Return the word for a comparison."""
    told = against.verdict.word
    return Span(told, CHANGE if told in (FASTER, SLOWER) else "plain")


def spread(placement_spread: float | None) -> str:
    """Return how much placement changes a time, "" when that cannot be told from noise."""
    return ratio(placement_spread) if placement_spread and placement_spread > 1.05 else ""


def legend(shown: Sequence[str]) -> str:
    """Return what a reader needs to understand the columns shown."""
    parts = ["intervals hold for all pairs at once (99 %)"]
    if "visible" in shown:
        parts.append("visible: the smallest difference that would have been told")
    if "placement" in shown:
        parts.append("placement: how much where the code lies in memory alone changes the time")
    return "; ".join(parts)


def circumstances(summary: Summary) -> str:
    """Return how one size was measured, and what weakens its times."""
    measurements = summary.measurements[0]
    parts = [
        f"{plural(summary.generations, 'generation')} of fresh processes, "
        f"{plural(summary.rounds, 'round')} in random order",
        f"noise floor {percent(math.exp(summary.floor) - 1)}",
    ]
    if measurements.clock not in (WALL, CPU):
        parts[0] = f"{measurements.clock}, not measured here: {plural(summary.generations, 'run')}"
    if measurements.clock == CPU:
        parts.append("times by the CPU clock: what other programs took is not in them")
    if measurements.threads > 1:
        parts.append(
            f"{measurements.threads} threads call at once, each with values of its own: the time "
            "is that until every one has made a call"
        )
    if measurements.cold:
        parts.append(
            "before each call caches, TLB and branch predictors were displaced; each was timed "
            "alone, with about 30 ns of clock in it"
        )
    elif measurements.alone:
        back = f"; putting them back took {duration(measurements.restoring)}"
        how = (
            f"made on a copy of its own of the first values, {measurements.copies} in a row{back}"
            if measurements.copies
            else f"timed alone from its first values, with about 30 ns of clock in it{back}"
        )
        parts.append(f"calls change what they read, so each was {how}")
    if summary.disturbed > BUSY:
        parts.append(
            f"the machine was busy: {percent(summary.disturbed)} of batches were disturbed"
        )
    return "; ".join(parts)
