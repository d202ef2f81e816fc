"""Loops of a flow graph: natural ones, and cycles that are entered in more than one place."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import NamedTuple


class Loop(NamedTuple):
    """A natural loop (Aho, Lam, Sethi, Ullman 2006, section 9.6.6)."""

    header: int  # block
    blocks: frozenset[int]
    latches: tuple[int, ...]  # blocks that go back to the header
    depth: int  # 1 for an outermost one


def find_loops(after: Sequence[tuple[int, ...]]) -> tuple[Loop, ...]:
    """Return the loops of a flow graph whose block 0 is entered first."""
    order, before = _reverse_postorder(after)
    above = _dominators(order, before)
    latches: dict[int, list[int]] = {}
    for block in order:
        for goal in after[block]:
            if _dominates(goal, block, above):
                latches.setdefault(goal, []).append(block)
    found: dict[int, frozenset[int]] = {}
    for header, ends in latches.items():
        blocks = {header}
        todo = list(ends)
        while todo:
            block = todo.pop()
            if block not in blocks:
                blocks.add(block)
                todo += before.get(block, ())
        found[header] = frozenset(blocks)
    for header, inside in _entered_twice(after, order, list(found.values())):
        if header not in found:
            found[header] = inside
            latches[header] = [block for block in inside if header in after[block]]
    loops = [
        Loop(
            header, inside, tuple(latches[header]),
            sum(header in other for other in found.values()),
        )
        for header, inside in found.items()
    ]  # fmt: skip
    return tuple(sorted(loops, key=lambda loop: (loop.depth, loop.header)))


def _entered_twice(
    after: Sequence[tuple[int, ...]], order: Sequence[int], found: Sequence[frozenset[int]]
) -> list[tuple[int, frozenset[int]]]:
    """Return (first block, blocks) of cycles that have no one block which is always entered first.

    They are what is strongly connected, in the whole graph and inside the natural loops found, and
    is no natural loop itself.
    """
    number = {block: k for k, block in enumerate(order)}
    known = set(found)
    out = []
    for region in (frozenset(order), *found):
        header = min(region, key=number.__getitem__) if region in known else -1
        for part in _connected(after, region - {header}):
            if len(part) > 1 and part not in known:
                known.add(part)
                out.append((min(part, key=number.__getitem__), part))
    return out


def _connected(after: Sequence[tuple[int, ...]], region: frozenset[int]) -> list[frozenset[int]]:
    """Return the strongly connected parts of a region (Kosaraju's method)."""
    order: list[int] = []
    seen: set[int] = set()
    for start in sorted(region):
        if start not in seen:
            order += postorder(start, lambda n: [g for g in after[n] if g in region], seen)
    before: dict[int, list[int]] = {}
    for block in region:
        for goal in after[block]:
            before.setdefault(goal, []).append(block)
    out, done = [], set[int]()
    for start in reversed(order):
        if start in done:
            continue
        part, todo = {start}, [start]
        done.add(start)
        while todo:
            for earlier in before.get(todo.pop(), ()):
                if earlier in region and earlier not in done:
                    done.add(earlier)
                    part.add(earlier)
                    todo.append(earlier)
        out.append(frozenset(part))
    return out


def postorder(
    start: int, after: Callable[[int], Iterable[int]], seen: set[int] | None = None
) -> list[int]:
    """Return the nodes that a walk from ``start`` reaches, each behind what it leads to.

    ``seen``: nodes to leave out; those reached are added.
    """
    seen = set() if seen is None else seen
    seen.add(start)
    order: list[int] = []
    stack = [(start, iter(after(start)))]
    while stack:
        node, goals = stack[-1]
        goal = next((g for g in goals if g not in seen), None)
        if goal is None:
            order.append(node)
            stack.pop()
        else:
            seen.add(goal)
            stack.append((goal, iter(after(goal))))
    return order


def _reverse_postorder(
    after: Sequence[tuple[int, ...]],
) -> tuple[list[int], dict[int, list[int]]]:
    """Return the reachable blocks in reverse postorder, and what comes before each."""
    order = postorder(0, after.__getitem__)[::-1] if after else []
    before: dict[int, list[int]] = {}
    for block in order:
        for goal in after[block]:
            before.setdefault(goal, []).append(block)
    return order, before


def _dominators(order: Sequence[int], before: Mapping[int, Sequence[int]]) -> dict[int, int]:
    """Return each block's immediate dominator (Cooper, Harvey and Kennedy 2001)."""
    number = {block: k for k, block in enumerate(order)}
    above = {order[0]: order[0]} if order else {}
    changed = True
    while changed:
        changed = False
        for block in order[1:]:
            known = [p for p in before[block] if p in above]
            new = known[0]
            for other in known[1:]:
                x, y = new, other
                while x != y:
                    while number[x] > number[y]:
                        x = above[x]
                    while number[y] > number[x]:
                        y = above[y]
                new = x
            if above.get(block) != new:
                above[block] = new
                changed = True
    return above


def _dominates(block: int, other: int, above: Mapping[int, int]) -> bool:
    while other != block:
        if above[other] == other:
            return False
        other = above[other]
    return True
