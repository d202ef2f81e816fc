"""Loops: removed, turned over, relieved of what does not change."""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.code.places import Place
from hot_anvil.core.diff.records import LIKELY, Reason
from hot_anvil.core.model.copies import copies_of, step_of
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.symbols import BLOCK_CALLS
from hot_anvil.core.model.vectors import is_vector_loop, shape_of
from hot_anvil.core.reasons.context import View
from hot_anvil.core.reasons.vectors import UNROLLED, VECTORISED, WIDTH

REMOVED, TURNED, HOISTED = "loop removed", "test at the loop's end", "computed before the loop"
_COSTLY = (b.DIV, b.FDIV, b.FSQRT, b.MUL, b.FMUL, b.CALL)


def removed(view: View) -> Iterator[Reason]:
    """A loop of ``left`` that ``right`` has none for: no effect, a closed form, or written out."""
    left, right = view.left, view.right
    for loop, found in view.loop_pairs.items():
        if found or not len(right) or any(name == view.function for _, name in right.calls):
            continue  # recursion is told as such
        inside = left.inside(loop)
        if left.of((b.ATOMIC,), inside) or any(left.effects[k].indirect for k in inside):
            continue  # it waits for other threads, or is no loop of the source
        places = left.lines(inside)
        if not places or _outer_also_gone(view, loop) or _one_of_several(view, loop):
            continue
        if all(view.brought(place) for place in places) or _still_looped(view, loop):
            continue
        there = right.on(places)
        if became_call(view, places) or view.context.calls_for(places, right):
            continue
        copies = copies_of(left, left.own(loop), right, there)
        wide = [k for k in there if right.effects[k].packed]
        packed = right.packed(there) if shape_of(right, there).width else []
        if (
            copies >= 2
            or _called_again(left, left.own(loop), right, there)
            or (packed and not left.packed(inside))
            or _repeats(left, left.own(loop), right, there)
        ):
            counted = not wide and copies >= 2 and copies in _bounds(left, loop)
            said = f"all {copies} passes" if counted else "all passes"
            text = f"the loop is written out: {said}, one after another, without a branch back"
            yield view.reason(
                UNROLLED, (text, "the passes are a loop again, no longer written out"),
                left.backs(loop), there, places,
            )  # fmt: skip
            if packed and not left.packed(inside):
                shape = shape_of(right, there)
                texts = (
                    f"the loop's passes are done together: {shape.words}",
                    "the loop does one element at a time, no longer several together",
                )
                yield view.reason(VECTORISED, texts, left.backs(loop), packed, places)
            continue
        if _has_effects(left, loop) and not (right.stores(there) or right.of((b.CALL,), there)):
            continue  # what it stores is stored by code of other lines, or not at all
        if view.divided_otherwise or len(right.loops) > sum(map(len, view.loop_pairs.values())):
            continue  # what is called instead may loop, or a loop that nothing stands for
        if left.stores(inside) and right.stores(there):
            text = "the loop is gone: what it stores is stored without it"
            back = "stored by a loop, no longer without one"
        elif any(right.kinds[k] in b.ARITHMETIC or right.kinds[k] == b.CALL for k in there):
            text = "the loop is gone: its result is computed without it"
            back = "computed by a loop, no longer without one"
        else:
            text = "the loop is gone: nothing of it is needed, or its result is known"
            back = "there is a loop that was not needed before"
        yield view.reason(REMOVED, (text, back), left.backs(loop), there, places, LIKELY)


def _bounds(side: FunctionModel, loop: int) -> set[int]:
    """Return the constants that a loop's counter is compared with, by what it grows in a pass."""
    own = side.own(loop)
    step = step_of(side, own) or 1
    numbers = {side.effects[k].immediate for k in side.of((b.COMPARE, b.BRANCH, b.SUB), own)}
    known = {abs(n) for n in numbers if n}
    before = range(max(min(own) - 8, 0), min(own))  # it may count down from one
    known |= {abs(n) for k in side.of((b.CONSTANT,), before) if (n := side.effects[k].immediate)}
    return {n // step for n in known} | {n // step + 1 for n in known} | known


def _repeats(
    left: FunctionModel, inside: Sequence[int], right: FunctionModel, there: Sequence[int]
) -> bool:
    """Tell whether lines without a loop do some operation of the loop three times or more."""
    kinds = (b.SHIFT, b.LOGIC, b.SELECT, b.COMPARE)
    counts = [(len(left.of((kind,), inside)), len(right.of((kind,), there))) for kind in kinds]
    return any(mine and theirs >= 3 * mine for mine, theirs in counts)


def _called_again(
    left: FunctionModel, inside: Sequence[int], right: FunctionModel, there: Sequence[int]
) -> bool:
    """Tell whether lines without a loop call each function of the loop twice as often, or more."""
    once, often = (
        Counter(side.effects[k].target for k in side.of((b.CALL,), among))
        for side, among in ((left, inside), (right, there))
    )
    return bool(once) and all(often[name] >= 2 * count for name, count in once.items())


def _outer_also_gone(view: View, loop: int) -> bool:
    """Tell whether a loop stands inside another one that is gone as well: told once."""
    inner = view.left.loops[loop].blocks
    return any(
        not found and other != loop and inner < view.left.loops[other].blocks
        for other, found in view.loop_pairs.items()
    )


def _still_looped(view: View, loop: int) -> bool:
    """Tell whether the other side goes back over code of the same lines, loops of any kind."""
    left, right = view.left, view.right
    own = left.lines(left.own(loop))
    own = own if right.on(own) else left.lines(left.inside(loop))
    own = own & view.home or own
    goals = right.body.goals
    if any(
        own & right.lines(range(goals[k], k + 1))
        for k in right.of((b.BRANCH, b.JUMP, b.SKIP))
        if 0 <= goals[k] <= k
    ):
        return True
    outer = left.loops[loop].depth > 1  # then its code comes back in any case
    return not outer and any(_comes_back(right, k) for k in right.on(own))


def _comes_back(side: FunctionModel, k: int) -> bool:
    """Tell whether an instruction may be carried out again in one call."""
    start = side.body.block_of[k]
    seen: set[int] = set()
    todo = list(side.body.next_blocks[start])
    while todo:
        block = todo.pop()
        if block == start:
            return True
        if block not in seen:
            seen.add(block)
            todo += side.body.next_blocks[block]
    return False


def _has_effects(side: FunctionModel, loop: int) -> bool:
    """Tell whether a loop stores, or calls what may."""
    inside = side.inside(loop)
    return bool(side.stores(inside) or side.of((b.CALL, b.ATOMIC), inside))


def _one_of_several(view: View, loop: int) -> bool:
    """Tell whether another loop for the same lines, such as a vector main loop, has a match."""
    left = view.left
    blocks, lines = left.loops[loop].blocks, left.lines(left.own(loop))
    return any(
        found
        and other != loop
        and (
            lines <= left.lines(left.own(other))
            or (not blocks & left.loops[other].blocks and bool(lines & left.lines(left.own(other))))
        )
        for other, found in view.loop_pairs.items()
    )


def became_call(view: View, places: Iterable[Place]) -> list[int]:
    """Return the block instructions or calls of ``right`` on these lines that ``left`` has not."""
    places = list(places)
    before = view.left.on(places)
    known = {name for k, name in view.left.calls if k in before}
    near = view.right.on(places)
    called = dict(view.right.calls)
    return [
        k
        for k in near
        if (called.get(k, "") in BLOCK_CALLS and called[k] not in known)
        or (view.right.effects[k].kind == b.BLOCK and not view.left.of((b.BLOCK,), before))
    ]


def turned(view: View) -> Iterator[Reason]:
    """A loop left at its start in ``left``, and only at its end in ``right``."""
    left, right = view.left, view.right
    for loop, found in view.loop_pairs.items():
        if (
            not found
            or not _tested_first(left, loop)
            or not all(_tested_last(right, j) for j in found)
        ):
            continue
        places = {left.places[k] for k in _exits(left, loop)} | {
            right.places[k] for j in found for k in right.backs(j)
        }
        yield view.reason(
            TURNED,
            (
                "the loop's test stands at its end: one branch in a pass instead of two",
                "the loop's test stands at its start: two branches in a pass instead of one",
            ),
            [*_exits(left, loop), *left.backs(loop)], right.backs(found[0]), places,
        )  # fmt: skip


def _exits(side: FunctionModel, loop: int) -> list[int]:
    """Return the conditional branches at the loop's start that leave it."""
    one = side.loops[loop]
    return [
        k
        for k, block in enumerate(side.body.block_of)
        if block == one.header
        and side.effects[k].kind == b.BRANCH
        and any(after not in one.blocks for after in side.body.next_blocks[block])
    ]


def _tested_first(side: FunctionModel, loop: int) -> bool:
    """Tell whether each pass begins with a test and ends with a jump."""
    backs = side.backs(loop)
    jumps = bool(backs) and all(side.effects[k].kind == b.JUMP for k in backs)
    return jumps and bool(_exits(side, loop))


def _tested_last(side: FunctionModel, loop: int) -> bool:
    backs = side.backs(loop)
    return bool(backs) and any(side.effects[k].kind == b.BRANCH for k in backs)


def hoisted(view: View) -> Iterator[Reason]:
    """Costly work that ``left`` does in every pass and ``right`` once, before the loop."""
    left, right = view.left, view.right
    for loop, found in view.loop_pairs.items():
        if not found or is_vector_loop(right, found[0]):
            continue
        tests = {side.places[k] for side, n in ((left, loop), (right, found[0]))
                 for k in side.backs(n)}  # fmt: skip
        for place in left.lines(left.own(loop)) - tests:
            here, there = left.at.get(place, []), right.at.get(place, [])
            for kind in _COSTLY:
                mine, theirs = left.of((kind,), here), right.of((kind,), there)
                if len(mine) != 1 or len(theirs) != 1:
                    continue  # which is which is not known
                inside = left.body.loop_of[mine[0]] == loop and mine[0] in left.each_pass(loop)
                if not inside or not _before(right, theirs[0], found[0]):
                    continue
                if not _one_callee(view, mine[0], theirs[0]):
                    continue
                texts = (
                    f"the {kind} is done once, before the loop",
                    f"the {kind} is done in every pass",
                )
                yield view.reason(HOISTED, texts, mine, theirs, {place})
                break


def _before(side: FunctionModel, k: int, loop: int) -> bool:
    """Tell whether an instruction stands before a loop, in code that leads to it."""
    body = side.body
    if body.loop_of[k] >= 0 or k > min(side.own(loop)):
        return False
    seen: set[int] = set()
    todo = [body.block_of[k]]
    while todo:
        block = todo.pop()
        if block in body.loops[loop].blocks:
            return True
        if block not in seen:
            seen.add(block)
            todo += body.next_blocks[block]
    return False


_PURE = frozenset(
    "strlen strcmp memcmp sqrt sqrtf sin cos tan exp log pow floor ceil fabs abs labs".split()
)


def _one_callee(view: View, k: int, j: int) -> bool:
    one, other = view.left.effects[k], view.right.effects[j]
    # Of other calls it is not known that they give the same in every pass.
    return one.target == other.target and (one.kind != b.CALL or one.target in _PURE)


KINDS = frozenset((VECTORISED, WIDTH, UNROLLED, REMOVED, TURNED, HOISTED))
RULES = (removed, turned, hoisted)
