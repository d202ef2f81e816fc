"""A comparison by source line as text: what matters first, then every line."""

from collections.abc import Callable, Iterator, Sequence
from itertools import zip_longest

from hot_anvil.core.code.records import Instruction
from hot_anvil.core.diff.by_function import shown_lines
from hot_anvil.core.diff.leading import leading
from hot_anvil.core.diff.records import (
    CHANGED,
    GONE,
    LIKELY,
    MOVED,
    NEW,
    REMARKED,
    RENAMED,
    SAME,
    Diff,
    Pair,
    Part,
    Row,
    Spot,
    lines_text,
)
from hot_anvil.core.proof.records import PROVED
from hot_anvil.core.results.code import SnippetDiff
from hot_anvil.views.text.changes import add_changes
from hot_anvil.views.text.report import (
    CHANGE,
    DIM,
    PLAIN,
    STRONG,
    TROUBLE,
    Cell,
    Report,
    Span,
    cut,
    tail,
)
from hot_anvil.views.text.words import joined, plural

# Between the columns of a pair; also how the legend explains them.
_MARKS = {SAME: "=", RENAMED: "~", CHANGED: "*"}
_LEGEND = (
    "= same  ~ other registers or labels  * changed  <> only on one side  "
    "m moved: from or to a line"
)
_INDENT = 8
SCREENFULS = 400  # lines, some screenfuls, beyond which nobody reads a comparison from its top
FEW = 3  # functions that are never too many
_LEADING = 5  # lines of the summary
_COLUMN = 56  # columns that one side's instructions fill at most


def diff_report(
    diffs: Sequence[SnippetDiff],
    width: int,
    everything: bool,
    context: int = 3,
    large: bool = False,
) -> Report:
    """Return what matters, totals, then each source line with its instructions and reasons.

    With ``large``, where lines would fill more than SCREENFULS, functions by change take the place
    of the lines. Lines that are the same show their count only, and are left out where they
    are more than ``context`` lines away from a difference, unless ``everything``.
    """
    report = Report(width)
    by_line = False
    for item in diffs:
        report.blank()
        _heading(report, item)
        _summary(report, item)
        if large and len(item.diff.functions) > FEW and shown_lines(item.explained) > SCREENFULS:
            add_changes(report, item)
            continue
        _totals(report, item.diff, *item.names)
        _rows(report, item, everything, context)
        by_line = True
    if by_line:
        add_legend(report)
    return report


def add_legend(report: Report) -> None:
    """Say what the signs between the sides mean."""
    report.blank()
    report.paragraph(_LEGEND, DIM)


def _heading(report: Report, item: SnippetDiff) -> None:
    report.add(Span(item.left.snippet.name, STRONG), f"  {item.names[0]}  to  {item.names[1]}")
    for built in (item.left, item.right)[: 1 + (item.left.build != item.right.build)]:
        if built.proof.state != PROVED:
            why = f"caution: {built.build.name} is not proved to be what runs: "
            report.paragraph(why + built.proof.why, TROUBLE)
    if item.isa != item.right_isa:
        text = f"{item.isa} against {item.right_isa}: only lines and counts can be compared"
        report.paragraph(text, DIM)


def _summary(report: Report, item: SnippetDiff) -> None:
    """Add the most telling reasons, then how much is left without one."""
    explained = item.explained
    diff = item.diff
    states = [f"{count} {state}" for state, count in diff.states.items() if count]
    change = f"{diff.left_count} to {diff.right_count} instructions"
    report.paragraph(f"{change}; source lines: {joined(states) or 'none'}", PLAIN, 2)
    lead = leading(explained.reasons, _LEADING)
    titles = {total.name: total.title for total in diff.functions}
    several = len({reason.function for reason in lead}) > 1
    rows: list[list[Cell]] = []
    for reason in lead:
        where = lines_text(reason.places)
        if several:
            where = f"{cut(titles.get(reason.function, reason.function), 22)} {where}"
        said = reason.text + (" (likely)" if reason.confidence == LIKELY else "")
        rows.append([Span(where, DIM), Span(reason.kind, CHANGE), said])
    if rows:
        report.table(("", "", ""), rows, "lll")
    if explained.wanting:
        report.add("  ", Span(_explained_words(explained.wanting, explained.unexplained), DIM))


def _explained_words(wanting: int, unexplained: int) -> str:
    if wanting == 1:
        return f"the line that differs is {'not ' if unexplained else ''}explained"
    if not unexplained:
        return f"all {wanting} lines that differ are explained"
    verb = "is" if unexplained == 1 else "are"
    return f"{unexplained} of {wanting} lines that differ {verb} not explained"


def _totals(report: Report, diff: Diff, left: str, right: str) -> None:
    if len(diff.functions) < 2:
        return
    report.blank()
    if diff.identical:
        names = joined([cut(title, 40) for title in diff.identical[:6]])
        more = f" and {len(diff.identical) - 6} more" if len(diff.identical) > 6 else ""
        text = f"{plural(len(diff.identical), 'function')} identical: {names}{more}"
        report.paragraph(text, DIM, 2)
    rows: list[list[Cell]] = []
    same = 0
    for total in diff.functions:
        counts = (total.left, total.right)
        if counts[0] == counts[1]:
            same += 1
            continue
        title = cut(total.title, report.width - 66)
        rows.append([title, *map(_count, counts), _change(*counts)])
    report.table(("instructions of", cut(left, 24), cut(right, 24), ""), rows, "lrrl")
    if same:
        report.add("  ", Span(f"{plural(same, 'function')} with as many on both sides", DIM))


def _count(count: int | None) -> str:
    return "none" if count is None else str(count)


def _change(left: int | None, right: int | None) -> Span:
    if left is None or right is None:
        return Span("only right" if left is None else "only left", CHANGE)
    return Span(f"{right - left:+d}" if left != right else "", CHANGE)


def _rows(report: Report, item: SnippetDiff, everything: bool, context: int) -> None:
    told: dict[int, int] = {}  # reason -> line under which it was told
    add_rows(
        report, item.diff.rows, item.names, everything, context,
        lambda row: _reasons(report, item, row, told),
    )  # fmt: skip


def add_rows(
    report: Report,
    rows: Sequence[Row],
    names: Sequence[str],
    everything: bool,
    context: int,
    tell: Callable[[Row], None] = lambda _row: None,
) -> None:
    """Add source lines with both sides' code; ``tell`` says more below a line's head."""
    column = min((report.width - _INDENT - 4) // 2, _COLUMN)
    shown = _near_differences(rows, context) if not everything else [True] * len(rows)
    file = None
    hidden = 0
    for row, wanted in zip(rows, shown, strict=True):
        if not wanted:
            hidden += 1
            continue
        hidden = _skipped(report, hidden)
        if row.file != file:
            file = row.file
            report.blank()
            heads = f"{cut(names[0], column):<{column}}    {cut(names[1], column)}"
            report.add(Span(tail(file, report.width) or "(no source file)", STRONG))
            report.add(" " * _INDENT, Span(heads, DIM))
        _row(report, row)
        tell(row)
        if row.state == SAME and not everything:
            continue
        for part in row.parts:
            if len(row.parts) > 1:
                report.add(
                    " " * _INDENT, Span(cut(f"in {part.title}", report.width - _INDENT), DIM)
                )
            _part(report, part, column)
    _skipped(report, hidden)


def _near_differences(rows: Sequence[Row], context: int) -> list[bool]:
    """Tell for each row whether it differs or stands close to one that does."""
    differs = [k for k, row in enumerate(rows) if row.state != SAME]
    out = [False] * len(rows)
    for k in differs:
        for j in range(max(k - context, 0), min(k + context + 1, len(rows))):
            out[j] = True
    return out


def _skipped(report: Report, count: int) -> int:
    if count:
        report.add(" " * _INDENT, Span(f".. {plural(count, 'line')} the same", DIM))
    return 0


def _row(report: Report, row: Row) -> None:
    number = f"{row.line:>6}  " if row.line else " " * _INDENT
    counts = f"{row.left_count:>4} to {row.right_count:<4}"
    room = min(report.width, _INDENT + 2 * _COLUMN + 4) - len(number) - 22
    text = cut(row.text.replace("\t", "    "), room)
    style = DIM if row.state == SAME else CHANGE
    report.add(
        Span(number, DIM),
        Span(f"{text:<{room}}", PLAIN if row.state == SAME else STRONG),
        "  ",
        Span(f"{row.state:<9}", style),
        Span(counts, style),
    )
    other = _other_side(row)
    if other:
        report.add(" " * _INDENT, Span(cut(other, report.width - _INDENT), DIM))


def _other_side(row: Row) -> str:
    """Return what is to be said of the left side's source line where it is another."""
    left, right = row.left, row.right
    if left is None or right is None:
        return "" if left == right else "(only on the left)" if left else "(only on the right)"
    if left.line <= 0 or left == right:
        return ""
    if left.text.strip() == right.text.strip():
        return "" if left.line == right.line else f"left: line {left.line}"
    return f"left: {_numbered(left)}"


def _numbered(spot: Spot) -> str:
    return f"{spot.line}  {spot.text.strip()}"


def _reasons(report: Report, item: SnippetDiff, row: Row, told: dict[int, int]) -> None:
    """Say why a line differs; a reason in full where it first comes up."""
    repeated = []
    for k in row.reasons:
        reason = item.explained.reasons[k]
        if k in told:
            repeated.append(f"{reason.kind}, as {f'line {told[k]}' if told[k] else 'above'}")
            continue
        told[k] = row.line
        text = f"why: {reason.text}" + (" (likely)" if reason.confidence == LIKELY else "")
        report.paragraph(text, CHANGE, _INDENT)
        if reason.confidence != REMARKED:
            for remark in reason.remarks[:2]:
                report.paragraph(f"the compiler, {remark}", DIM, _INDENT + 5)
        if reason.against:
            report.paragraph(f"but {reason.against}", TROUBLE, _INDENT + 5)
    if repeated:
        report.paragraph(f"why: {'; '.join(repeated)}", DIM, _INDENT)
    if row.wants_reason and not row.reasons:
        report.add(" " * _INDENT, Span("not explained", TROUBLE))


def _part(report: Report, part: Part, column: int) -> None:
    places = (-1, -1)
    for pair, left, mark, right in _side_by_side(part.pairs):
        if _apart(places, pair):
            report.add(" " * _INDENT, Span("..", DIM))
        places = _later(places, pair)
        style = DIM if mark == "=" else PLAIN
        note = f"  line {pair.other[1]}" if pair.state == MOVED and pair.other[1] else ""
        report.add(
            " " * _INDENT,
            Span(f"{cut(_text(left), column):<{column}}", style),
            Span(f" {mark:<2} ", DIM if mark == "=" else CHANGE),
            Span(cut(_text(right) + note, column), style),
        )
        words = [item.words if item else "" for item in (left, right)]
        if any(words):
            said = [f"  {cut(text, column - 2)}" if text else "" for text in words]
            report.add(" " * _INDENT, Span(f"{said[0]:<{column}}    {said[1]}".rstrip(), DIM))


def _apart(before: tuple[int, int], pair: Pair) -> bool:
    """Tell whether other lines' code stands between an instruction and the one shown before."""
    was_left, was_right = before
    left, right = pair.place
    known_left, known_right = was_left >= 0 <= left, was_right >= 0 <= right
    return (
        (known_left or known_right)
        and (not known_left or left - was_left > 1)
        and (not known_right or right - was_right > 1)
    )


def _later(before: tuple[int, int], pair: Pair) -> tuple[int, int]:
    i, j = pair.place
    return (i if i >= 0 else before[0], j if j >= 0 else before[1])


_Shown = tuple[Pair, Instruction | None, str, Instruction | None]


def _side_by_side(pairs: Sequence[Pair]) -> Iterator[_Shown]:
    """Give the lines of a part; what stands only left and only right shares lines."""
    left: list[Pair] = []
    right: list[Pair] = []

    def alone() -> Iterator[_Shown]:
        for a, c in zip_longest(left, right):
            if a and c:
                both = a._replace(place=(a.place[0], c.place[1]))
                yield both, a.left, "<>", c.right
            elif a:
                yield a, a.left, "<", None
            else:
                yield c, None, ">", c.right
        left.clear()
        right.clear()

    for pair in pairs:
        if pair.state == GONE:
            left.append(pair)
        elif pair.state == NEW:
            right.append(pair)
        else:
            yield from alone()
            mark = _MARKS.get(pair.state) or ("<m" if pair.left else ">m")
            yield pair, pair.left, mark, pair.right
    yield from alone()


def _text(item: Instruction | None) -> str:
    if item is None:
        return ""
    if " " in item.mnemonic and not item.operands:
        return item.text  # a statement of a form, or an instruction without operands
    mnemonic, _, operands = item.text.partition(" ")
    return f"{mnemonic:<8} {operands}".rstrip()
