"""What compilers say of their own work, by source line."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.remarks.records import ANALYSIS, DONE, MISSED, Kind
from hot_anvil.core.remarks.table import (
    SAME,
    Answered,
    LineRemarks,
    Row,
    SnippetRemarks,
    told,
)
from hot_anvil.views.text.report import CHANGE, DIM, PLAIN, STRONG, TROUBLE, Report, Span, cut
from hot_anvil.views.text.words import plural

# What a remark is about -> what was done, and what was not.
_WORDS: Mapping[str, tuple[str, str]] = {
    "inlining": ("inlined", "not inlined"),
    "vectorising": ("vectorised", "not vectorised"),
    "unrolling": ("unrolled", "not unrolled"),
    "loops": ("loop changed", "loop not changed"),
    "loads": ("access saved", "access kept"),
    "calls": ("call changed", "call kept"),
    "spills": ("kept in registers", "spilled"),
}
_PHRASE = 16  # columns of those words
_INDENT = 7
_BUILDS = 3  # named before they are counted

Shown = tuple[SnippetRemarks, Sequence[LineRemarks], int]


def remarks_report(shown: Sequence[Shown], width: int) -> Report:
    """Return the report of ``remarks``."""
    report = Report(width)
    for one, lines, left_out in shown:
        report.blank()
        report.add(Span(one.snippet, STRONG))
        _lines(report, one, lines)
        _totals(report, one.answered)
        if left_out:
            report.blank()
            report.paragraph(
                f"{plural(left_out, 'record')} more: steps of analyses, counts of instructions, "
                "sizes of frames, causes told above, what you did not ask for. --all has them.",
                DIM,
            )
    return report


def _lines(report: Report, one: SnippetRemarks, lines: Sequence[LineRemarks]) -> None:
    file = None
    for line in lines:
        if line.file != file:
            file = line.file
            report.blank()
            report.add(Span(f"  {file}" if file else "  without a place in the source", DIM))
        if line.line:
            report.add(
                Span(f"{line.line:>6} ", DIM), Span(cut(line.text, report.width - _INDENT), STRONG)
            )
        several = len({row.function for row in line.rows}) > 1 or not line.line
        for row in line.rows:
            _row(report, one, row, several, (line.file, line.line))
    if not lines:
        report.add(Span("  nothing of what you asked for", DIM))


def _row(
    report: Report, one: SnippetRemarks, row: Row, with_function: bool, at: tuple[str, int]
) -> None:
    style = {DONE: PLAIN, MISSED: CHANGE, ANALYSIS: DIM}[row.kind]
    owner = one.titles.get(row.function, row.function)
    where = f"in {owner} " if with_function and owner else ""
    builds = _builds(one.answered, row.builds)
    times = f" ({row.times} times)" if row.times > 1 else ""
    report.say(
        Span(" " * _INDENT + _phrase(row.about, row.kind).ljust(_PHRASE), style),
        Span(f" {where}{builds}", DIM),
        f"{_sentence(row, at)}{times}",
    )


def _phrase(about: str, kind: Kind) -> str:
    if kind == ANALYSIS:
        return "analysed"
    done, missed = _WORDS.get(about, ("done", "missed"))
    return done if kind == DONE else missed


def _sentence(row: Row, at: tuple[str, int]) -> str:
    """Return the compiler's words: a cause says more than what it prevented."""
    if row.why:
        return "; ".join(c.text if (c.file, c.line) == at else told(c) for c in row.why)
    return row.text or "the compiler gives no sentence"


def _builds(answered: Sequence[Answered], builds: Sequence[str]) -> str:
    """Return whose words they are, "" where only one build was asked."""
    asked = [one.build for one in answered if not one.why]
    if len(asked) == 1:
        return ""
    if len(builds) == len(asked):
        return "all: "
    named = ", ".join(builds[:_BUILDS])
    more = len(builds) - _BUILDS
    return f"{named}{f' and {more} more' if more > 0 else ''}: "


def _totals(report: Report, answered: Sequence[Answered]) -> None:
    said = [one for one in answered if not one.why]
    if said:
        report.blank()
        heads = ("records of", "done", "missed", "analysis")
        rows = [[one.build, *(str(one.totals[kind]) for kind in one.totals)] for one in said]
        report.table(heads, rows, "lrrr")
    for one in answered:
        if one.why:
            report.paragraph(f"{one.build}: {one.why}", DIM, 2)
        elif one.code != SAME:
            report.paragraph(
                f"{one.build}: asked for records, the compiler made other code of {one.code}: what "
                "it says is of that code.",
                TROUBLE, 2,
            )  # fmt: skip
