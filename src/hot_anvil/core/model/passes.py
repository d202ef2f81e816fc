"""Ways through one pass of a loop."""

from collections.abc import Callable, Mapping
from typing import NamedTuple

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.cycles import Loop, postorder

_END = 1 << 62  # no block: where a pass ends


class Pass(NamedTuple):
    """One pass of a loop, from its start back to its start; inner loops count nothing."""

    places: tuple[int, ...]  # instructions of the main path, in the order they are executed
    fewest: int  # instructions of the shortest path
    most: int


def pass_of(body: Body, number: int) -> Pass:
    """Return the main path of a loop's pass, and the lengths of the shortest and longest one.

    The main path takes what follows in the text at each branch, as compilers
    lay out the path they expect, unless that leaves the loop.
    """
    loop, outer, after = _ways(body, number)
    sizes = {block: len(_places(body, block)) for block in loop.blocks}
    lengths = _range(loop, outer, after, lambda block, _: (sizes[block], sizes[block]))
    path = _main_path(loop, outer, after)
    places = [k for block in path for k in _places(body, block) if outer[block] == block]
    if lengths is None:
        return Pass(tuple(places), len(places), len(places))
    return Pass(tuple(places), *lengths)


def _ways(body: Body, number: int) -> tuple[Loop, Mapping[int, int], Mapping[int, list[int]]]:
    """Return a loop, what stands for each of its blocks, and which blocks may follow each."""
    loop = body.loops[number]
    outer = _collapsed(body, loop)
    return loop, outer, {block: _goals(body, loop, block, outer) for block in loop.blocks}


def _collapsed(body: Body, loop: Loop) -> Mapping[int, int]:
    """Return for each block of a loop the block that stands for it: an inner loop's header."""
    out = {block: block for block in loop.blocks}
    for inner in body.loops:  # outer ones first, so that the outermost inner one stands
        if inner.blocks < loop.blocks and out[inner.header] == inner.header:
            inside = {out[block] for block in inner.blocks}
            if len(inside) == len(inner.blocks):
                out |= dict.fromkeys(inner.blocks, -1 - inner.header)
    return out


def _goals(body: Body, loop: Loop, block: int, outer: Mapping[int, int]) -> list[int]:
    """Return the blocks of a loop that may follow one, the next in the text first."""
    following = [g for g in body.next_blocks[block] if g in loop.blocks]
    following.sort(key=lambda goal: goal != block + 1)
    return [g for g in following if outer[g] >= 0 or outer[g] != outer[block]]


def _main_path(loop: Loop, outer: Mapping[int, int], after: Mapping[int, list[int]]) -> list[int]:
    path: list[int] = []
    seen: set[int] = set()
    at = loop.header
    while True:
        seen.add(outer[at])
        path.append(at)
        if outer[at] < 0:  # an inner loop: on from where it is left
            members = [block for block in sorted(loop.blocks) if outer[block] == outer[at]]
            goals = [g for block in reversed(members) for g in after[block]]
        else:
            goals = after[at]
        onward = [g for g in goals if outer[g] not in seen]
        if not onward:
            return path
        at = onward[0]


# (block, block that follows in the pass) -> the least and the most that the first one counts
Weigh = Callable[[int, int], tuple[int, int]]


def range_of_pass(body: Body, number: int, weigh: Weigh) -> tuple[int, int] | None:
    """Return the least and the most of a loop's pass over its paths, None if that cannot be told.

    Inner loops count nothing.
    """
    loop, outer, after = _ways(body, number)
    return _range(loop, outer, after, weigh)


def _range(
    loop: Loop, outer: Mapping[int, int], after: Mapping[int, list[int]], weigh: Weigh
) -> tuple[int, int] | None:
    nodes: dict[int, set[int]] = {}
    ways: dict[int, list[tuple[int, tuple[int, int]]]] = {}  # node -> (the next, what it counts)
    for block, goals in after.items():
        own = nodes.setdefault(outer[block], set())
        for goal in goals:
            end = goal == loop.header
            cost = weigh(block, goal) if outer[block] == block else (0, 0)
            ways.setdefault(outer[block], []).append((_END if end else outer[goal], cost))
            if not end:
                own.add(outer[goal])
    best: dict[int, tuple[int, int] | None] = {_END: (0, 0)}
    for node in postorder(outer[loop.header], nodes.__getitem__):
        if any(n not in best for n in nodes[node]):
            return None  # a way back that is no loop of its own
        known = [
            (then[0] + low, then[1] + high)
            for goal, (low, high) in ways.get(node, ())
            if (then := best[goal])
        ]
        best[node] = (min(k[0] for k in known), max(k[1] for k in known)) if known else None
    return best[outer[loop.header]]


def _places(body: Body, block: int) -> range:
    return range(body.bounds[block], body.bounds[block + 1])


def test_of(body: Body, loop: Loop) -> tuple[str, tuple[int, ...]]:
    """Return where a loop is left, in words, and the branches that leave it."""
    leaving = []
    turning = False
    for block in sorted(loop.blocks):
        if all(goal in loop.blocks for goal in body.next_blocks[block]):
            continue
        last = _places(body, block)[-1]
        leaving.append(last)
        turning = turning or 0 <= body.goals[last] <= last or block in loop.latches
    if not leaving:
        ends = [k for block in loop.latches for k in _places(body, block)[-1:]]
        return "nowhere", tuple(ends)
    header = _places(body, loop.header)[-1]
    where = "at its end" if turning else "at its start" if header in leaving else "in the middle"
    more = len([k for k in leaving if body.effects[k].kind == b.BRANCH])
    return (f"{where}, {more} ways out" if more > 1 else where), tuple(leaving)
