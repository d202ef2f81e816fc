"""Functions that do nothing, or nothing but return a constant."""

import re
import struct

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.values import joined
from hot_anvil.core.asm.constants import bytes_of
from hot_anvil.core.facts.records import ALL, Fact
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.function import FunctionModel

_VOID = re.compile(r"\bvoid\s+(?:\w+\s+)*(?:\w+::)*$")
_FLOATS = {32: ("<f", 4), 64: ("<d", 8)}


def outcome_facts(side: FunctionModel) -> list[Fact]:
    """Return whether a function is empty, and the constant that is all it returns."""
    neither = [Fact("empty", False), Fact("constant", None, (), "-")]
    work = _work(side)
    known = _evaluate(side, work) if work is not None else None
    if work is None or known is None:
        return neither
    setting = tuple(k for k in work if side.written(k) & side.body.arch.abi.results)
    if not setting:
        return [Fact("empty", True, ALL), Fact("constant", None, (), "-")]
    value = _result(side, known)
    if value is None:
        return neither
    return [Fact("empty", False), Fact("constant", value, setting, str(value))]


def _work(side: FunctionModel) -> list[int] | None:
    """Return what a function does in one straight line to its return; None if it is not one."""
    body = side.body
    if not len(side) or b.BRANCH in side.by_kind or b.ATOMIC in side.by_kind:
        return None
    if not body.arch.abi.results:
        return None
    out: list[int] = []
    block, seen = 0, set()
    bounds = body.bounds
    while block not in seen:
        seen.add(block)
        for k in range(bounds[block], bounds[block + 1]):
            kind = side.effects[k].kind
            if kind == b.RETURN:
                return out
            if kind in (b.CALL, b.BRANCH, b.TRAP, b.ATOMIC, b.SKIP) or body.items[k].inline_asm:
                return None
            own = k in side.saves or kind in (b.LANDING, b.NOTHING, b.JUMP)
            if not own:
                out.append(k)
        if len(body.next_blocks[block]) != 1:
            return None
        block = body.next_blocks[block][0]
    return None


def _evaluate(side: FunctionModel, work: list[int]) -> dict[str, int | str] | None:
    """Return what registers hold after constant instructions; None if there are others."""
    known: dict[str, int | str] = {}
    for k in work:
        done = side.effects[k]
        written = sorted(side.written(k))
        if done.stores and side.on_stack(k):
            continue  # a parameter put where nothing reads it
        if done.stores or (done.loads and side.on_stack(k)) or len(written) != 1:
            return None
        value = _value(side, k, known)
        if value is None:
            return None
        known[written[0]] = value
    return known


def _value(side: FunctionModel, k: int, known: dict[str, int | str]) -> int | str | None:
    done, item = side.effects[k], side.body.items[k]
    semantics = side.body.arch.semantics
    if done.loads:  # by itself: what also computes takes in more than the constant
        return _from_memory(side.body, k) if done.kind == b.MOVE else None
    if done.kind == b.CONSTANT:
        before = known.get(min(side.written(k)), 0)
        before = before if isinstance(before, int) else 0
        return semantics.constant(item.mnemonic, item.operands, before)
    if done.kind in (b.MOVE, b.EXTEND, b.CONVERT, b.ADD, b.LOGIC, b.SHIFT, b.SUB):
        read = sorted(side.read(k))
        if len(read) == 1 and read[0] in semantics.zero and done.kind == b.MOVE:
            return 0
        if done.kind in (b.MOVE, b.EXTEND) and len(read) == 1:
            return known.get(read[0])
        own = known.get(read[0]) if len(read) == 1 else None
        by = done.immediate
        if isinstance(own, int) and by is not None:
            return semantics.computed(done.kind, item.mnemonic, own, by)
    return None


def _from_memory(body: Body, k: int) -> str | None:
    """Return the float constant that an instruction loads, as text; None for another load."""
    done = body.effects[k]
    symbol = done.memory.symbol if done.memory else ""
    label = next(iter(re.findall(r"[.$]L[\w.$]+", symbol)), "")
    directives = body.constants.get(label, "")
    if not directives or done.element != "f" or done.bits not in _FLOATS:
        return None
    form, size = _FLOATS[done.bits]
    data = bytes_of(directives)
    return repr(struct.unpack(form, data[:size])[0]) if len(data) >= size else None


def _result(side: FunctionModel, known: dict[str, int | str]) -> int | str | None:
    abi = side.body.arch.abi
    if not abi.wide_results:
        own = [known[family] for family in sorted(abi.results) if family in known]
        return own[0] if own else None
    families = next((f for f in abi.wide_results if f[0] in known), abi.wide_results[-1])
    return joined(known, families)


def is_void(text: str, name: str) -> bool:
    """Tell whether a source line declares a function that returns nothing."""
    before, found, _ = text.partition(f"{name}(")
    return bool(found) and bool(_VOID.search(before))
