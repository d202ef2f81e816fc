"""Where the time goes, as text and as a document."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.measure.hotspots import Hot, HotInstruction, Hotspots, Share, line_text
from hot_anvil.views.text.report import (
    CHANGE,
    DIM,
    PLAIN,
    STRONG,
    TROUBLE,
    Cell,
    Report,
    Span,
    Style,
    cut,
)
from hot_anvil.views.text.words import duration

Sources = Mapping[str, Sequence[str]]
_COUNTED = {
    "cycles": "cycles of one call on the simulated chip, exact, and their share; x: executed",
    "instructions": "instructions that one warm call executed, exact, and their share; no time",
}
_LITTLE = 0.005  # share that is left out unless all is asked for
_WARM = 0.2  # share that is shown in the accent colour
_SOURCE, _LEAST = 40, 24  # columns of source text in a table of several candidates
_SHARE, _TIME, _REST = 13, 8, 20  # columns of a share, of a time, of line number and state


def hotspots_report(found: Sequence[Hot], sources: Sources, width: int, every: bool) -> Report:
    """Return each snippet's lines with their shares of the time."""
    report = Report(width)
    for hot in found:
        report.blank()
        report.add(Span(hot.snippet, STRONG), f"  {_inputs(hot)}")
        for text in hot.left_out:
            report.add("  ", Span(f"not looked at: {text}", TROUBLE))
        if len(hot.candidates) == 1:
            _alone(report, hot.candidates[0], sources, every)
        elif hot.candidates:
            _beside(report, hot, sources, every)
    kinds = {one.counts for hot in found for one in hot.candidates}
    for kind in sorted(filter(None, kinds)):
        report.blank()
        report.paragraph(_COUNTED[kind], DIM)
    if "" in kinds:
        report.blank()
        report.paragraph(
            "share of the time, give or take (95 in 100). The processor is seen behind the "
            "instruction it waits for; looks behind a slow one count for it. Trust lines more than "
            "single instructions.",
            DIM,
        )
    return report


def _inputs(hot: Hot) -> str:
    return hot.candidates[0].inputs if hot.candidates else ""


def _told(one: Hotspots) -> str:
    if one.counts:
        return f"{one.samples:,} {one.counts} a {one.unit}, each counted"
    seen = f"{one.samples:,} samples in {one.processes} fresh processes"
    if not one.samples:
        seen += ": too little time of its own to be seen"
    return f"{duration(one.seconds_per_call)} a {one.unit}, {seen}"


def _share(share: Share) -> str:
    if not share.error:
        return f"{share.samples:,}  {share.share * 100:.1f} %"
    return f"{share.share * 100:.1f} % ±{max(share.error * 100, 0.1):.1f}"


def _hue(share: Share) -> Style:
    return CHANGE if share.share >= _WARM else PLAIN


def _alone(report: Report, one: Hotspots, sources: Sources, every: bool) -> None:
    """Show one candidate: the source is the spine, its instructions hang under it."""
    report.say("  ", Span(one.candidate, STRONG), f"  {_told(one)}")
    file = ""
    for line in one.lines:
        if line.share.share < _LITTLE and not every:
            continue
        if line.file != file:
            file = line.file
            report.add("  ", Span(file or "no source line", DIM))
        share = f"{_share(line.share):>15}"
        number = f"{line.line:>5}" if line.line else "     "
        source = cut(line_text(sources, line), report.width - 26)
        report.add("  ", Span(share, _hue(line.share)), Span(f" {number}  ", DIM), source)
        for row in line.instructions:
            if row.share.share < _LITTLE and not every:
                continue
            text = cut(row.instruction.text, report.width - 34)
            report.add(" " * 16, Span(f"{_inside(one, row):>17}", DIM), f"  {text}")
    for name, own in one.elsewhere:
        if own.share >= _LITTLE or every:
            report.add("  ", Span(f"{_share(own):>15}", _hue(own)), f"        in {name}")


def _inside(one: Hotspots, row: HotInstruction) -> str:
    """Return the figures of one instruction."""
    if not one.counts:
        return f"{row.share.share * 100:.1f} %"
    times = f"{row.times:,} x" if row.times and one.counts == "cycles" else ""
    return f"{times:>9}{row.share.samples:>8,}"


def _beside(report: Report, hot: Hot, sources: Sources, every: bool) -> None:
    """Show several candidates: a row for each source line, a column for each of them."""
    labels, room = _labels(hot, report.width)
    for one, label in zip(hot.candidates, labels, strict=True):
        short = "" if label == one.candidate else f"{label} "
        report.say("  ", short, Span(one.candidate, STRONG), f"  {_told(one)}")
    by_line = [{(line.file, line.line): line for line in one.lines} for one in hot.candidates]
    keys = sorted({key for lines in by_line for key in lines})
    rows: list[list[Cell]] = []
    for key in keys:
        own = [lines.get(key) for lines in by_line]
        if max(line.share.share for line in own if line) < _LITTLE and not every:
            continue
        first = next(line for line in own if line)
        text = cut(line_text(sources, first).strip(), room) if key[1] else "no source line"
        cells: list[Cell] = [str(key[1] or ""), text]
        for one, line in zip(hot.candidates, own, strict=True):
            cells += _cells(one, line.share if line else None)
        rows.append([*cells, hot.states.get(key, "")])
    names = list(dict.fromkeys(name for one in hot.candidates for name, _ in one.elsewhere))
    for name in names:
        shares = [dict(one.elsewhere).get(name) for one in hot.candidates]
        if max(share.share for share in shares if share) < _LITTLE and not every:
            continue
        cells = ["", f"in {name}"]
        for one, share in zip(hot.candidates, shares, strict=True):
            cells += _cells(one, share)
        rows.append([*cells, ""])
    heads = ["line", ""]
    for label in labels:
        heads += [label, f"a {hot.candidates[0].unit}"]
    many = len(hot.candidates)
    report.table([*heads, "diff" if hot.states else ""], rows, "rl" + "rr" * many + "l")


def _labels(hot: Hot, width: int) -> tuple[list[str], int]:
    """Return the heads of the candidates' columns, and the columns left for source text."""
    names = [one.candidate for one in hot.candidates]
    for labels in (names, [f"[{k}]" for k in range(1, len(names) + 1)]):
        taken = sum(max(len(label), _SHARE) + _TIME + 4 for label in labels) + _REST
        if width - taken >= _LEAST:
            break
    return labels, max(min(_SOURCE, width - taken), _LEAST // 2)


def _cells(one: Hotspots, share: Share | None) -> list[Cell]:
    if share is None:
        return ["", ""]
    took = "" if one.counts else duration(share.share * one.seconds_per_call)
    return [Span(_share(share), _hue(share)), took]
