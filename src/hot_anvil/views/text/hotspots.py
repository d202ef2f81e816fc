"""Where the time goes, as text and as a document."""

from collections.abc import Mapping, Sequence
from typing import Any

from hot_anvil.core.measure.hotspots import Hot, HotLine, Hotspots, Share
from hot_anvil.views.json.document import Document, document
from hot_anvil.views.text.sheet import CHANGE, DIM, STRONG, TROUBLE, Cell, Sheet, Span, cut
from hot_anvil.views.text.words import duration

Sources = Mapping[str, Sequence[str]]
_LITTLE = 0.005  # share that is left out unless all is asked for
_WARM = 0.2  # share that is shown in the accent colour
_SOURCE, _LEAST = 40, 24  # columns of source text in a table of several candidates
_SHARE, _TIME, _REST = 13, 8, 20  # columns of a share, of a time, of line number and state


def hotspots_sheet(found: Sequence[Hot], sources: Sources, width: int, every: bool) -> Sheet:
    """Return each snippet's lines with their shares of the time."""
    sheet = Sheet(width)
    for hot in found:
        sheet.blank()
        sheet.add(Span(hot.snippet, STRONG), f"  {_inputs(hot)}")
        for text in hot.left_out:
            sheet.add("  ", Span(f"not looked at: {text}", TROUBLE))
        if len(hot.candidates) == 1:
            _alone(sheet, hot.candidates[0], sources, every)
        elif hot.candidates:
            _beside(sheet, hot, sources, every)
    if any(hot.candidates for hot in found):
        sheet.blank()
        sheet.paragraph(
            "share of the time, give or take (95 in 100). The processor is seen at the instruction "
            "it waits for or at one after it: trust lines more than single instructions.",
            DIM,
        )
    return sheet


def _inputs(hot: Hot) -> str:
    return hot.candidates[0].inputs if hot.candidates else ""


def _told(one: Hotspots) -> str:
    return (
        f"{duration(one.seconds_per_call)} a call, {one.looks:,} looks in {one.processes} fresh "
        "processes"
    )


def _share(share: Share) -> str:
    return f"{share.share * 100:.1f} % ±{max(share.error * 100, 0.1):.1f}"


def _hue(share: Share) -> str:
    return CHANGE if share.share >= _WARM else "plain"


def _text(sources: Sources, line: HotLine) -> str:
    lines = sources.get(line.file, ())
    return lines[line.line - 1] if 0 < line.line <= len(lines) else ""


def _alone(sheet: Sheet, one: Hotspots, sources: Sources, every: bool) -> None:
    """Show one candidate: the source is the spine, its instructions hang under it."""
    sheet.add("  ", Span(one.candidate, STRONG), f"  {_told(one)}")
    file = ""
    for line in one.lines:
        if line.share.share < _LITTLE and not every:
            continue
        if line.file != file:
            file = line.file
            sheet.add("  ", Span(file or "no source line", DIM))
        share = f"{_share(line.share):>15}"
        number = f"{line.line:>5}" if line.line else "     "
        source = cut(_text(sources, line), sheet.width - 26)
        sheet.add("  ", Span(share, _hue(line.share)), Span(f" {number}  ", DIM), source)
        for row in line.instructions:
            if row.share.share < _LITTLE and not every:
                continue
            inside = f"{row.share.share * 100:>5.1f} %"
            text = cut(row.instruction.text, sheet.width - 34)
            sheet.add(" " * 26, Span(inside, DIM), f"  {text}")
    for name, own in one.elsewhere:
        if own.share >= _LITTLE or every:
            sheet.add("  ", Span(f"{_share(own):>15}", _hue(own)), f"        in {name}")


def _beside(sheet: Sheet, hot: Hot, sources: Sources, every: bool) -> None:
    """Show several candidates: a row for each source line, a column for each of them."""
    labels, room = _labels(hot, sheet.width)
    for one, label in zip(hot.candidates, labels, strict=True):
        short = "" if label == one.candidate else f"{label} "
        sheet.add("  ", short, Span(one.candidate, STRONG), f"  {_told(one)}")
    by_line = [{(line.file, line.line): line for line in one.lines} for one in hot.candidates]
    keys = sorted({key for lines in by_line for key in lines})
    rows: list[list[Cell]] = []
    for key in keys:
        own = [lines.get(key) for lines in by_line]
        if max(line.share.share for line in own if line) < _LITTLE and not every:
            continue
        first = next(line for line in own if line)
        text = cut(_text(sources, first).strip(), room) if key[1] else "no source line"
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
        heads += [label, "a call"]
    many = len(hot.candidates)
    sheet.table([*heads, "diff" if hot.states else ""], rows, "rl" + "rr" * many + "l")


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
    return [Span(_share(share), _hue(share)), duration(share.share * one.seconds_per_call)]


def hotspots_document(found: Sequence[Hot], sources: Sources) -> Document:
    """Return the document of ``hotspots``."""
    return document(
        "hotspots",
        candidates=[
            {
                "snippet": hot.snippet,
                "candidate": one.candidate,
                "inputs": one.inputs,
                "seconds_per_call": one.seconds_per_call,
                "looks": one.looks,
                "processes": one.processes,
                "functions": [{"name": name, **s._asdict()} for name, s in one.functions],
                "lines": [_line(line, hot, sources) for line in one.lines],
                "elsewhere": [{"name": name, **s._asdict()} for name, s in one.elsewhere],
            }
            for hot in found
            for one in hot.candidates
        ],
        left_out=[text for hot in found for text in hot.left_out],
    )


def _line(line: HotLine, hot: Hot, sources: Sources) -> dict[str, Any]:
    return {
        "file": line.file,
        "line": line.line,
        "text": _text(sources, line),
        **line.share._asdict(),
        "state": hot.states.get((line.file, line.line)),
        "instructions": [
            {
                "function": row.function,
                "address": row.instruction.address,
                "text": row.instruction.text,
                **row.share._asdict(),
            }
            for row in line.instructions
        ],
    }
