"""Reports of the text views as parts of a page: headings, paragraphs, tables, and lines as laid."""

from collections.abc import Sequence

from markupsafe import Markup, escape

from hot_anvil.views.text.report import (
    DIM,
    INSIDE,
    PLAIN,
    Line,
    Paragraph,
    Report,
    Span,
    Table,
)


def as_html(report: Report, name: str) -> Markup:
    """Return a report as HTML; ``name``, of its own on a page, tells who hears it what it is of."""
    out: list[Markup] = []
    lines: list[Markup] = []
    tables = 0
    for block in report.blocks:
        if isinstance(block, Line) and not block.is_title:
            lines.append(Markup("").join(map(_span, block.pieces)))
            continue
        if isinstance(block, Paragraph) and lines and block.indent >= INSIDE:
            lines.append(" " * block.indent + _span(Span(block.text, block.style)))
            continue
        _close(out, lines)
        if isinstance(block, Table):
            tables += 1
            out.append(_table(block, f"{name}, table {tables}"))
        elif isinstance(block, Paragraph):
            out.append(Markup('<p class="{}">{}</p>').format(block.style, block.text))
        else:
            first, *others = block.pieces
            rest = "".join(piece.text for piece in others)
            out.append(Markup('<p class="head"><b>{}</b>{}</p>').format(first.text, rest))
    _close(out, lines)
    return Markup("\n").join(out)


def _close(out: list[Markup], lines: list[Markup]) -> None:
    while lines and not lines[0].strip():
        lines.pop(0)
    while lines and not lines[-1].strip():
        lines.pop()
    if lines:
        out.append(Markup('<pre tabindex="0">{}</pre>').format(Markup("\n").join(lines)))
    lines.clear()


def _span(piece: Span) -> Markup:
    if piece.style == PLAIN:
        return escape(piece.text)
    return Markup('<span class="{}">{}</span>').format(piece.style, piece.text)


def _table(table: Table, name: str) -> Markup:
    sides = [Markup(' class="r"') if sign == "r" else Markup("") for sign in table.align]
    heads = Markup("")
    if any(table.heads):
        cells = (
            Markup("<th scope=col{}>{}</th>").format(side, head) if head else Markup("<td></td>")
            for side, head in zip(sides, table.heads, strict=True)
        )
        heads = Markup("<thead><tr>{}</tr></thead>").format(Markup("").join(cells))
    body = Markup("\n").join(_row(row, sides) for row in table.rows)
    frame = '<div class="wide" tabindex="0" role="region" aria-label="{}"><table>{}<tbody>{}'
    return Markup(frame + "</tbody></table></div>").format(name, heads, body)


def _row(row: Sequence[Span], sides: Sequence[Markup]) -> Markup:
    cells = (
        Markup("<td{}>{}</td>").format(
            side, escape(cell.text) if cell.style in (PLAIN, DIM) else _span(cell)
        )
        for side, cell in zip(sides, row, strict=True)
    )
    return Markup("<tr>{}</tr>").format(Markup("").join(cells))
