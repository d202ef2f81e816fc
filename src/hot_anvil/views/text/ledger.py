"""Many builds by source line as text; wide grids go on over several pages of columns."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.diff.ledger import Cell, Ledger, LedgerRow
from hot_anvil.views.text.report import CHANGE, DIM, PLAIN, STRONG, TROUBLE, Report, Span, cut, tail
from hot_anvil.views.text.words import halves, plural

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
        report.say(
            Span(ledger.snippet, STRONG), f"  {said}, {plural(len(ledger.columns), 'build')}"
        )
        for build, why in ledger.refused:
            report.paragraph(f"refused by {build}: {why}", TROUBLE, 2)
        shown = [k for k, total in enumerate(ledger.totals) if total is not None]
        widths = {k: _column_width(ledger, k) for k in shown}
        pages = _pages(widths, width)
        if len(pages) > 1:  # marks on lines of their own keep more builds side by side
            widths = {k: _narrow_width(ledger, k) for k in shown}
            pages = _pages(widths, width)
        for number, page in enumerate(pages, 1):
            if len(pages) > 1:
                report.blank()
                report.add(Span(f"builds {number} of {len(pages)}", DIM))
            _page(report, ledger, page, [widths[k] for k in page])
    report.blank()
    report.paragraph(
        "Cells: instructions and marks. * builds differ in this line. loop: code runs in a loop; "
        "4x32: packed arithmetic, lanes x bits.", DIM,
    )  # fmt: skip
    return report


def _pages(widths: Mapping[int, int], width: int) -> list[list[int]]:
    """Return the columns in groups, as many as fit beside the source text."""
    every = sum(_GAP + own for own in widths.values())
    room = width - _NUMBER - (_NARROW if every <= width - _NUMBER - _NARROW else _SOURCE)
    pages: list[list[int]] = []
    used = room + 1
    for k, own in widths.items():
        if used + _GAP + own > room:
            pages.append([])
            used = 0
        pages[-1].append(k)
        used += _GAP + own
    return pages


def _column_width(ledger: Ledger, k: int) -> int:
    cells = [_text(row.cells[k]) for row in ledger.rows]
    widest = max((len(cell) for cell in cells), default=0)
    return min(max(widest, *map(len, _head(ledger.columns[k]))), 22)


def _narrow_width(ledger: Ledger, k: int) -> int:
    """Return the columns of a build whose marks go under their count where they must."""
    marks = [len(mark) + 2 for row in ledger.rows if (cell := row.cells[k]) for mark in cell.marks]
    return min(max([8, *marks, *map(len, _head(ledger.columns[k]))]), 22)


def _cell_lines(cell: Cell | None, width: int) -> list[str]:
    """Return a cell's text in lines: the count with the marks that fit, the others under it."""
    text = _text(cell)
    if len(text) <= width or cell is None:
        return [text]
    lines = [f"{cell.instructions:>3}"]
    for mark in cell.marks:
        if len(lines[-1]) + 1 + len(mark) <= width:
            lines[-1] += f" {mark}"
        else:
            lines.append(f"  {mark}")
    return lines


def _head(build: str) -> list[str]:
    return [cut(half, 22) for half in halves(build)]


def _text(cell: Cell | None) -> str:
    if cell is None:
        return f"{'?':>3}"
    if not cell.instructions:
        return f"{'-':>3}"
    return " ".join([f"{cell.instructions:>3}", *cell.marks])


def _page(report: Report, ledger: Ledger, page: Sequence[int], widths: Sequence[int]) -> None:
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
            report.add(Span(tail(file, report.width) or "(no source file)", DIM))
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
    cells = [_cell_lines(row.cells[k], w) for k, w in zip(page, widths, strict=True)]
    for line in range(max(map(len, cells))):
        if line:
            spans = [Span(" " * (_NUMBER + room))]
        for k, width, lines in zip(page, widths, cells, strict=True):
            own = lines[line] if line < len(lines) else ""
            changed = row.differs and _text(row.cells[k]) != common
            style = CHANGE if changed else PLAIN if row.differs else DIM
            spans += [Span(" " * _GAP), Span(f"{cut(own, width):<{width}}", style)]
        report.add(*spans)


def _commonest(row: LedgerRow) -> str:
    """Return the cell that most builds have."""
    texts = [_text(cell) for cell in row.cells if cell]
    return max(dict.fromkeys(texts), key=texts.count, default="")
