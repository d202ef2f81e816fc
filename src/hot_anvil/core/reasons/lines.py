"""What differs on a line that no larger reason explains."""

from collections.abc import Callable, Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.diff.pairing import Paired
from hot_anvil.core.diff.records import CERTAIN, CHANGED, GONE, LIKELY, NEW, Confidence, Reason
from hot_anvil.core.evaluate.states import STATES
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.reasons.alike import Counted
from hot_anvil.core.reasons.context import View
from hot_anvil.core.reasons.differences import OPERATION, difference, operations_differ
from hot_anvil.core.reasons.plain import ALIKE, LAYOUT, WRITTEN

_MOST = 150  # instructions of a function whose code is run to compare builds of one source


def line_reasons(view: View, line: Paired) -> Iterator[Reason]:
    """Say what differs on a line that nothing else explains."""
    if line.state not in (CHANGED, GONE, NEW):
        return
    left, right = view.left, view.right
    differing = [pair for pair in line.pairs if pair.state in (CHANGED, GONE, NEW)]
    mine = [pair.place[0] for pair in differing if pair.place[0] >= 0]
    theirs = [pair.place[1] for pair in differing if pair.place[1] >= 0]

    def is_all(test: Callable[[FunctionModel, int], bool]) -> bool:
        return all(test(left, i) for i in mine) and all(test(right, j) for j in theirs)

    one_source = view.context.one_source
    here, there = left.at.get(line.place, ()), right.at.get(line.place, ())
    counted = Counted(left, right, here, there) if one_source else None
    rest = counted.served() if counted else ""
    if one_source and is_all(_is_way):
        yield view.reason(LAYOUT, (_WAYS, _WAYS), mine, theirs, {line.place})
    elif rest and all(line.counts):
        text = f"as many of the same operations: what differs is {rest}"
        yield view.reason(ALIKE, (text, text), mine, theirs, {line.place})
    elif rest:
        text = f"nothing stands here, on one side only, but {rest}"
        yield view.reason(LAYOUT, (text, text), mine, theirs, {line.place})
    elif counted and (told := _copied(counted)):
        text, sure = told
        yield view.reason(LAYOUT, (text, text), mine, theirs, {line.place}, sure)
    elif _may_be_same(view, here, there) and view.same(mine, theirs):
        yield view.reason(WRITTEN, (_SAME, _SAME), mine, theirs, {line.place})
    elif not one_source:
        yield from _by_pair(view, line)


def _copied(counted: Counted) -> tuple[str, Confidence] | None:
    """Say how many times over one side has the line's operations of the other."""
    forth, back = counted.repeated(in_right=True), counted.repeated(in_right=False)
    count, apart = forth if forth[0] else back
    if not count:
        return None
    ways = "each on a way of its own" if apart else "as operations are counted"
    now, before = (count, 1) if forth[0] else (1, count)
    return f"its code stands {_times(now)} instead of {_times(before)}, {ways}", (
        CERTAIN if apart else LIKELY
    )


def _times(count: int) -> str:
    return {1: "once", 2: "twice"}.get(count, f"{count} times")


def _may_be_same(view: View, here: Sequence[int], there: Sequence[int]) -> bool:
    """Tell whether it is worth running a line's code: what it stores and calls is as much."""
    if not view.context.one_source:
        return True
    left, right = view.left, view.right
    if max(len(left), len(right)) > _MOST:
        return False  # in large functions it takes long, and finds little beyond what is counted
    return len(left.stores(here)) == len(right.stores(there)) and len(
        left.of((b.CALL,), here)
    ) == len(right.of((b.CALL,), there))


def _by_pair(view: View, line: Paired) -> Iterator[Reason]:
    """Say how the instructions of a line differ that stand for each other after an edit."""
    found: dict[tuple[str, str], tuple[list[int], list[int]]] = {}
    for pair in line.pairs:
        told = difference(view.left, view.right, *pair.place) if pair.state == CHANGED else None
        if told and told[0] != OPERATION:
            mine, theirs = found.setdefault(told, ([], []))
            mine.append(pair.place[0])
            theirs.append(pair.place[1])
    for (kind, text), (mine, theirs) in found.items():
        yield view.reason(kind, (text, text), mine, theirs, {line.place}, LIKELY)
    differing = [pair.place for pair in line.pairs if pair.state in (CHANGED, GONE, NEW)]
    said = operations_differ(
        view.left, view.right,
        [i for i, _ in differing if i >= 0], [j for _, j in differing if j >= 0],
    )  # fmt: skip
    if said:
        text, mine, theirs = said
        yield view.reason(OPERATION, (text, text), mine, theirs, {line.place}, LIKELY)


_SAME = f"its run of code computes the same, written otherwise: no difference in {STATES} states"
_WAYS = "only jumps and ways out differ: the code stands in another order"


def _is_way(side: FunctionModel, k: int) -> bool:
    done = side.effects[k]
    return done.kind in (b.JUMP, b.RETURN, b.NOTHING) and not done.indirect and not done.condition
