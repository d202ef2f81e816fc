"""Memory: the stack frame, slots and registers, reloads, values that became known."""

from collections.abc import Iterator, Mapping, Sequence

from hot_anvil.core.meaning import base as b
from hot_anvil.core.reasons.base import LIKELY, Reason, Side, View, lines_text
from hot_anvil.core.reasons.guards import has_stack_guard
from hot_anvil.core.reasons.loops import copies_of

FRAME, KEPT, RELOADED, FOLDED, DEAD = (
    "stack frame gone", "value kept in a register", "value reloaded", "folded to a constant",
    "dead code gone",
)  # fmt: skip
_RESULTS = {"x86": "ax", "aarch64": "r0", "riscv": "a0", "arm": "r0", "avr": "r24", "msp430": "r12"}


def frame(view: View) -> Iterator[Reason]:
    """A stack frame, or a frame pointer, that ``b`` does without."""
    a, c = view.a, view.b
    mine, theirs = _frame(a), _frame(c)
    if mine and not theirs:
        texts = ("no stack frame is set up", "a stack frame is set up")
        yield view.reason(FRAME, texts, mine, theirs)
        return
    pointers = [len(side.body.frame_registers) for side in (a, c)]
    if pointers[0] > pointers[1]:
        texts = (
            "no frame pointer is set up: the register is free, slots go by the stack pointer",
            "a frame pointer is set up",
        )
        yield view.reason(FRAME, texts, _pointer(a), (), {a.places[k] for k in mine})


def _frame(side: Side) -> list[int]:
    """Return what moves the stack pointer, saves registers or sets up a frame pointer."""
    stack = side.body.meaning.stack
    return [
        k
        for k in sorted(side.saves)
        if side.deeds[k].kind in (b.PUSH, b.POP) or stack & side.written(k) or side.deeds[k].stores
        or side.body.meaning.frame_setup.match(side.body.texts[k])
    ]  # fmt: skip


def _pointer(side: Side) -> list[int]:
    return [k for k, t in enumerate(side.body.texts) if side.body.meaning.frame_setup.match(t)]


def kept(view: View) -> Iterator[Reason]:
    """Values that ``a`` keeps in stack slots and ``b`` in registers."""
    a, c = view.a, view.b
    before, after = len(a.slots), len(c.slots)
    if has_stack_guard(a) != has_stack_guard(c):
        return  # what it takes to check is no value of the source
    if not before or after > 0.6 * before:
        return
    places = {
        place
        for place, here in a.at.items()
        if len(a.slots & set(here)) > len(c.slots & set(c.at.get(place, ())))
    }
    few = f"{after} accesses of the stack instead of {before}"
    texts = (
        f"values are kept in registers instead of the stack: {few}",
        f"values are kept on the stack instead of registers: {before} accesses instead of {after}",
    )
    yield view.reason(KEPT, texts, a.slots, c.slots, places)


def reloaded(view: View) -> Iterator[Reason]:
    """Memory that ``b`` reads again, since something may have changed it, and ``a`` does not."""
    a, c = view.a, view.b
    told = set()
    for loop, found in view.loop_pairs.items():
        if len(found) != 1 or c.slots & set(c.own(found[0])):
            continue
        if c.packed(c.own(found[0])) or a.packed(a.own(loop)):
            continue
        mine, theirs = _every_pass(a, loop), _every_pass(c, found[0])
        if mine and copies_of(a, a.own(loop), c, c.own(found[0])) > 1:
            continue  # more passes at once, each with its loads
        new = [k for k in theirs if _address(c, k) not in {_address(a, j) for j in mine}] or theirs
        if len(theirs) > len(mine) and not a.slots & set(a.own(loop)):
            places = {c.places[k] for k in new}
            told |= places
            texts = (
                "a value is read from memory in every pass: a store in the loop may have changed it",
                "a value is kept in a register over the loop instead of being read in every pass",
            )
            yield view.reason(RELOADED, texts, mine, new, places)
    if a.slots or c.slots:
        return
    mine, theirs = _again(a), _again(c)
    fresh = [k for k in theirs if c.places[k] not in told]
    if len(fresh) > len(mine):
        texts = (
            "a value is read from memory again: a store or call between may have changed it",
            "a value is not read from memory again: nothing between can have changed it",
        )
        yield view.reason(RELOADED, texts, mine, fresh, {c.places[k] for k in fresh})


def _address(side: Side, k: int) -> tuple[str, str, str, int]:
    memory = side.deeds[k].memory or b.Memory()
    return memory.base, memory.indexed, memory.symbol, memory.offset


def _every_pass(side: Side, loop: int) -> list[int]:
    """Return the loads of a loop whose address is the same in every pass."""
    inside = side.inside(loop)
    if any(side.kinds[k] == b.CALL for k in inside):
        return []
    writers: dict[str, list[int]] = {}
    for k in inside:
        for register in side.written(k):
            writers.setdefault(register, []).append(k)
    out = []
    for k in side.loads(inside):
        memory = side.deeds[k].memory
        if memory and (memory.base or memory.symbol):
            used = [r for r in (memory.base, memory.indexed) if r]
            if all(_fixed(side, writers.get(r, []), k) for r in used):
                out.append(k)
    return out


def _fixed(side: Side, writers: Sequence[int], k: int) -> bool:
    """Tell whether a register holds the same at ``k`` in every pass."""
    if not writers:
        return True
    last = [w for w in writers if w < k][-1:]
    return all(
        side.kinds[w] in (b.ADDRESS, b.CONSTANT) and not side.read(w) for w in last or writers
    )


def _again(side: Side) -> list[int]:
    """Return loads, in straight code, of memory touched before with a store or call between."""
    out: list[int] = []
    every = range(len(side))
    if len(side.loads(every)) < 2 and not side.stores(every):
        return out
    known: dict[tuple[str, str, str, int], bool] = {}  # address -> written over since, perhaps
    block = -1
    for k, done in enumerate(side.deeds):
        if side.body.loop_of[k] >= 0:
            continue
        if side.body.block_of[k] != block:
            block, known = side.body.block_of[k], {}
        address = _address(side, k)
        touches = done.memory is not None and k not in side.saves and k not in side.slots
        if touches and done.loads and known.get(address):
            out.append(k)
        if done.kind == b.CALL or (touches and done.stores):
            for other in known:
                known[other] = known[other] or other != address
        if touches:
            known[address] = False
        written = side.written(k)
        known = {where: may for where, may in known.items() if not {where[0], where[1]} & written}
    return out


def folded(view: View) -> Iterator[Reason]:
    """A result that ``a`` computes and ``b`` knows."""
    a, c = view.a, view.b
    value = None if has_stack_guard(a) else _only_result(c)
    if value is not None and _only_result(a) is None and _work(a, range(len(a))):
        wanted = _work(a, range(len(a)))
        if value:
            texts = (
                f"the function returns {value}: all it computed is known",
                "the function computes what was known before",
            )
            yield view.reason(FOLDED, texts, wanted, c.of((b.CONSTANT,)), set(view.lines))
        elif not a.loops:
            texts = (
                "nothing of the function is left: it has no effect",
                "the function has an effect",
            )
            yield view.reason(DEAD, texts, wanted, (), set(view.lines))
        return
    if len(c.of((b.BRANCH,))) > len(a.of((b.BRANCH,))):
        return  # a constant for each way is no result that became known
    known = {done.immediate for done in a.deeds if done.immediate is not None}
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
    called = {name for _, name in a.calls}
    for place in view.lines:
        here, there = a.at.get(place, []), c.at.get(place, [])
        made = [
            k for k in c.of((b.CONSTANT,), there)
            if c.deeds[k].immediate not in known | {None, 0} and not c.deeds[k].width
        ]  # fmt: skip
        calls = {name for k, name in c.calls if c.places[k] == place}
        loads = c.loads(there)
        if not made or not {c.kinds[k] for k in there} <= quiet or not calls <= called or loads:
            continue
        if not (_work(a, here) or a.slots & set(here)) or not _fewer(view):
            continue
        if _pieces(a, here, [c.deeds[k].immediate for k in made]):
            continue
        numbers = ", ".join(str(c.deeds[k].immediate) for k in made)
        texts = (
            f"computed while compiling: {numbers}",
            "computed when it runs, not while compiling",
        )
        yield view.reason(FOLDED, texts, _work(a, here) or here, made, {place})


def _pieces(side: Side, here: Sequence[int], values: Sequence[int | None]) -> bool:
    """Tell whether the values are only parts, or other spellings, of constants at this line."""
    mine = [side.deeds[k].immediate for k in here]
    wide = [value for value in mine if value is not None]
    return bool(wide) and all(
        value is not None and any(value in (v & 0xFF, v >> 8 & 0xFF, v & 0xFFFF, -v) for v in wide)
        for value in values
    )


def _fewer(view: View) -> bool:
    """Tell whether ``b`` computes less than ``a`` over the whole function."""
    a, c = view.a, view.b
    return len(_work(c, range(len(c)))) < len(_work(a, range(len(a))))


def _work(side: Side, among: Sequence[int]) -> list[int]:
    kinds = b.ARITHMETIC | {b.CALL, b.BRANCH, b.SET, b.SELECT, b.CONVERT, b.SKIP}
    found = [k for k in side.of(kinds, among) if k not in side.saves]
    return found + [k for k in side.of((b.JUMP,), among) if side.body.leaves(k)]


def _only_result(side: Side) -> str | None:
    """Return what a function that computes nothing returns, "" for nothing; None for others."""
    if not len(side) or side.slots:
        return None
    quiet = {b.CONSTANT, b.RETURN, b.LANDING, b.NOTHING, b.MOVE, b.ADD}
    rest = [k for k in range(len(side)) if k not in side.saves]
    if not {side.kinds[k] for k in rest} <= quiet or side.stores(rest):
        return None
    goal = _RESULTS.get(side.body.isa, "")
    known: dict[str, int] = {}  # register -> value
    said = ""
    for k in rest:
        done = side.deeds[k]
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
    if side.body.isa == "avr" and "r25" in known and not {"r22", "r23"} & known.keys():
        value = known.get(goal, 0) & 0xFF | (known["r25"] & 0xFF) << 8
        return str(value - 0x10000 if value & 0x8000 else value)
    return str(known[goal]) if goal in known else said


def _constant(side: Side, k: int, known: Mapping[str, int]) -> int | None:
    """Return the value that an instruction makes of constants alone, None for others."""
    done = side.deeds[k]
    value = done.immediate or 0
    name = side.body.items[k].mnemonic
    if done.kind == b.ADD:
        sources = [known.get(register) for register in side.read(k)]
        return None if len(sources) != 1 or sources[0] is None else sources[0] + value
    if name == "lui":
        return value << 12
    if name == "movk" and "lsl" in side.body.texts[k]:
        before = known.get(next(iter(side.written(k)), ""), 0)
        parts = side.body.items[k].operands
        low, shift = b.number(parts[1]), b.number(parts[2].partition("lsl")[2].strip())
        return None if low is None or shift is None else before | low << shift
    return value


def dead(view: View) -> Iterator[Reason]:
    """A line of ``a`` that does real work and has no code at all in ``b``."""
    a, c = view.a, view.b
    if not len(c):
        return
    if view.world.other_functions:
        return  # lines of two functions that are not matched say nothing
    for place, here in a.at.items():
        if c.at.get(place) or place.line <= 0 or place.old:
            continue
        if view.states.get(place) != ("gone" if view.forward else "new"):
            continue
        kinds = b.FLOAT | {b.MUL, b.DIV, b.BRANCH, b.SET, b.SELECT}
        real = [k for k in [*a.of(kinds, here), *a.stores(here)] if k not in a.saves]
        real = real or [
            k for k in a.of(b.ARITHMETIC, here) if a.body.loop_of[k] < 0 and k not in a.saves
        ]
        if any(view.loop_pairs.get(a.body.loop_of[k]) for k in real):
            continue  # a loop that is still there does it on another line
        if real:
            texts = (
                f"no code is left for {lines_text([place])}: it has no effect, or its outcome is known",
                f"there is code for {lines_text([place])} that was not needed before",
            )
            yield view.reason(DEAD, texts, real, (), {place}, LIKELY)


RULES = (frame, kept, reloaded, folded)
LAST = (dead,)  # only where nothing else explains the line
