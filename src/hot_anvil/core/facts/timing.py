"""Loops in which nothing but time passes: their duration is the compiler's choice."""

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.model.function import FunctionModel

_HARMLESS = frozenset((
    b.MOVE, b.CONSTANT, b.ADDRESS, b.EXTEND, b.ADD, b.SUB, b.SHIFT, b.LOGIC, b.COMPARE, b.BRANCH,
    b.JUMP, b.SET, b.SELECT, b.SKIP, b.NOTHING,
))  # fmt: skip


def only_time(side: FunctionModel, loop: int, returns_nothing: bool) -> bool:
    """Tell whether a loop has no effect: no memory but the stack's, no result used behind it.

    Where it is left in several places that go on differently, which of them was taken is a result.

    ``returns_nothing``: what stands in the registers for a result at the end
    does not matter.
    """
    inside = side.inside(loop)
    if len(_ways_on(side, loop)) > 1:
        return False
    for k in inside:
        done = side.effects[k]
        if done.kind not in _HARMLESS or (done.indirect and done.kind == b.JUMP):
            return False
        if (done.loads or done.stores) and not side.on_stack(k):
            return False
        if side.body.items[k].inline_asm and done.kind != b.NOTHING:
            return False
    results = frozenset(family for k in inside for family in side.written(k))
    results -= side.body.frame_registers
    slots = {m for k in inside if side.effects[k].stores and (m := side.effects[k].memory)}
    return not _used_behind(side, loop, results, slots, returns_nothing)


def _ways_on(side: FunctionModel, loop: int) -> set[int]:
    """Return the blocks that a loop goes on with, jumps to elsewhere followed."""
    body, blocks = side.body, side.body.loops[loop].blocks
    out = set()
    for goal in {g for block in blocks for g in body.next_blocks[block] if g not in blocks}:
        seen: set[int] = set()
        while goal not in seen and _only_jumps(side, goal):
            seen.add(goal)
            goal = body.next_blocks[goal][0]
        out.add(goal)
    return out


def _only_jumps(side: FunctionModel, block: int) -> bool:
    body = side.body
    kinds = {side.effects[k].kind for k in range(body.bounds[block], body.bounds[block + 1])}
    return len(body.next_blocks[block]) == 1 and kinds <= {b.JUMP, b.NOTHING}


def _used_behind(
    side: FunctionModel,
    loop: int,
    results: frozenset[str],
    slots: set[b.Memory],
    returns_nothing: bool,
) -> bool:
    """Tell whether a register or slot that a loop wrote is read after it."""
    body, blocks = side.body, side.body.loops[loop].blocks
    bounds = body.bounds
    todo = [
        (goal, results)
        for block in blocks
        for goal in body.next_blocks[block]
        if goal not in blocks
    ]
    seen: dict[int, frozenset[str]] = {}
    while todo:
        block, live = todo.pop()
        if live <= seen.get(block, frozenset()):
            continue
        seen[block] = live = live | seen.get(block, frozenset())
        for k in range(bounds[block], bounds[block + 1]):
            done = side.effects[k]
            if (side.read(k) & live and k not in side.saves) or (
                done.loads and done.memory in slots and k not in side.saves
            ):
                return True
            if done.kind == b.CALL and live & body.arch.abi.parameters:
                return True  # it may be passed on
            if done.kind == b.RETURN and not returns_nothing and live & body.arch.abi.results:
                return True
            live -= side.written(k)
            if done.kind == b.CALL:
                live -= body.arch.abi.clobbered
        todo += [(goal, live) for goal in body.next_blocks[block]]
    return False
