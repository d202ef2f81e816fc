"""Facts of many builds side by side, with their evidence."""

from collections.abc import Sequence
from textwrap import wrap

from hot_anvil.core.code.records import Instruction, parts_by_owner
from hot_anvil.core.facts.records import (
    ALL,
    FUNCTION_FACTS,
    LOOP_FACTS,
    Fact,
)  # fmt: skip
from hot_anvil.core.facts.table import (
    FactRow,
    FactTable,
    FunctionRows,
    SnippetFacts,
    instructions_of,
    timing_loops,
)  # fmt: skip
from hot_anvil.views.text.report import CHANGE, DIM, PLAIN, STRONG, TROUBLE, Report, Span, cut
from hot_anvil.views.text.words import halves, plural

_LABEL = 20  # columns of a fact's name, with its indent
_WIDEST = 30  # of a cell
_SILENT = 12  # lines without code shown of each sort


def facts_report(
    shown: Sequence[SnippetFacts],
    found: Sequence[SnippetFacts],
    width: int,
    evidence: bool,
    chosen: bool,
) -> Report:
    """Return the facts to show as a table; what else was found below, unless facts were chosen."""
    report = Report(width)
    for one, full in zip(shown, found, strict=True):
        _heading(report, one.table, full.table)
        for function in one.table.functions:
            if function.rows or function.loops:
                _function(report, one.table, function)
        if not one.table.functions:
            report.add(Span("  none of these facts differs; --all shows them", DIM))
        _missing(report, one.table)
        if evidence:
            _evidence(report, one)
        if not chosen:
            _folded(report, full.table)
            _timing(report, full.table)
            _scalar(report, full)
            _silent(report, full)
    return report


def _heading(report: Report, table: FactTable, full: FactTable) -> None:
    report.blank()
    builds = [c for c in table.columns if c.functions is not None]
    said = f"{plural(len(full.functions), 'function')}, {plural(len(builds), 'build')}"
    if len(builds) > 1:
        same = len(full.functions) - len(table.functions)
        said += "; facts that differ"
        said += f" ({plural(same, 'function')} without any)" if same else ""
    report.add(Span(table.snippet, STRONG), f"  {said}")
    for column in table.columns:
        if column.functions is None:
            report.paragraph(f"refused by {column.build}: {column.why}", TROUBLE, 2)


def _function(report: Report, table: FactTable, function: FunctionRows) -> None:
    shown = [k for k, column in enumerate(table.columns) if column.functions is not None]
    rows = [*function.rows, *(row for loop in function.loops for row in loop.rows)]
    widths = {k: _width(table.columns[k].build, [row.facts[k] for row in rows]) for k in shown}
    pages = _pages(shown, widths, report.width)
    if len(pages) > 1:  # cells of several lines keep more builds side by side
        widths = {k: _narrow(table.columns[k].build, [row.facts[k] for row in rows]) for k in shown}
        pages = _pages(shown, widths, report.width)
    for page in pages:
        report.blank()
        room = max(
            _LABEL, min(len(function.title) + 2, report.width - sum(widths[k] for k in page))
        )
        heads = [_head(table.columns[k].build, widths[k]) for k in page]
        report.add(
            Span(cut(function.title, room - 1).ljust(room), STRONG),
            Span("".join(head[0] for head in heads).rstrip(), DIM),
        )
        if any(head[1].strip() for head in heads):
            report.add(" " * room, Span("".join(head[1] for head in heads).rstrip(), DIM))
        for row in function.rows:
            _row(report, row, page, widths, room, 2)
        for loop in function.loops:
            if not any(loop.loops[k] for k in page):
                continue
            where = f"line {loop.lines}" if "-" not in loop.lines else f"lines {loop.lines}"
            inner = f", inside {plural(loop.depth - 1, 'loop')}" if loop.depth > 1 else ""
            report.add(Span(f"  loop at {where}{inner}", DIM))
            for row in loop.rows:
                _row(report, row, page, widths, room, 4)


def _width(build: str, facts: Sequence[Fact | None]) -> int:
    """Return the columns of a build: as wide as its longest words, up to a limit."""
    words = [fact.words for fact in facts if fact]
    heads = halves(build)
    longest = max((len(text) for text in [*words, *heads]), default=0)
    return min(max(longest, 8), _WIDEST) + 2


def _narrow(build: str, facts: Sequence[Fact | None]) -> int:
    """Return the columns of a build whose cells are wrapped between words."""
    words = [word for fact in facts if fact for word in fact.words.split()]
    longest = max((len(text) for text in [*words, *halves(build)]), default=0)
    return min(max(longest, 8), _WIDEST) + 2


def _head(build: str, width: int) -> list[str]:
    return [cut(part, width - 2).ljust(width) for part in halves(build)]


def _pages(shown: Sequence[int], widths: dict[int, int], width: int) -> list[list[int]]:
    """Return the columns in groups that fit beside the names of facts."""
    pages: list[list[int]] = []
    used = width
    for k in shown:
        if used + widths[k] > width - _LABEL and (not pages or pages[-1]):
            pages.append([])
            used = 0
        pages[-1].append(k)
        used += widths[k]
    return pages


def _row(
    report: Report,
    row: FactRow,
    page: Sequence[int],
    widths: dict[int, int],
    room: int,
    indent: int,
) -> None:
    cells = []
    for k in page:
        fact = row.facts[k]
        text = fact.words if fact else ""
        fits = len(text) <= widths[k] - 2
        cells.append([text] if fits else wrap(text, widths[k] - 2, break_on_hyphens=False))
    differs = row.differs
    common = _commonest(row) if differs else ""
    for line in range(max(map(len, cells))):
        label = " " * indent + (row.name if line == 0 else "")
        spans = [Span(cut(label, room - 1).ljust(room), PLAIN if differs else DIM)]
        for k, cell in zip(page, cells, strict=True):
            fact = row.facts[k]
            text = cell[line] if line < len(cell) else ""
            other = differs and fact is not None and fact.words != common
            spans.append(Span(text.ljust(widths[k]), CHANGE if other else PLAIN))
        report.add(*spans)


def _commonest(row: FactRow) -> str:
    words = [fact.words for fact in row.facts if fact]
    return max(dict.fromkeys(words), key=words.count, default="")


def _missing(report: Report, table: FactTable) -> None:
    """Name the functions that a build has no code of their own for."""
    for k, column in enumerate(table.columns):
        names = [f.title for f in table.functions if not f.there[k] and column.compiles(f.file)]
        if names:
            report.blank()
            report.paragraph(
                f"Inlined everywhere or dropped, under {column.build}: {', '.join(names)}", DIM
            )


def _folded(report: Report, table: FactTable) -> None:
    """Point out functions that are a constant: their inputs were known to the compiler."""
    everywhere = []
    for function in table.functions:
        row = next((row for row in function.rows if row.name == "constant"), None)
        if row is None:
            continue
        pairs = zip(table.columns, row.facts, strict=True)
        folded = [(c.build, f.words) for c, f in pairs if f and f.words != "-"]
        others = sum(f is not None and f.words == "-" for f in row.facts)
        if folded and not others:
            everywhere.append(
                f"{function.title} ({', '.join(dict.fromkeys(w for _, w in folded))})"
            )
        if folded and others:
            builds = ", ".join(build for build, _ in folded)
            report.blank()
            report.paragraph(
                f"{function.title} is the constant {folded[0][1]} under {builds}: the "
                "compiler knows its result, so there is nothing left to look at or to time. Pass "
                "the input as a parameter, or read it from a volatile variable.",
                CHANGE,
            )
    if everywhere:
        builds = "under every build" if len(table.columns) > 1 else "under this build"
        report.blank()
        report.paragraph(
            f"Nothing but a constant {builds}: {', '.join(everywhere)}. There is nothing to time."
        )


def _timing(report: Report, table: FactTable) -> None:
    for function, loop, words in timing_loops(table):
        said = "; ".join(f"{build}: {text}" for build, text in words.items())
        report.blank()
        report.paragraph(
            f"{function.title}, line {loop.lines}: the loop does nothing but let time pass. Its "
            f"duration depends on compiler and flags ({said}). Where a time is needed, wait for "
            "a timer, or use a delay routine that is written in assembly.",
            TROUBLE,
        )


def _scalar(report: Report, one: SnippetFacts) -> None:
    told = [loop for loop in one.scalar if loop.why]
    if not told:
        return
    report.blank()
    report.add(Span("Not vectorised, and why, as the compilers say", STRONG))
    for loop in told:
        report.say(
            f"  {loop.function}, {'lines' if '-' in loop.lines else 'line'} {loop.lines}  ",
            Span(f"{', '.join(loop.builds)}: ", DIM),
            loop.why,
        )


def _silent(report: Report, one: SnippetFacts) -> None:
    groups = {
        "No code in any build:": [line for line in one.silent if line.everywhere],
        "No code in some builds:": [line for line in one.silent if not line.everywhere],
    }
    for title, lines in groups.items():
        if not lines or (len(one.codes) < 2 and title.startswith("No code in some")):
            continue
        report.blank()
        report.add(Span(title, STRONG))
        for line in lines[:_SILENT]:
            builds = "" if line.everywhere else f"  ({', '.join(line.builds)})"
            where = f"{line.file}:{line.line}"
            text = cut(line.text, max(report.width - len(where) - len(builds) - 4, 20))
            report.say(f"  {where}  ", text, Span(builds, DIM))
        if len(lines) > _SILENT:
            report.add(Span(f"  and {len(lines) - _SILENT} more; --format json has them all", DIM))


def _evidence(report: Report, one: SnippetFacts) -> None:
    """Show the instructions behind each fact shown, build by build."""
    owners = {build: parts_by_owner(code.functions) for build, code in one.codes.items()}
    for function in one.table.functions:
        for k, column in enumerate(one.table.columns):
            if column.functions is None or not function.there[k]:
                continue
            items = instructions_of(owners[column.build], function.name)
            groups = [("", function.rows)]
            groups += [(f" of the loop at {loop.lines}", loop.rows) for loop in function.loops]
            for where, rows in groups:
                for row in rows:
                    fact = row.facts[k]
                    if fact:
                        _shown(report, f"{function.title} {column.build}{where}", fact, items)


def _shown(report: Report, where: str, fact: Fact, items: Sequence[Instruction]) -> None:
    report.blank()
    note = f"  ({fact.note})" if fact.note else ""
    report.add(Span(f"{where}: ", DIM), Span(f"{fact.name} {fact.words}", STRONG), Span(note, DIM))
    if fact.places == ALL:
        report.add(Span(f"  all {len(items)} instructions", DIM))
        return
    for place in fact.places:
        item = items[place]
        line = f"{item.line:>5}" if item.line > 0 else " " * 5
        report.add(Span(f"  {line}  [{place}] ", DIM), cut(item.text.replace("\t", " "), 80))
    if not fact.places:
        report.add(Span("  nothing in the code speaks for more", DIM))


def names_report(width: int) -> Report:
    """Return the names of all facts with what they say."""
    report = Report(width)
    for title, facts in (("Of functions", FUNCTION_FACTS), ("Of loops", LOOP_FACTS)):
        report.blank()
        report.add(Span(title, STRONG))
        report.table(("", ""), list(facts.items()), "ll")
    return report
