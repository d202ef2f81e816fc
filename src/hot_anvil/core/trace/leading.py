"""The steps of both sides that lead to where they go apart."""

from collections import deque

from hot_anvil.core.trace.moments import Moment
from hot_anvil.core.trace.parting import Agreement, Parting
from hot_anvil.core.trace.records import ShownCall, Stepped, summary_of
from hot_anvil.core.trace.selection import Shown
from hot_anvil.core.trace.turning import SideOf

_FEW = 8  # steps that are little to see
_BEFORE = 24  # steps of a side at the most, unless fewer are asked for


def leading_to(
    left: Stepped, right: Stepped, parting: Parting | Agreement, limit: int
) -> tuple[ShownCall, ShownCall]:
    """Return the steps of each side up to where they go apart, from the last that agrees on."""
    sides: tuple[SideOf | None, SideOf | None] = (None, None)
    if isinstance(parting, Parting):
        sides = parting.left, parting.right
    most = min(limit, _BEFORE)
    return _leading(left, sides[0], most), _leading(right, sides[1], most)


def _leading(stepped: Stepped, side: SideOf | None, most: int) -> ShownCall:
    walk = stepped.walk()
    kept: deque[Moment] = deque(maxlen=most)
    end = side.at if side and side.at else stepped.tape.count
    for moment in stepped.moments(walk) if side else ():
        if moment.step.number > end:
            break
        # What stands before the line that it ends on says how it came there, not what went wrong.
        kept.append(moment)
    own = _of_last_line(list(kept), side.last if side else 0)
    return ShownCall(stepped, summary_of(stepped), Shown(tuple(own), len(own)), walk)


def _of_last_line(moments: list[Moment], agreed: int) -> list[Moment]:
    """Return the steps of the last line; of a short one also some since the last that agrees."""
    if not moments:
        return []
    first = len(moments) - 1
    while first:
        before = moments[first - 1]
        few = len(moments) - first < _FEW and before.step.number > agreed
        if _line(before) != _line(moments[-1]) and not few:
            break
        first -= 1
    return moments[first:]


def _line(moment: Moment) -> tuple[str, int, int, tuple[int, ...]]:
    return moment.place.file, moment.place.line, moment.frame, moment.passes
