"""One thread or one warp of a kernel, instruction by instruction, as text."""

from collections.abc import Callable, Mapping, Sequence
from textwrap import wrap

from hot_anvil.core.code.records import Instruction
from hot_anvil.core.kernels.records import ThreadSteps
from hot_anvil.core.kernels.told import Told
from hot_anvil.views.text.launch import heading, numbers
from hot_anvil.views.text.report import CHANGE, DIM, TROUBLE, Report, Span, cut
from hot_anvil.views.text.step import source_line
from hot_anvil.views.text.words import plural

Spell = Callable[[Instruction], Instruction]
_BODY = 40  # columns of an instruction
_NUMBER = 6


def threads_report(
    steps: ThreadSteps,
    chosen: Sequence[Told],
    limit: int,
    sources: Mapping[str, Sequence[str]],
    spell: Spell,
    width: int,
    by_line: bool,
) -> Report:
    """Return what the watched threads did: of the steps ``chosen``, at most ``limit``."""
    report = Report(width)
    heading(report, steps.launch)
    who = _who(steps)
    report.paragraph(f"{who} executed {plural(len(steps.moments), 'instruction')}", indent=2)
    if steps.full:
        report.paragraph("caution: it goes on; recording ended there", TROUBLE, 2)
    report.blank()
    if not chosen:
        report.add("  ", Span("no step is as asked for", TROUBLE))
        return report
    at = ("", -1)
    for one in chosen[:limit]:
        if (one.file, one.line) != at:
            at = one.file, one.line
            place = f"{one.file.rpartition('/')[2]}:{one.line}" if one.line else "no line"
            text = source_line(sources, *at).strip()
            report.add("  ", Span(f"{place}  ", DIM), cut(text, max(width - len(place) - 6, 16)))
        if not by_line:
            _step(report, one, spell, len(steps.threads))
            continue
        for said in one.said:
            report.add(" " * (_NUMBER + 4), Span(said, CHANGE))
    left = len(chosen) - limit
    if left > 0:
        report.paragraph(f"{plural(left, 'more step')} not shown: --limit shows more of them; --at "
                         "and --only-changes show fewer.", DIM, 2)  # fmt: skip
    return report


def _who(steps: ThreadSteps) -> str:
    if len(steps.threads) == 1:
        return f"thread {steps.threads[0]} of block {steps.block}"
    return f"the warp of threads {numbers(steps.threads)} of block {steps.block}"


def _step(report: Report, one: Told, spell: Spell, threads: int) -> None:
    item = spell(one.instruction)
    text = item.text.replace("\t", " ")
    said = list(one.said)
    if one.threads and len(one.threads) < threads:
        said.insert(0, f"threads {numbers(one.threads)}")
    head = f"{one.number:>{_NUMBER}}  "
    aside = len(head) + _BODY + 2
    lines = _folded(said, max(report.width - aside - 1, 24))
    beside = lines.pop(0) if lines and len(text) <= _BODY else ""
    report.add(f"{head}{text:<{_BODY}}  " if beside else f"{head}{text}", Span(beside, CHANGE))
    for line in lines:
        report.add(" " * aside, Span(line, CHANGE))
    if item.words:
        report.add(" " * len(head), Span(item.words, DIM))


def _folded(said: Sequence[str], room: int) -> list[str]:
    """Return pieces side by side, as many as fit on a line."""
    lines: list[str] = []
    for piece in said:
        if lines and len(lines[-1]) + len(piece) + 2 <= room:
            lines[-1] += f"; {piece}"
        else:
            lines += wrap(piece, room)
    return lines
