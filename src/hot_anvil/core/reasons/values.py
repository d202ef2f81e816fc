"""Values that became known, and code that is not needed any more."""

from collections.abc import Iterator, Mapping, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.values import joined
from hot_anvil.core.diff.records import LIKELY, Reason, lines_text
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.reasons.branches import choices, near, selects
from hot_anvil.core.reasons.context import View
from hot_anvil.core.reasons.guards import ending_paths, has_stack_guard

FOLDED, DEAD = "folded to a constant", "dead code gone"


def folded(view: View) -> Iterator[Reason]:
    """A result that ``left`` computes and ``right`` knows."""
    left, right = view.left, view.right
    value = None if has_stack_guard(left) else _only_result(right)
    if value is not None and _only_result(left) is None and _work(left, range(len(left))):
        wanted = _work(left, range(len(left)))
        if value:
            texts = (
                f"the function returns {value}: all it computed is known",
                "the function computes what was known before",
            )
            yield view.reason(FOLDED, texts, wanted, right.of((b.CONSTANT,)), set(view.lines))
        elif not left.loops:
            texts = (
                "nothing of the function is left: it has no effect",
                "the function has an effect",
            )
            yield view.reason(DEAD, texts, wanted, (), set(view.lines))
        return
    if len(right.of((b.BRANCH,))) > len(left.of((b.BRANCH,))):
        return  # a constant for each way is no result that became known
    known = {done.immediate for done in left.effects if done.immediate is not None}
    quiet = {
        b.CONSTANT,
        b.MOVE,
        b.RETURN,
        b.POP,
        b.PUSH,
        b.LANDING,
        b.CALL,
        b.ADDRESS,
        b.JUMP,
        b.EXTEND,
    }
    called = {name for _, name in left.calls}
    for place in view.lines:
        here, there = left.at.get(place, []), right.at.get(place, [])
        made = [
            k for k in right.of((b.CONSTANT,), there)
            if right.effects[k].immediate not in known | {None, 0} and not right.effects[k].width
        ]  # fmt: skip
        calls = {name for k, name in right.calls if right.places[k] == place}
        loads = right.loads(there)
        if not made or not {right.kinds[k] for k in there} <= quiet or not calls <= called or loads:
            continue
        work = [k for k in _work(left, here) if left.effects[k].target not in calls]
        if not (work or left.slots & set(here)) or not _fewer(view):
            continue
        if view.brought(place) or len(left.stores(here)) > len(right.stores(there)):
            continue  # stores of parts became one
        if not _more_than_steps(left, here) or any(left.loads_constant(k) for k in here):
            continue
        if _pieces(left, here, [right.effects[k].immediate for k in made]):
            continue
        numbers = ", ".join(str(right.effects[k].immediate) for k in made)
        texts = (
            f"computed while compiling: {numbers}",
            "computed when it runs, not while compiling",
        )
        yield view.reason(FOLDED, texts, _work(left, here) or here, made, {place}, LIKELY)


def _more_than_steps(side: FunctionModel, here: Sequence[int]) -> bool:
    """Tell whether something is computed but the next place in memory."""
    work = [k for k in _work(side, here) if side.kinds[k] not in (b.ADD, b.SUB)]
    return bool(work) or any(side.effects[k].immediate is None for k in _work(side, here))


def _pieces(side: FunctionModel, here: Sequence[int], values: Sequence[int | None]) -> bool:
    """Tell whether the values are only parts, or other spellings, of constants at this line."""
    mine = [side.effects[k].immediate for k in here]
    wide = [value for value in mine if value is not None]
    return bool(wide) and all(
        value is not None
        and any(value in (v & 0xFF, v >> 8 & 0xFF, v & 0xFFFF, v & 0xFFFFFFFF, -v) for v in wide)
        for value in values
    )


def _fewer(view: View) -> bool:
    """Tell whether ``right`` computes less than ``left`` over the whole function."""
    left, right = view.left, view.right
    return len(_work(right, range(len(right)))) < len(_work(left, range(len(left))))


def _work(side: FunctionModel, among: Sequence[int]) -> list[int]:
    kinds = b.ARITHMETIC | {b.CALL, b.BRANCH, b.SET, b.SELECT, b.CONVERT, b.SKIP}
    found = [k for k in side.of(kinds, among) if k not in side.saves]
    return found + [k for k in side.of((b.JUMP,), among) if side.body.leaves(k)]


def _only_result(side: FunctionModel) -> str | None:
    """Return what a function that computes nothing returns, "" for nothing; None for others."""
    if not len(side) or side.slots:
        return None
    quiet = {b.CONSTANT, b.RETURN, b.LANDING, b.NOTHING, b.MOVE, b.ADD}
    rest = [k for k in range(len(side)) if k not in side.saves]
    if not {side.kinds[k] for k in rest} <= quiet or side.stores(rest):
        return None
    abi = side.body.arch.abi
    known: dict[str, int] = {}  # register -> value
    said = ""
    for k in rest:
        done = side.effects[k]
        if done.kind == b.MOVE:
            label = done.memory.symbol if done.memory and done.loads else ""
            if not label.startswith((".L", "$L")):
                return None
            said = "a constant from memory"
        elif done.kind in (b.CONSTANT, b.ADD) and done.immediate is not None:
            value = _constant(side, k, known)
            if value is None:
                return None
            known |= dict.fromkeys(side.written(k), value)
        elif done.kind == b.ADD:
            return None
    if abi.wide_results:
        wide, pair = abi.wide_results[0], abi.wide_results[-1]
        if pair[-1] in known and not {f for f in wide if f not in pair} & known.keys():
            value = joined(known, pair) or 0
            return str(value - 0x10000 if value & 0x8000 else value)
    return str(known[abi.result]) if abi.result in known else said


def _constant(side: FunctionModel, k: int, known: Mapping[str, int]) -> int | None:
    """Return the value that an instruction makes of constants alone, None for others."""
    done = side.effects[k]
    if done.kind == b.ADD:
        sources = [known.get(register) for register in side.read(k)]
        value = done.immediate or 0
        return None if len(sources) != 1 or sources[0] is None else sources[0] + value
    item = side.body.items[k]
    before = known.get(min(side.written(k), default=""), 0)
    return side.body.arch.semantics.constant(item.mnemonic, item.operands, before)


def untested(view: View) -> Iterator[Reason]:
    """Tests of ``left``, where ``right`` decides nothing at all."""
    left, right = view.left, view.right
    if view.context.other_functions or not len(right) or _only_result(right) is not None:
        return
    decides = right.of((b.BRANCH, b.SKIP, b.SELECT, b.SET, b.MINMAX, b.CALL, b.BLOCK))
    if decides or selects(right) or not right.is_scalar:
        return  # one of them may do the same
    tests = view.shared(left, choices(left))
    ending = {left.body.block_of[k] for k in ending_paths(left)}  # told as checks
    for place in dict.fromkeys(left.places[k] for k in tests):
        if place not in view.home or place in view.context.edited:
            continue  # inlined elsewhere, or the author took it away
        gone = [k for k in tests if left.places[k] == place]
        if any(ending & set(left.body.next_blocks[left.body.block_of[k]]) for k in gone):
            continue
        texts = (
            f"no test is left of {lines_text([place])}: the function decides nothing any more",
            f"there is a test for {lines_text([place])}; the function decided nothing before",
        )
        yield view.reason(DEAD, texts, gone, (), {place}, LIKELY)


def dead(view: View) -> Iterator[Reason]:
    """A line of ``left`` that does real work, and has no code in ``right``."""
    left, right = view.left, view.right
    if not len(right) or view.context.other_functions:
        return  # lines of two functions that are not matched say nothing
    state = "gone" if view.forward else "new"
    lines = [
        place
        for place in left.at
        if view.states.get(place) == state
        and place in view.home
        and place not in view.context.edited  # else the author took it away
        and place not in view.context.inside[view.forward]
    ]
    if not lines or view.divided_otherwise or not right.is_scalar:
        return  # what is called instead may do it, or a packed operation
    less = {
        kind for kind in _REAL if len(right.of((kind,))) < len(view.shared(left, left.of((kind,))))
    }
    if not right.of((b.LOGIC, b.SHIFT, b.EXTEND, b.SET, b.SELECT)):
        less.add(b.LOGIC)  # nothing is left that could do it
    if view.context.optimised:
        less &= {b.LOGIC} - set(right.kinds)  # other work may be done by other lines, or otherwise
    stored = [_stored(right, k) for k in right.stores(range(len(right)))]
    chosen = {right.places[k] for k in selects(right)}
    for place in lines:
        here = left.at[place]
        if left.of((b.CALL,), here):
            continue  # told as a call
        stores = [
            k for k in left.stores(here)
            if not view.context.optimised and not _covered(_stored(left, k), stored)
        ]  # fmt: skip
        real = [k for k in (*left.of(less, here), *stores) if k not in left.saves]
        if any(view.loop_pairs.get(left.body.loop_of[k]) for k in real):
            continue  # a loop that is still there does it on another line
        if real and not any(near(place, other) for other in chosen):
            texts = (
                f"no code is left for {lines_text([place])}: "
                "it has no effect, or its outcome is known",
                f"there is code for {lines_text([place])} that was not needed before",
            )
            yield view.reason(DEAD, texts, real, (), {place}, LIKELY)


_REAL = (*sorted(b.FLOAT), b.MUL, b.DIV)


_Stored = tuple[str, int, int]  # symbol, offset, bytes


def _stored(side: FunctionModel, k: int) -> _Stored:
    """Return what tells a store from others, whatever registers it uses."""
    memory = side.effects[k].memory or b.Memory()
    name = side.body.items[k].mnemonic.rpartition(" ")[2]
    size = side.body.arch.semantics.access_bytes(name, side.effects[k])
    return memory.symbol, memory.offset, size or 64  # of any size: it may be all of it


def _covered(one: _Stored, others: Sequence[_Stored]) -> bool:
    """Tell whether a store of the other side may write the same, alone or with its neighbours."""
    symbol, offset, _ = one
    return any(s == symbol and at <= offset < at + size for s, at, size in others)


RULES = (folded, untested)
LAST = (dead,)  # only where nothing else explains the line
