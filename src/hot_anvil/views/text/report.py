"""Text as styled pieces: views make sheets, only the writer knows the terminal."""

import re
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


class Line(NamedTuple):
    """Pieces of one line that a view lays out by itself."""

    pieces: tuple[Span, ...]

    @property
    def is_title(self) -> bool:
        """Whether it is the title of what follows, and not one of many lines laid out."""
        first = self.pieces[0] if self.pieces else Span("")
        return first.style == STRONG and first.text[:1].strip() != ""


class Paragraph(NamedTuple):
    """Text that is wrapped where it is shown."""

    text: str
    style: Style
    indent: int


class Table(NamedTuple):
    """A table whole, whatever of it fits a terminal."""

    heads: tuple[str, ...]
    rows: tuple[tuple[Span, ...], ...]
    align: str  # "l" or "r" for each column


Block = Line | Paragraph | Table


INSIDE = 4  # columns of indent from which a paragraph belongs to the lines before it
_NOTE = 24  # columns that notes at the end of a row can do with, or they go under it
_SHORT = 16  # columns of a last cell that stays in its row


class Report:
    """What a command answers: blocks for any form, and lines for a terminal.

    The lines are at most ``width`` columns wide where they can be cut.
    """

    def __init__(self, width: int = 100) -> None:
        self.width = width
        self.blocks: list[Block] = []
        self._lines: list[tuple[Span, ...]] = []
        self._left_out: dict[str, None] = {}  # heads of columns, since it was last said

    def add(self, *cells: Cell) -> None:
        """Add one line."""
        pieces = tuple([_safe(span(cell)) for cell in cells])
        self.blocks.append(Line(pieces))
        self._lines.append(pieces)

    def say(self, *cells: Cell) -> None:
        """Add words, wrapped with what they began with as their indent and a little more."""
        pieces = [_safe(span(cell)) for cell in cells]
        self.blocks.append(Line(tuple(pieces)))
        whole = "".join(piece.text for piece in pieces)
        hanging = " " * (len(whole) - len(whole.lstrip()) + 4)
        line: list[Span] = []
        taken = 0
        for piece in pieces:
            for word in re.findall(r"\s+|\S+", piece.text):
                if taken + len(word.rstrip()) > self.width and taken > len(hanging):
                    self._lines.append(tuple(line))
                    line, taken = [Span(hanging)], len(hanging)
                    word = word.lstrip()
                line.append(Span(word, piece.style))
                taken += len(word)
        self._lines.append(tuple(line))

    def blank(self) -> None:
        """Add an empty line, unless one is there or the report is empty."""
        self.tell_left_out()
        if self._lines and self._lines[-1]:
            self.blocks.append(Line(()))
            self._lines.append(())

    def paragraph(self, text: str, style: Style = PLAIN, indent: int = 0) -> None:
        """Add text wrapped to the width."""
        self.blocks.append(Paragraph(visible(text), style, indent))
        self._wrapped(text, style, indent)

    def table(
        self,
        heads: Sequence[str],
        rows: Iterable[Sequence[Cell]],
        align: str,
        indent: int = 2,
        spare: Sequence[int] = (),
        below: Sequence[int] = (),
        filled: bool = False,
        name: int = 0,
    ) -> list[str]:
        """Add a table without boxes; ``align`` has an "l" or "r" per column.

        Returns the heads of the columns that are in it.

        The last column, if left-aligned, is wrapped into the room that is left, or goes under its
        row where that is little. Where the table would be too wide, ``spare`` columns are left
        out, in that order, which is said at the latest before an empty line; then columns
        ``below`` go on in tables below, beside column ``name``. With ``filled`` columns that
        nothing stands in are no part of it.
        """
        body = [[_safe(span(cell)) for cell in row] for row in rows]
        kept = [k for k in range(len(heads)) if not filled or any(row[k].text for row in body)]
        whole = [tuple(row[k] for k in kept) for row in body]
        signs = "".join(align[k] for k in kept)
        self.blocks.append(Table(tuple(heads[k] for k in kept), tuple(whole), signs))
        widths = [
            max([len(head), *(len(row[k].text) for row in body)]) for k, head in enumerate(heads)
        ]
        under = align[-1] == "l" and widths[-1] > _SHORT
        needed = [*widths[:-1], 0 if under else widths[-1]]
        moved: list[int] = []
        for column in (*spare, *below):
            if indent + sum(needed[k] + 2 for k in kept) - 2 <= self.width:
                break
            if column in kept:
                kept.remove(column)
                if column in below:
                    moved.append(column)
                else:
                    self._left_out[heads[column]] = None
        last = kept[-1:] if under else []
        for column in reversed(kept[1:]):  # whatever it holds, no table is wider than asked for
            if indent + sum(needed[k] + 2 for k in kept) - 2 <= self.width:
                break
            if column not in (name, *last):
                kept.remove(column)
                moved.append(column)
        moved = sorted(k for k in moved if any(row[k].text for row in body))
        parts = [kept, *self._packed(moved, widths, indent + widths[name], name)]
        for part in parts:
            self._part([heads[k] for k in part], [[row[k] for k in part] for row in body],
                       "".join(align[k] for k in part), indent)  # fmt: skip
        return [heads[k] for k in dict.fromkeys(k for part in parts for k in part)]

    def _packed(
        self, columns: Sequence[int], widths: Sequence[int], taken: int, name: int
    ) -> list[list[int]]:
        """Return columns in groups that fit the width beside column ``name``."""
        groups: list[list[int]] = []
        used = self.width + 1
        for column in columns:
            if used + 2 + widths[column] > self.width:
                groups.append([name])
                used = taken
            groups[-1].append(column)
            used += 2 + widths[column]
        return groups

    def take(self, other: "Report") -> None:
        """Add all that another report holds, as it is laid out there."""
        self.tell_left_out()
        self._lines += other.lines
        self.blocks += other.blocks

    def tell_left_out(self, indent: int = 2) -> None:
        """Say which columns of the tables since the last time the width left no room for."""
        if self._left_out:
            self._wrapped(f"left out, for the width: {', '.join(self._left_out)}", DIM, indent)
        self._left_out.clear()

    def _wrapped(self, text: str, style: Style, indent: int) -> None:
        if indent + len(text) <= self.width:
            self._line(" " * indent, Span(text, style))
            return
        from textwrap import wrap

        for line in wrap(text, max(self.width - indent, 20), break_on_hyphens=False):
            self._line(" " * indent, Span(line, style))

    def _line(self, *cells: Cell) -> None:
        self._lines.append(tuple([_safe(span(cell)) for cell in cells]))

    def _part(
        self, heads: Sequence[str], body: Sequence[Sequence[Span]], align: str, indent: int
    ) -> None:
        widths = [
            max([len(head), *(len(row[k].text) for row in body)]) for k, head in enumerate(heads)
        ]
        if any(heads):
            room = self.width - indent - sum(widths[:-1]) - 2 * (len(widths) - 1)
            last = heads[-1] if len(heads[-1]) <= room else ""
            self._row([Span(head, DIM) for head in (*heads[:-1], last)], widths, align, indent)
        for row in body:
            self._wrapped_row(row, widths, align, indent)

    def _wrapped_row(
        self, row: Sequence[Span], widths: Sequence[int], align: str, indent: int
    ) -> None:
        last = row[-1]
        before = indent + sum(widths[:-1]) + 2 * (len(widths) - 1)
        room = max(self.width - before, 0)
        pieces = [last.text]
        if align[-1] == "l" and len(last.text) > room:
            from textwrap import wrap

            if room < _NOTE:
                self._row([*row[:-1], Span("")], widths, align, indent)
                self._wrapped(last.text, last.style, indent + 4)
                return
            pieces = wrap(last.text, room, break_on_hyphens=False) or [""]
        self._row([*row[:-1], Span(pieces[0], last.style)], widths, align, indent)
        for piece in pieces[1:]:
            self._line(" " * before, Span(piece, last.style))

    def _row(self, cells: Sequence[Span], widths: Sequence[int], align: str, indent: int) -> None:
        out = [Span(" " * indent)]
        for k, (cell, width) in enumerate(zip(cells, widths, strict=True)):
            gap = " " * (width - len(cell.text))
            between = "  " if k < len(cells) - 1 else ""
            if align[k] == "r":
                out += [Span(gap), cell, Span(between)]
            else:
                out += [cell, Span((gap if between else "") + between)]
        self._lines.append(tuple(out))

    @property
    def lines(self) -> list[tuple[Span, ...]]:
        """The report as a terminal shows it."""
        self.tell_left_out()
        return self._lines

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


def tail(text: str, width: int) -> str:
    """Return the text, with ".." for its start when it is longer than ``width``."""
    return text if len(text) <= width else ".." + text[len(text) - width + 2 :]


def cut(text: str, width: int) -> str:
    """Return the text, cut with ".." when it is longer than ``width``."""
    return text if len(text) <= width else text[: max(width - 2, 0)] + ".."
