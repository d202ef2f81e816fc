"""PTX: typed mnemonics such as ``add.s32``."""

import re
from functools import lru_cache

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.records import NEVER, Semantics
from hot_anvil.core.arch.semantics import BOTH, DEFINE, USE, Effect, Memory, Role
from hot_anvil.core.arch.values import (
    computed,
    constants,
    no_scale,
    no_writeback,
    nothing_hard,
    plain_bytes,
)

_KIND = b.kind_table(
    {
        "load": r"ldu?", "store": "st", b.MOVE: "mov|cvta", b.CONVERT: "cvt", b.ADD: "addc?|sad",
        b.SUB: "subc?|neg|abs", b.MUL: "mul|mul24|mad|mad24|dp4a", b.DIV: "div|rem", b.FMA: "fma",
        b.FSQRT: "sqrt|rsqrt|rcp", b.MINMAX: "min|max", b.SHIFT: "sh[lr]|shf|bf[ei]",
        b.LOGIC: "and|or|xor|not|cnot|popc|clz|lop3|brev", b.COMPARE: "setp|testp", b.SET: "set",
        b.SELECT: "selp|slct", b.JUMP: "bra|brx", b.CALL: "call", b.RETURN: "ret|exit",
        b.ATOMIC: "atom|red", b.FENCE: "membar|fence|bar|barrier", b.TRAP: "trap",
        b.SHUFFLE: "shfl|prmt|vote", b.NOTHING: "nop",
    }
)  # fmt: skip
_TYPE = re.compile(r"\.([fsub])(\d+)$")


@lru_cache(maxsize=65536)
def effect(mnemonic: str, operands: tuple[str, ...]) -> Effect:
    """Return what an instruction does."""
    guard, _, name = mnemonic.rpartition(" ")
    parts = name.split(".")
    kind = _KIND(parts[0])
    typed = _TYPE.search(name)
    bits, element = (int(typed[2]), "f" if typed[1] == "f" else "i") if typed else (0, "")
    if element == "f":
        kind = {b.ADD: b.FADD, b.SUB: b.FADD, b.MUL: b.FMUL, b.DIV: b.FDIV}.get(kind, kind)
    last = operands[-1] if operands else ""
    if kind == b.JUMP and guard:
        return Effect(b.BRANCH, target=last)
    if kind in (b.JUMP, b.CALL):
        return Effect(kind, target=last)
    if kind in ("load", "store"):
        space = next((p for p in parts if p in ("param", "local", "global", "shared")), "")
        memory = Memory(symbol=last, segment=space)
        loads = kind == "load"
        return Effect(b.MOVE, bits, 1, element, memory=memory, loads=loads, stores=not loads)
    if kind == b.MUL and "hi" in parts:
        kind = b.MULHIGH
    immediate = b.number(last)
    if kind == b.MOVE and immediate is not None:
        kind = b.CONSTANT
    signed = {"s": "signed", "u": "unsigned"}.get(typed[1], "") if typed else ""
    condition = next((p for p in parts if p in ("eq", "ne", "lt", "le", "gt", "ge")), "")
    return Effect(kind, bits, 1, element, condition, immediate=immediate, signed=signed)


@lru_cache(maxsize=65536)
def roles(mnemonic: str, operands: tuple[str, ...]) -> tuple[Role, ...]:
    """Return what happens to the registers of each operand."""
    kind = effect(mnemonic, operands).kind
    if not operands or kind in (b.BRANCH, b.JUMP, b.CALL) or effect(mnemonic, operands).stores:
        return (USE,) * len(operands)
    return (BOTH if mnemonic.startswith("@") else DEFINE, *([USE] * (len(operands) - 1)))


SEMANTICS = Semantics(
    effect=effect,
    roles=roles,
    hard_writes=nothing_hard,
    zero=frozenset(),
    constant=constants(effect),
    computed=computed,
    scale=no_scale,
    writeback=no_writeback,
    access_bytes=plain_bytes,
    pairs=NEVER,
    carry=re.compile("addc|subc"),
    flag_selects=NEVER,
    scaled=NEVER,
    bit_tests=NEVER,
    narrow=False,
    atomic_names_tell=True,
)
