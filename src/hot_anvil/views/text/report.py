"""Text as styled pieces: views make sheets, only the writer knows the terminal."""

from collections.abc import Iterable, Sequence
from typing import Literal, NamedTuple

from hot_anvil.core.names import visible

Style = Literal["plain", "dim", "strong", "change", "trouble"]
PLAIN: Style = "plain"
DIM: Style = "dim"
STRONG: Style = "strong"
CHANGE: Style = "change"
TROUBLE: Style = "trouble"


class Span(NamedTuple):
    """A piece of text in one style."""

    text: str
    style: Style = PLAIN


Cell = str | Span


_NOTE = 24  # columns that notes at the end of a row can do with, or they go under it
_SHORT = 16  # columns of a last cell that stays in its row


class Report:
    """Lines of styled pieces, at most ``width`` columns wide where they can be cut."""

    def __init__(self, width: int = 100) -> None:
        self.width = width
        self.lines: list[tuple[Span, ...]] = []

    def add(self, *cells: Cell) -> None:
        """Add one line."""
        self.lines.append(tuple([_safe(span(cell)) for cell in cells]))

    def blank(self) -> None:
        """Add an empty line, unless one is there or the report is empty."""
        if self.lines and self.lines[-1]:
            self.lines.append(())

    def paragraph(self, text: str, style: Style = PLAIN, indent: int = 0) -> None:
        """Add text wrapped to the width."""
        if indent + len(text) <= self.width:
            self.add(" " * indent, Span(text, style))
            return
        from textwrap import wrap

        for line in wrap(text, max(self.width - indent, 20), break_on_hyphens=False):
            self.add(" " * indent, Span(line, style))

    def table(
        self,
        heads: Sequence[str],
        rows: Iterable[Sequence[Cell]],
        align: str,
        indent: int = 2,
        spare: Sequence[int] = (),
        filled: bool = False,
    ) -> list[str]:
        """Add a table without boxes; ``align`` has an "l" or "r" per column.

        Returns the heads of the columns that are in it.

        The last column, if left-aligned, is wrapped into the room that is
        left, or goes under its row where that is little. ``spare`` columns are
        left out, in that order, where the table would be too wide; with
        ``filled`` so are columns that nothing stands in.
        """
        body = [[_safe(span(cell)) for cell in row] for row in rows]
        widths = [
            max([len(head), *(len(row[k].text) for row in body)]) for k, head in enumerate(heads)
        ]
        kept = [k for k in range(len(heads)) if not filled or any(row[k].text for row in body)]
        under = align[-1] == "l" and widths[-1] > _SHORT
        needed = [*widths[:-1], 0 if under else widths[-1]]
        for column in spare:
            if indent + sum(needed[k] + 2 for k in kept) - 2 <= self.width:
                break
            if column in kept:
                kept.remove(column)
        heads, widths = [heads[k] for k in kept], [widths[k] for k in kept]
        body = [[row[k] for k in kept] for row in body]
        align = "".join(align[k] for k in kept)
        if any(heads):
            self._row([Span(head, DIM) for head in heads], widths, align, indent)
        for row in body:
            self._wrapped_row(row, widths, align, indent)
        return list(heads)

    def _wrapped_row(
        self, row: Sequence[Span], widths: Sequence[int], align: str, indent: int
    ) -> None:
        last = row[-1]
        before = indent + sum(widths[:-1]) + 2 * (len(widths) - 1)
        room = max(self.width - before, _SHORT)
        pieces = [last.text]
        if align[-1] == "l" and len(last.text) > room:
            from textwrap import wrap

            if room < _NOTE:
                self._row([*row[:-1], Span("")], widths, align, indent)
                self.paragraph(last.text, last.style, indent + 4)
                return
            pieces = wrap(last.text, room, break_on_hyphens=False) or [""]
        self._row([*row[:-1], Span(pieces[0], last.style)], widths, align, indent)
        for piece in pieces[1:]:
            self.add(" " * before, Span(piece, last.style))

    def _row(self, cells: Sequence[Span], widths: Sequence[int], align: str, indent: int) -> None:
        out = [Span(" " * indent)]
        for k, (cell, width) in enumerate(zip(cells, widths, strict=True)):
            gap = " " * (width - len(cell.text))
            between = "  " if k < len(cells) - 1 else ""
            if align[k] == "r":
                out += [Span(gap), cell, Span(between)]
            else:
                out += [cell, Span((gap if between else "") + between)]
        self.lines.append(tuple(out))

    @property
    def text(self) -> str:
        """The report without styles, one line per line, no blanks at line ends."""
        joined = ("".join(piece.text for piece in line).rstrip() for line in self.lines)
        return "".join(line + "\n" for line in joined)


def span(cell: Cell) -> Span:
    """Return the cell as a span; a plain text gets no style."""
    return cell if isinstance(cell, Span) else Span(cell)


def _safe(piece: Span) -> Span:
    """Return a piece of which a terminal shows every character, and acts upon none."""
    return piece if piece.text.isprintable() else Span(visible(piece.text), piece.style)


def cut(text: str, width: int) -> str:
    """Return the text, cut with ".." when it is longer than ``width``."""
    return text if len(text) <= width else text[: max(width - 2, 0)] + ".."
