"""A compiler's forms of code as text: which there are, one of them, and two side by side."""

import re
from collections.abc import Iterator, Mapping, Sequence

from hot_anvil.core.asm.listing import source_text
from hot_anvil.core.diff.records import Row
from hot_anvil.core.stages.records import (
    MARKER,
    Body,
    Counts,
    FunctionStages,
    Offered,
    WholeForm,
    counts_of,
)
from hot_anvil.views.text.diff import add_legend, add_rows
from hot_anvil.views.text.report import CHANGE, DIM, PLAIN, STRONG, TROUBLE, Cell, Report, Span, cut
from hot_anvil.views.text.words import plural

_HEADS = ("statements", "blocks", "loops", "calls", "allocs", "loads", "stores", "divs", "vector")
_CHUNK = 5000  # lines of a text that are held at once


def offered_report(found: Sequence[Offered], width: int) -> Report:
    """Return which stages each build's compiler can show."""
    report = Report(width)
    for one in found:
        report.blank()
        report.add(Span(one.build, STRONG))
        if one.why:
            report.paragraph(one.why, DIM, 2)
        for form, names in one.forms.items():
            count = f" ({len(names)})" if len(names) > 9 else ""
            report.say(Span(f"  {form}{count}  ", DIM), "  ".join(names))
        if not one.why and "GIMPLE" not in one.forms:
            report.paragraph(
                "and what each pass left of one function: --entry NAME lists those that changed it",
                DIM, 2,
            )  # fmt: skip
    return report


def table_report(found: Sequence[FunctionStages], width: int, everything: bool) -> Report:
    """Return the stages of one function with what it holds at each."""
    report = Report(width)
    for one in found:
        report.blank()
        _title(report, one)
        counts = [counts_of(stage.body) for stage in one.stages]
        kept = [
            k for k in range(len(counts))
            if everything or not k or counts[k] != counts[k - 1] or k == len(counts) - 1
            or one.stages[k].body.form != one.stages[k - 1].body.form
        ]  # fmt: skip
        rows: list[list[Cell]] = []
        last: Counts | None = None
        for k in kept:
            stage = one.stages[k]
            cells = [_cell(n, last[j] if last else n) for j, n in enumerate(counts[k])]
            rows.append([stage.name, Span(stage.body.form, DIM), *cells])
            last = counts[k]
        report.table(("stage", "form", *_HEADS), rows, "ll" + "r" * len(_HEADS), spare=(10, 9, 6))
        ran = sum(len(stage.passed) + 1 for stage in one.stages)
        left_out = len(counts) - len(kept)
        more = f"; {left_out} that changed the text but no number: --all" if left_out else ""
        report.paragraph(
            f"{plural(ran, 'pass')[:-1] if ran == 1 else f'{ran} passes'} ran, "
            f"{len(counts)} changed it{more}", DIM, 2,
        )  # fmt: skip
    return report


def _cell(value: int | None, before: int | None) -> Cell:
    text = "?" if value is None else str(value)
    return Span(text, PLAIN if value == before else CHANGE)


def _title(report: Report, one: FunctionStages) -> None:
    report.add(Span(one.title, STRONG), f"  {one.build}")
    caution(report, one)


def caution(report: Report, one: FunctionStages) -> None:
    """Say so where asking changed the code."""
    if one.code not in ("", "same"):
        report.paragraph(
            f"caution: asked for its forms, {one.build} made other code of {one.code}: what is "
            "shown is of that code", TROUBLE,
        )  # fmt: skip


def body_report(
    body: Body,
    title: str,
    sources: Mapping[str, Sequence[str]],
    width: int,
    pattern: "re.Pattern[str] | None" = None,
    lines: tuple[int, int] = (0, 0),
) -> Report:
    """Return one form of a function by source line; statements in the form's own order inside."""
    report = Report(width)
    found = [
        (k, s) for k, s in enumerate(body.statements)
        if (not pattern or pattern.search(s.text))
        and (not lines[1] or lines[0] <= s.line <= lines[1])
    ]  # fmt: skip
    if not found and (pattern or lines[1]):
        return report
    report.add(
        Span(title or body.function, STRONG),
        f"  {body.form}, {plural(len(body.statements), 'statement')}",
    )
    labels = {block.first: block.label for block in reversed(body.blocks)}
    places = dict.fromkeys((s.file, s.line) for _, s in found)
    file = ""
    for place in sorted(places, key=lambda at: (not at[1], at)):
        if place[0] != file and place[0]:
            file = place[0]
            report.add("  ", Span(file, DIM))
        own = [(k, s) for k, s in found if (s.file, s.line) == place]
        text = source_text(sources, *place) if place[1] else "(no source line)"
        number = f"{place[1]:>6}  " if place[1] else " " * 8
        style = STRONG if place[1] else DIM
        report.add(Span(number, DIM), Span(cut(text.strip(), width - 8), style))
        previous = None
        for k, statement in own:
            if previous is not None and k != previous + 1 and not pattern:
                report.add(" " * 12, Span("..", DIM))
            previous = k
            if k in labels:
                report.add(" " * 8, Span(f"{labels[k]}:", CHANGE))
            style = DIM if MARKER in statement.traits else PLAIN
            report.add(" " * 12, Span(cut(statement.text, max(width - 12, 40)), style))
    return report


def text_report(form: WholeForm, width: int, pattern: "re.Pattern[str] | None") -> Iterator[Report]:
    """Give the lines of a text, or those that a pattern finds with their numbers, in pieces."""
    report = Report(width)
    for number, text in enumerate(form.lines, 1):
        if pattern and not pattern.search(text):
            continue
        line = text.rstrip("\n").expandtabs(8)
        report.add(*((Span(f"{number:>8}  ", DIM), line) if pattern else (line,)))
        if len(report.blocks) >= _CHUNK:
            yield report
            report = Report(width)
    yield report


Compared = tuple[FunctionStages, tuple[str, str], Sequence[Row]]


def difference_report(compared: Sequence[Compared], width: int, everything: bool) -> Report:
    """Return two forms side by side, by source line."""
    report = Report(width)
    for one, names, rows in compared:
        report.blank()
        _title(report, one)
        add_difference(report, names, rows, everything)
    add_legend(report)
    return report


def add_difference(
    report: Report, names: Sequence[str], rows: Sequence[Row], everything: bool, context: int = 1
) -> None:
    """Add the lines on which two forms differ."""
    if all(row.state == "same" for row in rows) and not everything:
        report.paragraph(f"nothing differs between {names[0]} and {names[1]}", DIM, 2)
        return
    add_rows(report, rows, names, everything, context)
