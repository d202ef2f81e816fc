"""What C++ lines call, in order, and what each build left of that."""

import re
from collections.abc import Mapping, Sequence

from hot_anvil.core.asm.listing import source_text
from hot_anvil.core.stages.called import Call
from hot_anvil.core.stages.remaining import Left
from hot_anvil.core.stages.told import CallerLeft, SnippetCalls
from hot_anvil.views.text.report import CHANGE, DIM, PLAIN, STRONG, Report, Span, cut, tail

_INDENT = 8
_ELIDED = {
    "allowed": "elided: the language allows it",
    "guaranteed": "elided: C++17 demands it",
}
# Signs of operators -> characters that stand for them while brackets are looked for.
_HELD = {
    sign: chr(0xE000 + k) for k, sign in enumerate(("<<", "<=>", "<=", "<", ">>", ">=", ">", "->"))
}
_CALLEE = 40  # columns of a name at most
_FATE = 31  # columns that what became of it gets at the least


def calls_report(
    found: Sequence[SnippetCalls], width: int, lines: tuple[int, int] = (0, 0)
) -> Report:
    """Return the report of ``calls``."""
    report = Report(width)
    for one in found:
        report.blank()
        report.add(Span(one.snippet, STRONG), Span(f"  as {one.reader} reads it, unoptimised", DIM))
        if one.form == "GIMPLE":
            report.paragraph("in this form overloads of one name are not told apart", DIM, 2)
        for text in one.unknown:
            report.paragraph(f"not known: copies {text}, since the source does not compile so", DIM,
                             2)  # fmt: skip
        for row in one.callers:
            _caller(report, row, one.sources, lines)
        if not one.callers:
            report.add("  ", Span("its functions call nothing", DIM))
    report.blank()
    report.paragraph(
        "inlined, N: N instructions of the line came from it; nothing left: none did, and none "
        "calls it; no code: the caller has none of its own there", DIM,
    )  # fmt: skip
    return report


def _caller(
    report: Report,
    row: CallerLeft,
    sources: Mapping[str, Sequence[str]],
    lines: tuple[int, int],
) -> None:
    calls = [
        (k, call) for k, call in enumerate(row.caller.calls)
        if not lines[1] or lines[0] <= call.line <= lines[1]
    ]  # fmt: skip
    if not calls:
        return
    kinds = max(len(_kind(call)) for _, call in calls) + 2
    most = min(_CALLEE, report.width - _INDENT - kinds - _FATE)
    names = max(len(_name(call, most)) for _, call in calls) + 2
    cells = {build: [_fate(left[k]) for k, _ in calls] for build, left in row.left.items()}
    widths = {
        build: max(len(build), *(len(cell.text) for cell in own)) + 2
        for build, own in cells.items()
    }
    for page in _pages(widths, report.width - _INDENT - kinds - names):
        report.blank()
        room = _INDENT + kinds + names - 2
        title = row.caller.title
        title = title if len(title) <= room else without_arguments(title)
        if len(title) > room:  # its own line, and the builds below
            report.add(Span(cut(title, report.width), STRONG))
            title = ""
        heads = "".join(f"{cut(build, widths[build] - 2):<{widths[build]}}" for build in page)
        report.add(Span(f"{title:<{_INDENT + kinds + names}}", STRONG), Span(heads.rstrip(), DIM))
        at: tuple[str, int] | None = None
        for n, (_, call) in enumerate(calls):
            if (call.file, call.line) != at:
                at = call.file, call.line
                _line(report, call, sources)
            begins = Span(f"{_kind(call):<{kinds}}", DIM)
            name = Span(f"{_name(call, most):<{names}}", DIM if call.elided else PLAIN)
            fates = [
                cells[build][n]._replace(text=f"{cells[build][n].text:<{widths[build]}}")
                for build in page
            ]
            report.add(" " * _INDENT, begins, name,
                       *([Span(_ELIDED[call.elided], DIM)] if call.elided else fates))  # fmt: skip


def _pages(widths: Mapping[str, int], room: int) -> list[list[str]]:
    """Return the builds in groups that fit beside the names."""
    pages: list[list[str]] = [[]]
    used = 0
    for build, width in widths.items():
        if pages[-1] and used + width > room:
            pages.append([])
            used = 0
        pages[-1].append(build)
        used += width
    return pages


def _line(report: Report, call: Call, sources: Mapping[str, Sequence[str]]) -> None:
    text = source_text(sources, call.file, call.line) if call.line else ""
    where = f"{call.line:>6}  " if call.line else " " * _INDENT
    report.add(
        Span(where, DIM),
        cut(text.strip(), report.width - 8) or Span(tail(call.file, report.width - 8), DIM),
    )


def _kind(call: Call) -> str:
    return "" if call.kind in ("function", "through a pointer") else call.kind


def _name(call: Call, most: int) -> str:
    looped = " (in a loop)" if call.repeated else ""
    name = call.title if len(call.title) <= most else without_arguments(call.title)
    return f"{cut(name, most - len(looped))}{looped}"


def without_arguments(title: str) -> str:
    """Return a name with ".." for the arguments of its templates: ``std::vector<..>::size()``."""
    plain = re.sub(r"operator(<<|<=>|<=|<|>>|>=|>|->)", lambda m: f"operator{_HELD[m[1]]}", title)
    before = ""
    while before != plain:
        before, plain = plain, re.sub(r"<[^<>]*>", "\0", plain)
    title = plain.replace("\0", "<..>")
    for sign, held in _HELD.items():
        title = title.replace(held, sign)
    return title.replace("std::__cxx11::", "std::").replace("[abi:cxx11]", "")


def _fate(left: Left) -> Span:
    if left.instructions:
        return Span(f"{left.fate}, {left.instructions}", PLAIN)
    return Span(left.fate, DIM if left.fate in ("called", "no code") else CHANGE)
