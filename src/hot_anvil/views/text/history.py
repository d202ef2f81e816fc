"""Measurements over time, and the answers that are kept, as text."""

from collections.abc import Sequence
from datetime import datetime

from hot_anvil.core.measure.history import Change, Compared, Entry, State, series
from hot_anvil.core.measure.verdict_words import FASTER, SLOWER
from hot_anvil.core.results.answers import KeptHead
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Cell, Report, Span
from hot_anvil.views.text.words import duration, interval, joined, ratio

_LISTED = 12  # of the answers that are kept


def history_report(
    states: Sequence[State], candidates: Sequence[str], heads: Sequence[KeptHead], width: int
) -> Report:
    """Return each candidate's measurements, the oldest first, with what changed between them."""
    report = Report(width)
    machines = dict.fromkeys((s.machine, s.machine_text) for s in states)
    title = ("", "")
    for (snippet, inputs, candidate), rows in series(states).items():
        if candidates and candidate not in candidates:
            continue
        if (snippet, inputs) != title:
            title = snippet, inputs
            report.blank()
            report.add(Span(snippet, STRONG), f"  {inputs}")
        report.add("  ", Span(candidate, STRONG))
        table: list[list[Cell]] = []
        before: tuple[State, Entry] | None = None
        for state, entry in rows:
            changed = _changed(before, (state, entry))
            table.append(
                [
                    f"#{state.number}",
                    when(state.at),
                    (state.imported and "imported") or state.machine,
                    duration(entry.seconds),
                    duration(entry.quiet_seconds),
                    ratio(entry.ratio),
                    "" if entry.candidate == state.baseline else interval(entry.low, entry.high),
                    Span(changed, CHANGE if changed else DIM),
                ]
            )
            before = state, entry
        columns = ("", "when", "machine", "time a call", "quiet", "ratio", "interval", "changed")
        report.table(columns, table, "rllrrrrl", indent=4)
    report.blank()
    for name, text in machines:
        report.paragraph(f"machine {name}: {text}", DIM)
    if states:
        report.paragraph(
            "ratio: over the time of that measurement's baseline. Times of two measurements are "
            "not paired; 'history --compare' compares by code that did not change, 'measure "
            "--earlier' measures earlier code again.",
            DIM,
        )
    if not candidates:
        _answers(report, heads)
    return report


def _answers(report: Report, heads: Sequence[KeptHead]) -> None:
    """Add what 'show' can show again, the last first."""
    if not heads:
        return
    report.blank()
    report.add(Span("kept answers", STRONG), "  'hot-anvil show PATH NUMBER' shows one again")
    rows = [
        [str(one.number), when(one.at), one.command,
         f"from {one.origin}" if one.origin else one.machine, joined(one.snippets)]
        for one in reversed(heads)
    ]  # fmt: skip
    heading = ("number", "when", "command", "machine", "snippets")
    report.table(heading, rows[:_LISTED], "rllll")
    if len(rows) > _LISTED:
        report.paragraph(f"and {len(rows) - _LISTED} before these, as JSON lists them", DIM, 2)


def when(at: float) -> str:
    """Return a moment in local time."""
    return datetime.fromtimestamp(at).astimezone().strftime("%Y-%m-%d %H:%M")


def _changed(before: tuple[State, Entry] | None, now: tuple[State, Entry]) -> str:
    if before is None:
        return now[1].maker.toolchain
    parts = []
    if before[0].machine != now[0].machine:
        parts.append("machine")
    if before[1].maker.toolchain != now[1].maker.toolchain:
        parts.append(f"toolchain: {now[1].maker.toolchain}")
    if before[1].maker.code != now[1].maker.code:
        parts.append("code")
    if before[0].baseline != now[0].baseline:
        parts.append(f"baseline: {now[0].baseline}")
    return ", ".join(parts)


def compared_report(compared: Sequence[Compared], candidates: Sequence[str], width: int) -> Report:
    """Return what two measurements say of each candidate, before and after."""
    report = Report(width)
    for one in compared:
        report.blank()
        report.add(
            Span(one.after.snippet, STRONG),
            f"  {one.after.inputs}" if one.after.inputs else "",
            f"  #{one.before.number} ({when(one.before.at)}) and "
            f"#{one.after.number} ({when(one.after.at)})",
        )
        if one.why_not:
            report.paragraph(one.why_not, TROUBLE, indent=2)
        changes = [c for c in one.changes if not candidates or c.candidate in candidates]
        heads = ("candidate", "before", "after", "after/before", "interval", "word", "changed")
        rows = [_row(change, one.yardstick) for change in changes]
        report.table(heads, rows, "lrrrrll")
        if one.yardstick:
            report.paragraph(
                f"after/before is measured by {one.yardstick}, whose code is the same in both: how "
                "quick the machine was at either time drops out",
                DIM,
                indent=2,
            )
    return report


def _row(change: Change, yardstick: str) -> list[Cell]:
    told = change.verdict
    own = change.candidate == yardstick
    word = "yardstick" if own else told.word if told else "unknown"
    return [
        change.candidate,
        duration(change.before.seconds) if change.before else "",
        duration(change.after.seconds) if change.after else "",
        ratio(told.ratio) if told and not own else "",
        interval(told.low, told.high) if told and not own else "",
        Span(word, CHANGE if word in (FASTER, SLOWER) else "plain"),
        change.what,
    ]
