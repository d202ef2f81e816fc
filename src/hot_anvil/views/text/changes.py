"""A comparison too large to be read: functions by change."""

from hot_anvil.core.diff.by_function import FunctionChange, by_function
from hot_anvil.core.diff.records import LIKELY
from hot_anvil.core.results.code import SnippetDiff
from hot_anvil.views.text.report import CHANGE, DIM, Cell, Report, Span, cut
from hot_anvil.views.text.words import joined, plural

_MOST = 25  # functions; of more the rest is counted


def add_changes(report: Report, item: SnippetDiff) -> None:
    """Add the functions that change most, and how to see one of them, or all lines."""
    changed = by_function(item.explained)
    rows = [_row(one, report.width) for one in changed[:_MOST]]
    report.blank()
    report.table(("function", "left", "right", "", "lines", "first reason"), rows, "lrrlll")
    rest = len(changed) - len(rows)
    total, same = len(item.diff.functions), len(item.diff.identical)
    moved = total - same - len(changed)  # lines alike, their code in another order
    said = [
        f"{plural(rest, 'more function')} that change less" if rest > 0 else "",
        f"{same} of {total} functions are the same" if same else "",
        f"{moved} of {total} are the same line by line" if moved else "",
    ]
    if any(said):
        report.paragraph("; ".join(filter(None, said)), DIM, 2)
    report.paragraph(
        "too much to read by line: --entry NAME shows a function, --lines N-M lines, --state "
        "changed,gone some states; --all prints everything", DIM, 2,
    )  # fmt: skip


def _row(one: FunctionChange, width: int) -> list[Cell]:
    left, right = one.left, one.right
    gone = "only right" if left is None else "only left" if right is None else ""
    change = gone or (f"{(right or 0) - (left or 0):+d}" if left != right else "")
    reason = ""
    if one.reason:
        reason = one.reason.kind + (" (likely)" if one.reason.confidence == LIKELY else "")
    return [
        cut(one.title, max(width // 3, 24)),
        "none" if left is None else str(left),
        "none" if right is None else str(right),
        Span(change, CHANGE),
        joined([f"{count} {state}" for state, count in one.states]),
        Span(reason, CHANGE),
    ]
