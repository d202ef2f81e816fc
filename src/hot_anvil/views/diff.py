"""Two builds by source line as text."""

from collections.abc import Iterator, Sequence
from itertools import zip_longest

from hot_anvil.core.align import CHANGED, GONE, NEW, RENAMED, SAME, Pair
from hot_anvil.core.code import Instruction
from hot_anvil.core.diff import Diff, Part, Row
from hot_anvil.core.proof import PROVED
from hot_anvil.core.shown import SnippetDiff
from hot_anvil.views.sheet import CHANGE, DIM, PLAIN, STRONG, TROUBLE, Cell, Sheet, Span, cut
from hot_anvil.views.words import joined

# Between the columns of a pair; also how the legend explains them.
_MARKS = {SAME: "=", RENAMED: "~", CHANGED: "*"}
_LEGEND = "= same   ~ other registers or labels   * other operands   < only left   > only right"
_INDENT = 8


def diff_sheet(diffs: Sequence[SnippetDiff], width: int, everything: bool) -> Sheet:
    """Return totals, then each source line with both sides' instructions under it.

    Lines that are the same show their count only, unless ``everything``.
    """
    sheet = Sheet(width)
    for item in diffs:
        sheet.blank()
        left, right = item.left.build, item.right.build
        sheet.add(Span(item.left.snippet.name, STRONG), f"  {left.name}  to  {right.name}")
        for built in (item.left, item.right):
            if built.proof.state != PROVED:
                why = f"caution: {built.build.name} is not proved to be what runs: "
                sheet.paragraph(why + built.proof.why, TROUBLE)
        if item.isa != item.right_isa:
            text = f"{item.isa} against {item.right_isa}: only lines and counts can be compared"
            sheet.paragraph(text, DIM)
        _totals(sheet, item.diff, left.name, right.name)
        _rows(sheet, item.diff, left.name, right.name, everything)
    if diffs:
        sheet.blank()
        sheet.paragraph(_LEGEND, DIM)
    return sheet


def _totals(sheet: Sheet, diff: Diff, left: str, right: str) -> None:
    rows: list[list[Cell]] = []
    for total in diff.functions:
        counts = (total.left, total.right)
        title = cut(total.title, sheet.width - 66)
        rows.append([title, *map(_count, counts), _change(*counts)])
    if len(rows) > 1:
        both = (diff.left_count, diff.right_count)
        rows.append([Span("all", STRONG), str(both[0]), str(both[1]), _change(*both)])
    sheet.table(("instructions of", cut(left, 24), cut(right, 24), ""), rows, "lrrl")
    states = [f"{count} {state}" for state, count in diff.states.items() if count]
    sheet.add("  ", Span(f"source lines: {joined(states) or 'none'}", DIM))


def _count(count: int | None) -> str:
    return "none" if count is None else str(count)


def _change(left: int | None, right: int | None) -> Span:
    if left is None or right is None:
        return Span("only right" if left is None else "only left", CHANGE)
    return Span(f"{right - left:+d}" if left != right else "", CHANGE)


def _rows(sheet: Sheet, diff: Diff, left: str, right: str, everything: bool) -> None:
    column = (sheet.width - _INDENT - 4) // 2
    file = None
    for row in diff.rows:
        if row.file != file:
            file = row.file
            sheet.blank()
            heads = f"{cut(left, column):<{column}}    {cut(right, column)}"
            sheet.add(Span(file or "(no source file)", STRONG))
            sheet.add(" " * _INDENT, Span(heads, DIM))
        _row(sheet, row)
        if row.state == SAME and not everything:
            continue
        for part in row.parts:
            if len(row.parts) > 1:
                sheet.add(" " * _INDENT, Span(cut(f"in {part.title}", sheet.width - _INDENT), DIM))
            _part(sheet, part, column)


def _row(sheet: Sheet, row: Row) -> None:
    number = f"{row.line:>6}  " if row.line else " " * _INDENT
    counts = f"{row.left_count:>4} to {row.right_count:<4}"
    room = sheet.width - len(number) - 22
    text = cut(row.text.replace("\t", "    "), room)
    style = DIM if row.state == SAME else CHANGE
    sheet.add(
        Span(number, DIM),
        Span(f"{text:<{room}}", PLAIN if row.state == SAME else STRONG),
        "  ",
        Span(f"{row.state:<9}", style),
        Span(counts, style),
    )


def _part(sheet: Sheet, part: Part, column: int) -> None:
    for left, mark, right in _side_by_side(part.pairs):
        style = DIM if mark == "=" else PLAIN
        sheet.add(
            " " * _INDENT,
            Span(f"{cut(_text(left), column):<{column}}", style),
            Span(f" {mark:<2} ", DIM if mark == "=" else CHANGE),
            Span(cut(_text(right), column), style),
        )


def _side_by_side(
    pairs: Sequence[Pair],
) -> Iterator[tuple[Instruction | None, str, Instruction | None]]:
    """Give the lines of a part; what stands only left and only right shares lines."""
    left: list[Instruction | None] = []
    right: list[Instruction | None] = []

    def alone() -> Iterator[tuple[Instruction | None, str, Instruction | None]]:
        for a, b in zip_longest(left, right):
            yield a, "<>" if a and b else "<" if a else ">", b
        left.clear()
        right.clear()

    for pair in pairs:
        if pair.state == GONE:
            left.append(pair.left)
        elif pair.state == NEW:
            right.append(pair.right)
        else:
            yield from alone()
            yield pair.left, _MARKS[pair.state], pair.right
    yield from alone()


def _text(item: Instruction | None) -> str:
    if item is None:
        return ""
    mnemonic, _, operands = item.text.partition(" ")
    return f"{mnemonic:<8} {operands}".rstrip()
