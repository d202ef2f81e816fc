"""PTX: typed mnemonics such as ``add.s32``."""

import re
from functools import lru_cache

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.semantics import BOTH, DEFINE, USE, Deed, Meaning, Memory

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
def deed(mnemonic: str, operands: tuple[str, ...]) -> Deed:
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
        return Deed(b.BRANCH, target=last)
    if kind in (b.JUMP, b.CALL):
        return Deed(kind, target=last)
    if kind in ("load", "store"):
        space = next((p for p in parts if p in ("param", "local", "global", "shared")), "")
        memory = Memory(symbol=last, segment=space)
        loads = kind == "load"
        return Deed(b.MOVE, bits, 1, element, memory=memory, loads=loads, stores=not loads)
    if kind == b.MUL and "hi" in parts:
        kind = b.MULHIGH
    immediate = b.number(last)
    if kind == b.MOVE and immediate is not None:
        kind = b.CONSTANT
    signed = {"s": "signed", "u": "unsigned"}.get(typed[1], "") if typed else ""
    condition = next((p for p in parts if p in ("eq", "ne", "lt", "le", "gt", "ge")), "")
    return Deed(kind, bits, 1, element, condition, immediate=immediate, signed=signed)


@lru_cache(maxsize=65536)
def roles(mnemonic: str, operands: tuple[str, ...]) -> tuple[str, ...]:
    """Return what happens to the registers of each operand."""
    kind = deed(mnemonic, operands).kind
    if not operands or kind in (b.BRANCH, b.JUMP, b.CALL) or deed(mnemonic, operands).stores:
        return (USE,) * len(operands)
    return (BOTH if mnemonic.startswith("@") else DEFINE, *([USE] * (len(operands) - 1)))


MEANING = Meaning(
    deed=deed,
    roles=roles,
    stack=frozenset(),
    frames=frozenset(),
    frame_setup=re.compile(r"(?!)"),
    clobbered=frozenset(),
    parameters=frozenset(),
    hard_writes=lambda mnemonic, operands: (),
)
