"""Small change: the same work written otherwise, registers saved, widths, alignment."""

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.spelling import shape
from hot_anvil.core.diff.records import (
    CHANGED,
    LIKELY,
    RENAMED,
    Reason,
)
from hot_anvil.core.model.copies import grown_in
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.reasons.context import View
from hot_anvil.core.reasons.differences import (
    CONDITION,
    DATA,
    OPERATION,
    WIDER,
)

SAVED, EXTENDED, WRITTEN = "registers saved", "extension dropped", "written otherwise"
PADDED, ARGUMENT, LAYOUT, ALIKE = "padding only", "other argument", "layout", "same operations"
SETUP, STEPPED = "loop setup", "loop step"
APART = "other instruction set"
# Kinds that say how a line differs where no larger reason does.
SMALL = frozenset(
    (
        SAVED,
        EXTENDED,
        WIDER,
        WRITTEN,
        DATA,
        SETUP,
        STEPPED,
        ARGUMENT,
        CONDITION,
        APART,
        OPERATION,
        LAYOUT,
        ALIKE,
    )
)


def saved(view: View) -> Iterator[Reason]:
    """Callee-saved registers that ``right`` need not save, where both set up a frame."""
    left, right = view.left, view.right
    mine, theirs = _kept_registers(left), _kept_registers(right)
    if theirs and len(mine) > len(theirs):
        texts = (_saves(len(theirs), len(mine)), _saves(len(mine), len(theirs)))
        yield view.reason(SAVED, texts, left.saves, right.saves)


def _kept_registers(side: FunctionModel) -> set[str]:
    """Return the registers that a function saves since its caller relies on them."""
    abi = side.body.arch.abi
    own = abi.clobbered | abi.stack
    return {
        family
        for k in side.saves
        if side.effects[k].kind == b.PUSH or side.effects[k].stores
        for family in side.read(k) - own
    }


def _saves(now: int, before: int) -> str:
    these = "1 register is" if now == 1 else f"{now} registers are"
    return f"{these} saved and restored instead of {before}"


def arguments(view: View) -> Iterator[Reason]:
    """A line that is the same but for the parameter that it reads."""
    if not view.forward:
        return
    left, right = view.left, view.right
    parameters = left.body.arch.abi.parameters
    fresh = _untouched(left, parameters), _untouched(right, parameters)
    for place in view.lines:
        here, there = left.at.get(place, []), right.at.get(place, [])
        edited = place in view.context.edited or view.context.other_functions
        if view.states.get(place) not in ((RENAMED, CHANGED) if edited else (RENAMED,)):
            continue
        if not _one_shape(view, here, there):
            continue
        for i, j in zip(here, there, strict=True):
            mine, theirs = fresh[0].get(i, set()), fresh[1].get(j, set())
            if left.body.texts[i] == right.body.texts[j] or len(mine) != len(theirs):
                continue  # what changed is whether a register was written before
            if mine and mine != theirs and left.kinds[i] == right.kinds[j]:
                text = (
                    f"another parameter is read: what arrives in {_all(theirs)}, not {_all(mine)}"
                )
                yield view.reason(ARGUMENT, (text, text), [i], [j], {place}, LIKELY)


def _one_shape(view: View, here: Sequence[int], there: Sequence[int]) -> bool:
    """Tell whether two runs of instructions differ in names of registers and labels only."""
    shapes = [
        [shape(side.body.texts[k], side.body.isa)[0] for k in own]
        for side, own in ((view.left, here), (view.right, there))
    ]
    return shapes[0] == shapes[1]


def _untouched(side: FunctionModel, parameters: Collection[str]) -> dict[int, set[str]]:
    """Return for each instruction the parameters it reads in registers not written on any way."""
    body = side.body
    before: list[set[str]] = [set(parameters) for _ in body.next_blocks]
    todo = set(range(len(before)))
    out: dict[int, set[str]] = {}
    while todo:
        block = min(todo)
        todo.discard(block)
        waiting = set(before[block])
        for k in range(body.bounds[block], body.bounds[block + 1]):
            out[k] = set(side.read(k)) & waiting
            waiting -= side.written(k)
            if side.kinds[k] == b.CALL:
                waiting -= body.arch.abi.clobbered
        for goal in body.next_blocks[block]:
            if not before[goal] <= waiting:
                before[goal] &= waiting
                todo.add(goal)
    return {k: read for k, read in out.items() if read}


def _all(families: Collection[str]) -> str:
    return " and ".join(sorted(families))


def extended(view: View) -> Iterator[Reason]:
    """A sign or zero extension of ``left`` that ``right`` does without."""
    left, right = view.left, view.right
    counts = [
        (len(s.of((b.EXTEND,))), len(view.shared(s, s.of((b.EXTEND,))))) for s in (left, right)
    ]
    if not right.is_scalar or any(was <= now for was, now in zip(*counts, strict=True)):
        return
    for place in view.lines:
        mine = [
            k for k in left.of((b.EXTEND,), left.at.get(place, ()))
            if not (left.effects[k].loads or left.effects[k].packed)
        ]  # fmt: skip
        there = right.at.get(place, ())
        # Beside the extension the work has to be the same, or something else may do its part.
        same = _work(left, left.at.get(place, ())) == _work(right, there)
        if mine and same and not right.of((b.EXTEND,), there) and not view.brought(place):
            texts = (
                "the value is not extended to a wider one here",
                "the value is extended to a wider one here",
            )
            yield view.reason(EXTENDED, texts, mine, (), {place}, LIKELY)


def _work(side: FunctionModel, among: Iterable[int]) -> Counter[str]:
    """Return how often a line does what, without copies and extensions."""
    return Counter(
        side.kinds[k]
        for k in among
        if side.kinds[k] not in (b.EXTEND, b.JUMP)
        and not (side.kinds[k] == b.MOVE and not side.effects[k].memory)
    )


def stepped(view: View) -> Iterator[Reason]:
    """A loop that goes by another step in memory, or by pointers instead of an index."""
    if not view.forward:
        return
    left, right = view.left, view.right
    for loop, found in view.loop_pairs.items():
        if not found or _like_another(left, loop) or _like_another(right, found[0]):
            continue
        main = found[0]
        was, now = view.shapes[0].advance(loop), view.shapes[1].advance(main)
        inside = left.lines(left.own(loop)) | right.lines(right.own(main))
        evidence = left.own(loop), right.own(main)
        if was and now and was != now and not (now % was == 0 or was % now == 0):
            text = f"the loop goes on by {now} bytes in a pass instead of {was}"
            yield view.reason(STEPPED, (text, text), *evidence, inside, LIKELY)
        elif was and was == now:
            ways = _way_through(left, loop), _way_through(right, main)
            counters = _counters(left, loop), _counters(right, main)
            without = (left, loop) if counters[1] else (right, main)
            if (
                ways == ("a pointer", "a pointer")
                and bool(counters[0]) != bool(counters[1])
                and _ends_by_pointer(*without)
            ):
                text = _COUNTS if counters[1] else _NO_COUNTER
                yield view.reason(STEPPED, (text, text), *evidence, inside, LIKELY)
            elif all(ways) and ways[0] != ways[1]:
                text = f"the array is gone through by {ways[1]} instead of {ways[0]}"
                yield view.reason(STEPPED, (text, text), *evidence, inside, LIKELY)


_NO_COUNTER = "the loop needs no counter of its own: a pointer tells where it ends"
_COUNTS = "the loop has a counter of its own, beside its pointers"


def _counters(side: FunctionModel, loop: int) -> frozenset[str]:
    """Return the registers that a loop counts in and uses for its test and nothing else."""
    inside = side.own(loop)
    tests = (b.COMPARE, b.BRANCH)
    used = {
        family
        for k in inside
        if side.kinds[k] not in tests
        for family in side.read(k) - (side.written(k) if side.effects[k].immediate else frozenset())
    }
    return (grown_in(side, inside) & _tested(side, inside)) - used


def _ends_by_pointer(side: FunctionModel, loop: int) -> bool:
    """Tell whether a loop's tests of what it counts are of pointers that it goes through."""
    inside = side.own(loop)
    accessed = (side.effects[k].memory for k in (*side.loads(inside), *side.stores(inside)))
    bases = {memory.base for memory in accessed if memory}
    tested = grown_in(side, inside) & _tested(side, inside)
    return bool(tested) and tested <= bases


def _tested(side: FunctionModel, inside: Sequence[int]) -> set[str]:
    """Return the registers that decide a branch: compared, or counted just before it."""
    out: set[str] = set()
    last: Collection[str] = ()
    for k in inside:
        if side.kinds[k] == b.COMPARE:
            out |= side.read(k)
            last = ()
        elif side.kinds[k] in (b.ADD, b.SUB):
            last = side.written(k)
        elif side.kinds[k] == b.BRANCH:
            out |= side.read(k) | set(last)
    return out


def _like_another(side: FunctionModel, loop: int) -> bool:
    """Tell whether another loop has the same lines: which stands for which is not known."""
    lines = side.lines(side.own(loop))
    others = (side.lines(side.own(k)) for k in range(len(side.loops)) if k != loop)
    return any(len(lines & other) * 2 > len(lines) for other in others)


def _way_through(side: FunctionModel, loop: int) -> str:
    """Return in words what moves a loop's accesses on, "" for nothing, or both."""
    inside = side.own(loop)
    grown = grown_in(side, inside)
    pointers, indices = False, False
    for k in (*side.loads(inside), *side.stores(inside)):
        memory = side.effects[k].memory or b.Memory()
        indices |= memory.indexed in grown
        pointers |= memory.base in grown and not memory.indexed
    return "" if pointers == indices else "a pointer" if pointers else "an index"


def setup(view: View) -> Iterator[Reason]:
    """Lines around a loop that changed, with nothing but what it needs before and after."""
    if not view.forward:
        return
    quiet = {
        b.CONSTANT, b.MOVE, b.ADDRESS, b.JUMP, b.RETURN, b.POP, b.PUSH, b.NOTHING, b.EXTEND,
        b.SHIFT, b.SHUFFLE, b.COMPARE, b.BRANCH, b.ADD, b.SUB, b.LOGIC, b.CONVERT,
    }  # fmt: skip
    around = {
        place
        for loop, found in view.loop_pairs.items()
        for place in view.left.lines(view.left.own(loop))
        | {p for j in found for p in view.right.lines(view.right.own(j))}
    }
    beside = {place._replace(line=place.line + n) for place in around for n in (-1, 0, 1)}
    for place in (place for place in view.lines if place in beside):
        here, there = view.left.at.get(place, []), view.right.at.get(place, [])
        sides = ((view.left, here), (view.right, there))
        if not view.differs(place) or not {s.kinds[k] for s, own in sides for k in own} <= quiet:
            continue
        if any(s.body.loop_of[k] >= 0 for s, own in sides for k in own):
            continue
        text = "what the changed loop needs before or after it"
        yield view.reason(SETUP, (text, text), here, there, {place}, LIKELY)


RULES = (saved, arguments)
LAST = (extended, stepped)  # only where nothing else explains the line
BESIDE_LOOPS = (setup,)  # and only in functions whose loops changed
