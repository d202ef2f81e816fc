"""Many builds by source line as text; wide grids go on over several pages of columns."""

from collections.abc import Sequence

from hot_anvil.core.diff.ledger import Cell, Ledger, LedgerRow
from hot_anvil.views.text.report import CHANGE, DIM, PLAIN, STRONG, TROUBLE, Report, Span, cut
from hot_anvil.views.text.words import plural

_NUMBER = 8  # columns of the line number
_NARROW = 22  # and at least, where all columns then stand on one page
_SOURCE = 30  # columns that the source text keeps at least
_GAP = 2


def ledger_report(ledgers: Sequence[Ledger], width: int) -> Report:
    """Return each snippet's rows of counts and marks, a page for as many builds as fit."""
    report = Report(width)
    for ledger in ledgers:
        report.blank()
        differing = sum(row.differs for row in ledger.rows)
        said = f"{plural(len(ledger.rows), 'source line')}, {differing} where builds differ"
        report.add(
            Span(ledger.snippet, STRONG), f"  {said}, {plural(len(ledger.columns), 'build')}"
        )
        for build, why in ledger.refused:
            report.paragraph(f"refused by {build}: {why}", TROUBLE, 2)
        shown = [k for k, total in enumerate(ledger.totals) if total is not None]
        pages = _pages(ledger, shown, width)
        for number, page in enumerate(pages, 1):
            if len(pages) > 1:
                report.blank()
                report.add(Span(f"builds {number} of {len(pages)}", DIM))
            _page(report, ledger, page)
    report.blank()
    report.paragraph(
        "Cells: instructions and marks. * builds differ in this line. loop: code runs in a loop; "
        "4x32: packed arithmetic, lanes x bits.", DIM,
    )  # fmt: skip
    return report


def _pages(ledger: Ledger, columns: Sequence[int], width: int) -> list[list[int]]:
    """Return the columns in groups, as many as fit beside the source text."""
    every = sum(_GAP + _column_width(ledger, k) for k in columns)
    room = width - _NUMBER - (_NARROW if every <= width - _NUMBER - _NARROW else _SOURCE)
    pages: list[list[int]] = []
    used = room + 1
    for k in columns:
        need = _GAP + _column_width(ledger, k)
        if used + need > room:
            pages.append([])
            used = 0
        pages[-1].append(k)
        used += need
    return pages


def _column_width(ledger: Ledger, k: int) -> int:
    cells = [_text(row.cells[k]) for row in ledger.rows]
    widest = max((len(cell) for cell in cells), default=0)
    return min(max(widest, *map(len, _head(ledger.columns[k]))), 22)


def _head(build: str) -> list[str]:
    """Return a build's name in two lines: toolchain, flags."""
    for sign in (":", " "):
        toolchain, found, flags = build.partition(sign)
        if found:
            return [toolchain, cut(flags, 22)]
    return [build, ""]


def _text(cell: Cell | None) -> str:
    if cell is None:
        return f"{'?':>3}"
    if not cell.instructions:
        return f"{'-':>3}"
    return " ".join([f"{cell.instructions:>3}", *cell.marks])


def _page(report: Report, ledger: Ledger, page: Sequence[int]) -> None:
    widths = [_column_width(ledger, k) for k in page]
    room = report.width - _NUMBER - sum(_GAP + w for w in widths)
    room = min(room, max((len(row.text) for row in ledger.rows), default=0) + 2)
    for line in range(2):
        heads = [
            f"{' ' * _GAP}{cut(_head(ledger.columns[k])[line], w):<{w}}"
            for k, w in zip(page, widths, strict=True)
        ]
        report.add(" " * (_NUMBER + room), Span("".join(heads).rstrip(), DIM))
    file = None
    for row in ledger.rows:
        if row.file != file:
            file = row.file
            report.add(Span(file or "(no source file)", DIM))
        _row(report, row, page, widths, room)
    totals = "".join(
        f"{' ' * _GAP}{ledger.totals[k] or 0:>3}{' ' * (w - 3)}"
        for k, w in zip(page, widths, strict=True)
    )
    report.add(" " * _NUMBER, Span(f"{'all instructions':<{room}}", STRONG), totals.rstrip())


def _row(
    report: Report, row: LedgerRow, page: Sequence[int], widths: Sequence[int], room: int
) -> None:
    number = f"{row.line:>5} " if row.line > 0 else " " * 6
    text = cut(row.text.replace("\t", "    "), room - 1)
    spans = [
        Span(number, DIM), Span("* " if row.differs else "  ", CHANGE),
        Span(f"{text:<{room}}", STRONG if row.differs else DIM),
    ]  # fmt: skip
    common = _commonest(row)
    for k, width in zip(page, widths, strict=True):
        cell = _text(row.cells[k])
        style = CHANGE if row.differs and cell != common else PLAIN if row.differs else DIM
        spans += [Span(" " * _GAP), Span(f"{cut(cell, width):<{width}}", style)]
    report.add(*spans)


def _commonest(row: LedgerRow) -> str:
    """Return the cell that most builds have."""
    texts = [_text(cell) for cell in row.cells if cell]
    return max(dict.fromkeys(texts), key=texts.count, default="")
