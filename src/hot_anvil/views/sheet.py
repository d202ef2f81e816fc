"""Text as styled pieces: views make sheets, only the writer knows the terminal."""

from collections.abc import Iterable, Sequence
from typing import NamedTuple

PLAIN, DIM, STRONG, CHANGE, TROUBLE = "plain", "dim", "strong", "change", "trouble"


class Span(NamedTuple):
    """A piece of text in one style."""

    text: str
    style: str = PLAIN


Cell = str | Span


class Sheet:
    """Lines of styled pieces, at most ``width`` columns wide where they can be cut."""

    def __init__(self, width: int = 100) -> None:
        self.width = width
        self.lines: list[tuple[Span, ...]] = []

    def add(self, *cells: Cell) -> None:
        """Add one line."""
        self.lines.append(tuple(span(cell) for cell in cells))

    def blank(self) -> None:
        """Add an empty line, unless one is there or the sheet is empty."""
        if self.lines and self.lines[-1]:
            self.lines.append(())

    def paragraph(self, text: str, style: str = PLAIN, indent: int = 0) -> None:
        """Add text wrapped to the width."""
        from textwrap import wrap

        for line in wrap(text, max(self.width - indent, 20), break_on_hyphens=False):
            self.add(" " * indent, Span(line, style))

    def table(
        self, heads: Sequence[str], rows: Iterable[Sequence[Cell]], align: str, indent: int = 2
    ) -> None:
        """Add a table without boxes; ``align`` has an "l" or "r" per column.

        The last column is wrapped into the room that is left.
        """
        body = [[span(cell) for cell in row] for row in rows]
        widths = [max((len(row[k].text) for row in body), default=0) for k in range(len(heads))]
        widths = [max(width, len(head)) for width, head in zip(widths, heads, strict=True)]
        last = len(heads) - 1
        before = indent + sum(widths[:last]) + 2 * last
        room = max(self.width - before, 16)
        if any(heads):
            self._row([Span(head, DIM) for head in heads], widths, align, indent)
        for row in body:
            pieces = [row[last].text]
            if align[last] == "l" and len(row[last].text) > room:
                from textwrap import wrap

                pieces = wrap(row[last].text, room, break_on_hyphens=False) or [""]
            self._row([*row[:last], Span(pieces[0], row[last].style)], widths, align, indent)
            for piece in pieces[1:]:
                self.add(" " * before, Span(piece, row[last].style))

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
        """The sheet without styles, one line per line, no blanks at line ends."""
        joined = ("".join(piece.text for piece in line).rstrip() for line in self.lines)
        return "".join(line + "\n" for line in joined)


def span(cell: Cell) -> Span:
    """Return the cell as a span; a plain text gets no style."""
    return cell if isinstance(cell, Span) else Span(cell)


def cut(text: str, width: int) -> str:
    """Return the text, cut with ".." when it is longer than ``width``."""
    return text if len(text) <= width else text[: max(width - 2, 0)] + ".."
