"""Loops: removed, turned over, relieved of what does not change."""

from collections.abc import Iterable, Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.code.places import Place
from hot_anvil.core.diff.records import LIKELY, Reason
from hot_anvil.core.model.copies import copies_of
from hot_anvil.core.model.function import Side
from hot_anvil.core.model.symbols import BLOCK_CALLS
from hot_anvil.core.model.vectors import is_vector_loop, shape_of
from hot_anvil.core.reasons.context import View
from hot_anvil.core.reasons.vectors import UNROLLED, VECTORISED, WIDTH

REMOVED, TURNED, HOISTED = "loop removed", "test at the loop's end", "computed before the loop"
_COSTLY = (b.DIV, b.FDIV, b.FSQRT, b.MUL, b.FMUL, b.CALL)


def removed(view: View) -> Iterator[Reason]:
    """A loop of ``a`` that ``b`` has none for: no effect, a closed form, or written out."""
    a, c = view.a, view.b
    for loop, found in view.loop_pairs.items():
        if found or not len(c) or any(name == view.function for _, name in c.calls):
            continue  # recursion is told as such
        inside = a.inside(loop)
        if a.of((b.ATOMIC,), inside):
            continue  # it tries again until no other thread was between
        places = a.lines(inside)
        if not places or _outer_also_gone(view, loop) or _one_of_several(view, loop):
            continue
        left = c.on(places)
        if became_call(view, places) or view.world.calls_for(places, c):
            continue
        copies = copies_of(a, a.own(loop), c, left)
        packed = c.packed(left)
        wide = packed or [k for k in left if c.effects[k].packed]
        if copies >= 2 or (packed and not a.packed(inside)) or _repeats(a, a.own(loop), c, left):
            said = f"all {copies} passes" if copies >= 2 and not wide else "all passes"
            text = f"the loop is written out: {said}, one after another, without a branch back"
            yield view.reason(
                UNROLLED, (text, "the passes are a loop again, no longer written out"),
                a.backs(loop), left, places,
            )  # fmt: skip
            if packed and not a.packed(inside):
                shape = shape_of(c, left)
                texts = (
                    f"the loop's passes are done together: {shape.words}",
                    "the loop does one element at a time, no longer several together",
                )
                yield view.reason(VECTORISED, texts, a.backs(loop), packed, places)
            continue
        if any(c.kinds[k] in b.ARITHMETIC or c.kinds[k] == b.CALL for k in left):
            text = "the loop is gone: its result is computed without it"
            back = "computed by a loop, no longer without one"
        else:
            text = "the loop is gone: nothing of it is needed, or its result is known"
            back = "there is a loop that was not needed before"
        yield view.reason(REMOVED, (text, back), a.backs(loop), left, places, LIKELY)


def _repeats(a: Side, inside: Sequence[int], c: Side, left: Sequence[int]) -> bool:
    """Tell whether lines without a loop do some operation of the loop three times or more."""
    kinds = (b.SHIFT, b.LOGIC, b.SELECT, b.COMPARE)
    counts = [(len(a.of((kind,), inside)), len(c.of((kind,), left))) for kind in kinds]
    return any(mine and theirs >= 3 * mine for mine, theirs in counts)


def _outer_also_gone(view: View, loop: int) -> bool:
    """Tell whether a loop stands inside another one that is gone as well: told once."""
    inner = view.a.loops[loop].blocks
    return any(
        not found and other != loop and inner < view.a.loops[other].blocks
        for other, found in view.loop_pairs.items()
    )


def _one_of_several(view: View, loop: int) -> bool:
    """Tell whether another loop for the same lines, such as a vector main loop, has a match."""
    a = view.a
    blocks, lines = a.loops[loop].blocks, a.lines(a.own(loop))
    return any(
        found
        and other != loop
        and (
            lines <= a.lines(a.own(other))
            or (not blocks & a.loops[other].blocks and bool(lines & a.lines(a.own(other))))
        )
        for other, found in view.loop_pairs.items()
    )


def became_call(view: View, places: Iterable[Place]) -> list[int]:
    """Return the block instructions or calls of ``b`` on these lines that ``a`` has not."""
    known = {name for _, name in view.a.calls}
    near = view.b.on(places)
    called = dict(view.b.calls)
    return [
        k
        for k in near
        if (called.get(k, "") in BLOCK_CALLS and called[k] not in known)
        or (view.b.effects[k].kind == b.BLOCK and not view.a.of((b.BLOCK,)))
    ]


def turned(view: View) -> Iterator[Reason]:
    """A loop left at its start in ``a``, and only at its end in ``b``."""
    a, c = view.a, view.b
    for loop, found in view.loop_pairs.items():
        if not found or not _tested_first(a, loop) or not all(_tested_last(c, j) for j in found):
            continue
        places = {a.places[k] for k in _exits(a, loop)} | {
            c.places[k] for j in found for k in c.backs(j)
        }
        yield view.reason(
            TURNED,
            (
                "the loop's test stands at its end: one branch in a pass instead of two",
                "the loop's test stands at its start: two branches in a pass instead of one",
            ),
            [*_exits(a, loop), *a.backs(loop)], c.backs(found[0]), places,
        )  # fmt: skip


def _exits(side: Side, loop: int) -> list[int]:
    """Return the conditional branches at the loop's start that leave it."""
    one = side.loops[loop]
    return [
        k
        for k, block in enumerate(side.body.block_of)
        if block == one.header
        and side.effects[k].kind == b.BRANCH
        and any(after not in one.blocks for after in side.body.next_blocks[block])
    ]


def _tested_first(side: Side, loop: int) -> bool:
    """Tell whether each pass begins with a test and ends with a jump."""
    backs = side.backs(loop)
    jumps = bool(backs) and all(side.effects[k].kind == b.JUMP for k in backs)
    return jumps and bool(_exits(side, loop))


def _tested_last(side: Side, loop: int) -> bool:
    backs = side.backs(loop)
    return bool(backs) and any(side.effects[k].kind == b.BRANCH for k in backs)


def hoisted(view: View) -> Iterator[Reason]:
    """Costly work on a line that ``a`` does in every pass and ``b`` once, before the loop."""
    a, c = view.a, view.b
    for loop, found in view.loop_pairs.items():
        if not found or is_vector_loop(c, found[0]):
            continue
        for place in a.lines(a.own(loop)):
            here, there = a.at.get(place, []), c.at.get(place, [])
            for kind in _COSTLY:
                mine = [k for k in a.of((kind,), here) if a.body.loop_of[k] == loop]
                theirs = c.of((kind,), there)
                if mine and theirs and all(c.body.loop_of[k] < 0 for k in theirs):
                    texts = (
                        f"the {kind} is done once, before the loop",
                        f"the {kind} is done in every pass",
                    )  # fmt: skip
                    yield view.reason(HOISTED, texts, mine, theirs, {place})
                    break


KINDS = frozenset((VECTORISED, WIDTH, UNROLLED, REMOVED, TURNED, HOISTED))
RULES = (removed, turned, hoisted)
