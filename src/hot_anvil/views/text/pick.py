"""The choice as text: ranking, exclusions, costs and the command line."""

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.measure.choosing import Ranked, behind_best
from hot_anvil.core.measure.summary import Summary
from hot_anvil.core.measure.verdict_words import BEST, NOT_ENOUGH, TIED
from hot_anvil.views.text.check import excluded, not_checked, undefined
from hot_anvil.views.text.elsewhere import elsewhere, picked_elsewhere
from hot_anvil.views.text.measure import (
    circumstances,
    counted,
    environment,
    legend,
    scaling,
    spread,
    turning,
    word,
)
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Cell, Report, Span, span
from hot_anvil.views.text.words import (
    digits,
    duration,
    interval,
    joined,
    percent,
    plural,
    ratio,
    size,
)

if TYPE_CHECKING:
    from hot_anvil.core.measure.compile_times import CompileTime
    from hot_anvil.core.measure.measurements import Count
    from hot_anvil.core.measure.results import Picked


_SIZES_BESIDE = 3  # sizes that the ranking has columns for


def pick_report(
    picked: Sequence["Picked"], notes: Sequence[str], width: int, said: Sequence[str] = ()
) -> Report:
    """Return per snippet the ranking, the exclusions and the choice."""
    report = Report(width)
    for item in picked:
        report.blank()
        report.add(Span(item.pick.snippet, STRONG))
        for note in item.measured.checked.notes:
            report.paragraph(f"note: {note}", DIM, indent=2)
        if not_checked(report, item.measured.checked):
            continue
        undefined(report, item.measured.checked)
        _explored(report, item)
        if item.pick.ranking:
            _ranking(report, item)
        elsewhere(report, item.measured.elsewhere)
        excluded(report, item.pick.excluded)
        if item.pick.choice or not item.measured.elsewhere:
            _choice(report, item)
        picked_elsewhere(report, item.measured.elsewhere)
    environment(report, notes, said)
    return report


def _explored(report: Report, item: "Picked") -> None:
    one = item.explored
    if one:
        report.paragraph(
            f"explored: {plural(one.flag_sets, 'flag set')} ({one.refused} refused) make "
            f"{plural(one.different, 'different code')}, the bench's own among them; "
            f"{plural(one.measured, 'correct candidate')} measured shortly, then the best "
            f"{one.finalists} anew, beside the baseline",
            indent=2,
        )


def _ranking(report: Report, item: "Picked") -> None:
    summary = item.measured.overall
    assert summary is not None
    seconds = {r.candidate: r.seconds_per_call for r in summary.results}
    alike = {identity.candidate: identity.text for identity in item.identities}
    points = [c.inputs for c in item.measured.measurements if c.inputs]
    # A few sizes stand in the ranking itself; of more there is a table.
    beside = item.measured.summaries if 1 < len(points) <= _SIZES_BESIDE else ()
    sizes = tuple(summary.results[0].inputs for summary in beside)
    heads = ("", "candidate", "time", "to best", "interval", "word", *sizes, "visible",
             "placement", "code", "compile", "")  # fmt: skip
    rows = [
        _row(ranked, seconds[ranked.candidate], alike.get(ranked.candidate, ""), beside)
        for ranked in item.pick.ranking
    ]
    # Over several sizes there is no one time; few rankings have anything to note.
    rest = 6 + len(sizes)
    shown = report.table(
        heads,
        rows,
        f"rlrrrl{'r' * len(sizes)}rrrrl",
        spare=(rest, rest + 1),
        below=(*range(rest - 1, 5, -1), rest + 3, rest + 2, 4),
        filled=True,
        name=1,
    )
    over = f"mean of log ratios over {joined(points)}; " if len(points) > 1 else ""
    text = f"{over}{circumstances(summary)}; {legend(shown)}"
    report.tell_left_out()
    report.paragraph(text, DIM, indent=2)
    if len(points) > _SIZES_BESIDE:
        _over_sizes(report, item, "by size", _at_size)
    counts = item.measured.counts
    if counts:
        _over_sizes(
            report,
            item,
            "instructions",
            lambda at, name: _count(counts[name, at.results[0].inputs]),
        )
        report.paragraph(counted(item.measured), DIM, indent=2)
    scaling(report, item.measured.summaries)


def _over_sizes(
    report: Report, item: "Picked", title: str, cell_of: "Callable[[Summary, str], Cell]"
) -> None:
    """Add a table with a column for every size, as many sizes at once as fit."""
    names = [row.candidate for row in item.pick.ranking]
    heads = [summary.results[0].inputs or "a call" for summary in item.measured.summaries]
    columns = [[cell_of(at, name) for name in names] for at in item.measured.summaries]
    widths = [
        max(len(head), *(len(span(cell).text) for cell in column))
        for head, column in zip(heads, columns, strict=True)
    ]
    room = report.width - 2 - max(map(len, (title, *names)))
    pages: list[list[int]] = []
    used = room + 1
    for number, width in enumerate(widths):
        if used + width + 2 > room:
            pages.append([])
            used = 0
        pages[-1].append(number)
        used += width + 2
    for page in pages:
        rows = [[name, *(columns[k][row] for k in page)] for row, name in enumerate(names)]
        report.table([title, *(heads[k] for k in page)], rows, "l" + "r" * len(page))


def _count(count: "Count") -> Cell:
    return Span("unknown", DIM) if count.why else f"{count.instructions:,}"


def _at_size(summary: "Summary", candidate: str) -> Cell:
    """Return a candidate against the fastest one at a size."""
    against = behind_best(summary, candidate)
    told = against.verdict.word
    said = "?" if told == NOT_ENOUGH else told  # as where it has no rank
    return Span(
        f"{said} {ratio(against.verdict.ratio)}", CHANGE if told in (BEST, TIED) else "plain"
    )


def _row(
    ranked: Ranked, seconds: float | None, alike: str, beside: Sequence[Summary]
) -> list[Cell]:
    best = ranked.word == BEST
    notes = [f"same code as {ranked.same_as}"] if ranked.same_as else [alike]
    notes.insert(0, turning(ranked.comparison))
    return [
        "?" if ranked.rank is None else str(ranked.rank),
        ranked.candidate,
        "" if seconds is None else duration(seconds),
        ratio(ranked.ratio),
        "" if best else interval(ranked.comparison.verdict.low, ranked.comparison.verdict.high),
        Span(word(ranked.comparison).text, CHANGE if ranked.word in (BEST, TIED) else "plain"),
        *(_at_size(summary, ranked.candidate) for summary in beside),
        "" if best else percent(ranked.comparison.visible),
        spread(ranked.placement_spread),
        size(ranked.cost.code_bytes),
        compile_text(ranked.cost.compiling),
        Span("; ".join(filter(None, notes)), DIM),
    ]


def compile_text(took: "CompileTime") -> str:
    """Return what compiling takes; "~" before what was timed once."""
    return f"{'~' if took.runs == 1 else ''}{duration(took.seconds)}"


def worth(item: "Picked") -> str:
    """Return what a choice does to the whole program, whose share the entry is."""
    gain, share = item.pick.gain or 1.0, item.share or 0.0
    if item.pick.choice == item.measured.baseline:
        return f"the choice is the baseline; of the whole program it takes {percent(share)}"
    less = "less" if gain <= 1 else "more"
    text = (
        f"the whole program takes {percent(abs(1 - gain))} {less} time than with "
        f"{item.measured.baseline}, of which this is {percent(share)}"
    )
    if item.seen:
        text += (
            f" ±{digits(item.seen.error * 100)} (measured in "
            f"{item.measured.checked.snippet.share_in}, its own code alone)"
        )
    return text


def _choice(report: Report, item: "Picked") -> None:
    pick = item.pick
    if pick.choice is None:
        report.add("  ", Span("no pick: ", TROUBLE), pick.why)
        return
    chosen = next(row for row in pick.ranking if row.candidate == pick.choice)
    report.add("  pick  ", Span(pick.choice, CHANGE))
    others = [name for name in pick.tied if name != pick.choice]
    tied = f"; tied with it: {joined(others)}" if others else ""
    report.paragraph(f"{pick.why}{tied}", indent=8)
    cost = chosen.cost
    text = f"{size(cost.code_bytes)} of code, {duration(cost.compiling.seconds)} to compile"
    if cost.compiling.runs > 1:
        low, high = duration(cost.compiling.low), duration(cost.compiling.high)
        text += f" ({low} to {high} in {cost.compiling.runs} runs)"
    if cost.tied_to_cpu:
        text += f"; {joined(cost.tied_to_cpu)} ties it to CPUs that have all this one has"
    report.paragraph(text, indent=8)
    if pick.gain is not None:
        report.paragraph(worth(item), indent=8)
    front = [row.candidate for row in pick.ranking if row.undominated and row is not chosen]
    if front:
        also = "also unbeaten" if chosen.undominated else "unbeaten"
        text = f"{also} in time, code and compile time together: {joined(front)}"
        report.paragraph(text, DIM, indent=8)
    if pick.caution:
        report.paragraph(f"caution: {pick.caution}", TROUBLE, indent=8)
    report.add(" " * 8, Span(pick.command, STRONG))
