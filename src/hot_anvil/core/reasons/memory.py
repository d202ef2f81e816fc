"""Memory: the stack frame, slots and registers, reloads,"""

from collections.abc import Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.code.places import Place
from hot_anvil.core.diff.records import Reason
from hot_anvil.core.model.copies import copies_of
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.rereads import most_on_one_way, read_again
from hot_anvil.core.reasons.context import View
from hot_anvil.core.reasons.guards import has_stack_guard

_FEW = 4  # accesses of slots that optimised code may have for other ends
FRAME, KEPT, RELOADED = "stack frame gone", "value kept in a register", "value reloaded"


def frame(view: View) -> Iterator[Reason]:
    """A stack frame, or a frame pointer, that ``right`` does without."""
    left, right = view.left, view.right
    mine, theirs = _frame(left), _frame(right)
    if mine and not theirs:
        texts = ("no stack frame is set up", "a stack frame is set up")
        yield view.reason(FRAME, texts, mine, theirs)
        return
    pointers = [len(side.body.frame_registers) for side in (left, right)]
    if pointers[0] > pointers[1]:
        texts = (
            "no frame pointer is set up: the register is free, slots go by the stack pointer",
            "a frame pointer is set up",
        )
        yield view.reason(FRAME, texts, _pointer(left), (), {left.places[k] for k in mine})


def _frame(side: FunctionModel) -> list[int]:
    """Return what moves the stack pointer, saves registers or sets up a frame pointer."""
    stack = side.body.arch.abi.stack
    return [
        k
        for k in sorted(side.saves)
        if side.effects[k].kind in (b.PUSH, b.POP)
        or stack & side.written(k)
        or side.effects[k].stores
        or side.body.arch.abi.frame_setup.match(side.body.texts[k])
    ]  # fmt: skip


def _pointer(side: FunctionModel) -> list[int]:
    return [k for k, t in enumerate(side.body.texts) if side.body.arch.abi.frame_setup.match(t)]


def kept(view: View) -> Iterator[Reason]:
    """Values that ``left`` keeps in stack slots and ``right`` in registers."""
    left, right = view.left, view.right
    mine, theirs = _variables(left), _variables(right)
    before, after = len(mine), len(theirs)
    if len(right.slots) > 0.6 * len(left.slots):
        return  # what others write there is only read on
    if has_stack_guard(left) != has_stack_guard(right):
        return  # what it takes to check is no value of the source
    if not before or after > 0.6 * before or (before < _FEW and view.context.optimised):
        return  # a temporary more or less
    places = {
        place
        for place, here in left.at.items()
        if len(mine & set(here)) > len(theirs & set(right.at.get(place, ())))
    }
    few = f"{after} accesses of the stack instead of {before}"
    texts = (
        f"values are kept in registers instead of the stack: {few}",
        f"values are kept on the stack instead of registers: {before} accesses instead of {after}",
    )
    yield view.reason(KEPT, texts, mine, theirs, places)


def _variables(side: FunctionModel) -> set[int]:
    """Return the accesses of slots that are both written and read: not parts of a buffer."""
    done: dict[tuple[str, int], set[bool]] = {}
    where = {}
    for k in side.slots:
        memory = side.effects[k].memory or b.Memory()
        where[k] = memory.base, memory.offset
        done.setdefault(where[k], set()).update({side.effects[k].loads, not side.effects[k].stores})
    return {k for k, slot in where.items() if len(done[slot]) == 2}


def reloaded(view: View) -> Iterator[Reason]:
    """Memory that only ``right`` reads or writes again, since something may share it."""
    told: set[Place] = set()
    for loop, found in view.loop_pairs.items():
        if len(found) == 1:
            for reason in _in_loop(view, loop, found[0]):
                told |= reason.places
                yield reason
    left, right = view.left, view.right
    if (left.slots or right.slots) and not view.context.optimised:
        return  # values that are kept in slots are read again without any need
    if has_stack_guard(left) != has_stack_guard(right):
        return  # it is read again to be compared
    mine, theirs = view.shared(left, read_again(left)), view.shared(right, read_again(right))
    # What is left over of a loop reads what the loop reads.
    told |= {p for s in (left, right) for n in range(len(s.body.loops)) for p in s.lines(s.own(n))}
    fresh = [k for k in theirs if right.places[k] not in told]
    if most_on_one_way(right, fresh) > most_on_one_way(left, mine):
        texts = (
            "a value is read from memory again: a store or call between may have changed it",
            "a value is not read from memory again: nothing between can have changed it",
        )
        places = {right.places[k] for k in fresh}
        yield view.reason(RELOADED, texts, sorted(set(mine)), sorted(set(fresh)), places)


_READ = (
    "a value is read from memory in every pass: a store there may have changed it",
    "a value is kept in a register over the loop instead of being read in every pass",
)
_WRITTEN = (
    "a value is written to memory in every pass: something else may read it there",
    "a value is kept in a register over the loop and written once, not in every pass",
)


def _in_loop(view: View, loop: int, other: int) -> Iterator[Reason]:
    """Compare accesses of one address that a loop makes in every pass."""
    left, right = view.left, view.right
    own = left.own(loop), right.own(other)
    if (
        left.slots & set(own[0])
        or right.slots & set(own[1])
        or left.packed(own[0])
        or right.packed(own[1])
    ):
        return
    calls = (left.of((b.CALL,), left.inside(loop)), right.of((b.CALL,), right.inside(other)))
    if any(calls):
        return  # what is called may read and write as well
    for texts, accesses in ((_READ, FunctionModel.loads), (_WRITTEN, FunctionModel.stores)):
        mine, theirs = (
            _every_pass(side, k, view.shared(side, accesses(side, side.inside(k))))
            for side, k in ((left, loop), (right, other))
        )
        if len(theirs) <= len(mine) or (mine and copies_of(left, own[0], right, own[1]) > 1):
            continue  # or more passes at once, each with its accesses
        known = {_address(left, j) for j in mine}
        new = [k for k in theirs if _address(right, k) not in known] or theirs
        yield view.reason(RELOADED, texts, mine, new, {right.places[k] for k in new})


def _address(side: FunctionModel, k: int) -> tuple[str, str, str, int]:
    memory = side.effects[k].memory or b.Memory()
    return memory.base, memory.indexed, memory.symbol, memory.offset


def _every_pass(side: FunctionModel, loop: int, accesses: Sequence[int]) -> list[int]:
    """Return those accesses of a loop whose address is the same in every pass."""
    inside = side.inside(loop)
    if any(side.kinds[k] == b.CALL for k in inside):
        return []
    writers: dict[str, list[int]] = {}
    for k in inside:
        for register in side.written(k):
            writers.setdefault(register, []).append(k)
    out = []
    for k in accesses:
        memory = side.effects[k].memory
        if memory and (memory.base or memory.symbol):
            used = [r for r in (memory.base, memory.indexed) if r]
            if all(_fixed(side, writers.get(r, []), k) for r in used):
                out.append(k)
    return out


def _fixed(side: FunctionModel, writers: Sequence[int], k: int) -> bool:
    """Tell whether a register holds the same at ``k`` in every pass."""
    if not writers:
        return True
    block = side.body.block_of
    last = [w for w in writers if w < k and block[w] == block[k]][-1:]  # no way leads between
    return all(
        side.kinds[w] in (b.ADDRESS, b.CONSTANT) and not side.read(w) for w in last or writers
    )


RULES = (frame, kept, reloaded)
