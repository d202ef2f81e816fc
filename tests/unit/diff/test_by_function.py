"""Functions by change: the most changed first, what is the same left out."""

from typing import Any

from hot_anvil.core.code.places import Place
from hot_anvil.core.diff.by_function import by_function, shown_lines
from hot_anvil.core.diff.records import (
    CERTAIN,
    CHANGED,
    GONE,
    SAME,
    Diff,
    Explained,
    FunctionTotal,
    Part,
    Reason,
    Row,
    Spot,
    State,
)
from hot_anvil.core.results.code import SnippetDiff
from hot_anvil.views.text.changes import add_changes
from hot_anvil.views.text.report import Report


def row(line: int, *parts: tuple[str, State]) -> Row:
    spot = Spot("s.c", line, "")
    made = tuple(Part(name, name, (), 1, 1, state) for name, state in parts)
    return Row(spot, spot, made[0].state, made, Place("s.c", line))


def reason(function: str, kind: str, weight: int) -> Reason:
    return Reason(kind, "", CERTAIN, function, (), (), frozenset(), weight=weight)


EXPLAINED = Explained(
    Diff(
        (
            row(1, ("ebb", CHANGED)), row(2, ("ebb", GONE), ("flow", CHANGED)),
            row(3, ("calm", SAME)), row(4, ("surge", CHANGED)),
        ),
        (
            FunctionTotal("calm", "calm", 3, 3, True), FunctionTotal("flow", "flow", 9, 8),
            FunctionTotal("surge", "surge", 2, 40), FunctionTotal("ebb", "ebb", 5, None),
        ),
        {},
    ),
    (reason("ebb", "value kept in a register", 1), reason("ebb", "loop gone", 9)),
    0, 4,
)  # fmt: skip


def test_the_most_changed_comes_first_with_the_reason_that_tells_most() -> None:
    changed = by_function(EXPLAINED)
    assert [one.title for one in changed] == ["ebb", "surge", "flow"]
    assert changed[0].states == ((CHANGED, 1), (GONE, 1)) and changed[0].differing == 2
    assert changed[0].reason and changed[0].reason.kind == "loop gone"
    assert changed[1].reason is None and (changed[0].left, changed[0].right) == (5, None)


def test_lines_that_are_the_same_take_no_room() -> None:
    assert shown_lines(EXPLAINED) == 3


def test_what_is_alike_line_by_line_alone_is_not_called_the_same() -> None:
    calm, *others = EXPLAINED.diff.functions
    still = FunctionTotal("still", "still", 4, 4)  # no line differs, its code stands otherwise
    diff = EXPLAINED.diff._replace(functions=(calm, still, *others))
    sides: tuple[Any, Any] = (None, None)
    report = Report(120)
    add_changes(report, SnippetDiff(sides[0], sides[1], EXPLAINED._replace(diff=diff)))
    assert "1 of 5 functions are the same; 1 of 5 are the same line by line" in report.text
