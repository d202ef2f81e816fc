"""What x86-64's integer instructions compute (Intel 64 manual, volume 2), in the common language.

Parity and the auxiliary carry are left out: compilers ask for them after float comparisons only.
"""

import re
from functools import lru_cache

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.operations import (
    NotEvaluableError,
    Steps,
    Writer,
    add,
    arithmetic_right,
    both,
    choose,
    const,
    either,
    invert,
    low,
    reg,
    sign,
    sub,
    xor,
)
from hot_anvil.core.arch.x86.arithmetic import (
    address,
    by_one,
    complement,
    divide,
    logic,
    move,
    multiply,
    negate,
    product,
    sums,
)
from hot_anvil.core.arch.x86.operands import (
    CONDITIONS,
    FLAGS,
    WIDTH,
    Operand,
    Register,
    Rule,
    operand_of,
    read,
    write,
)
from hot_anvil.core.arch.x86.shifting import (
    double_shift,
    exchange,
    one_bit,
    plain_shift,
    rotate,
    scan,
    shift_by,
    swap_bytes,
)

_QUIET = re.compile(r"nop\w*|endbr(?:64|32)|jmp\w*|prefetch\w*")


def _push(out: Writer, operands: list[Operand], width: int) -> None:
    value, size = out.hold(read(operands[0], width)), const(width // 8)
    out.set("sp", low(width, sub(reg("sp"), size)))
    out.store(width // 8, reg("sp"), value)


def _pop(out: Writer, operands: list[Operand], width: int) -> None:
    value, size = out.hold(("load", width // 8, reg("sp"))), const(width // 8)
    out.set("sp", low(width, add(reg("sp"), size)))
    write(out, operands[0], width, value)


_RULES: dict[str, Rule] = {
    "mov": move, "movabs": move, "movabsq": move, "lea": address,
    "add": sums(False), "sub": sums(True), "cmp": sums(True, False),
    "adc": sums(False, carries=True), "sbb": sums(True, carries=True),
    "and": logic(both), "or": logic(either), "xor": logic(xor), "test": logic(both, False),
    "andn": logic(lambda a, b: both(invert(a), b)),
    "not": complement, "neg": negate, "inc": by_one(False), "dec": by_one(True),
    "mul": lambda out, operands, width: product(out, operands[0], width, False),
    "imul": multiply, "div": divide("unsigned"), "idiv": divide("signed"),
    "shl": shift_by("left"), "sal": shift_by("left"), "shr": shift_by("right"),
    "sar": shift_by("arithmetic"), "rol": rotate(True), "ror": rotate(False),
    "rorx": rotate(False, False), "shld": double_shift(True), "shrd": double_shift(False),
    "shlx": plain_shift("left"), "shrx": plain_shift("right"),
    "sarx": plain_shift("arithmetic"), "bswap": swap_bytes, "xchg": exchange,
    "bt": one_bit(None), "bts": one_bit(either),
    "btr": one_bit(lambda a, m: both(a, invert(m))), "btc": one_bit(xor),
    "push": _push, "pop": _pop,
} | {name: scan(name) for name in ("bsf", "bsr", "tzcnt", "lzcnt", "popcnt")}  # fmt: skip


_WIDENED = {  # the accumulator, made wider
    "cdqe": ("ax", 64, sign(32, reg("ax"))), "cltq": ("ax", 64, sign(32, reg("ax"))),
    "cwde": ("ax", 32, sign(16, reg("ax"))), "cwtl": ("ax", 32, sign(16, reg("ax"))),
    "cqo": ("dx", 64, arithmetic_right(reg("ax"), const(63))),
    "cqto": ("dx", 64, arithmetic_right(reg("ax"), const(63))),
    "cdq": ("dx", 32, arithmetic_right(sign(32, reg("ax")), const(31))),
    "cltd": ("dx", 32, arithmetic_right(sign(32, reg("ax")), const(31))),
}  # fmt: skip


_EXTENDS = re.compile(r"mov([sz])([bwl])([wlq])")


_CONDITIONAL = re.compile(r"(set|cmov|j)(\w+?)")


@lru_cache(maxsize=1 << 16)
def operations(mnemonic: str, operands: tuple[str, ...], width: int = 64) -> Steps:
    """Return the steps of an instruction; raises NotEvaluableError for what has none."""
    out = Writer()
    if _QUIET.fullmatch(mnemonic):
        return ()
    if mnemonic in _WIDENED:
        name, bits, e = _WIDENED[mnemonic]
        out.set(name, low(bits, e))
        return tuple(out.steps)
    if mnemonic.startswith("j") and mnemonic[1:] in CONDITIONS:
        out.set(o.BRANCH, CONDITIONS[mnemonic[1:]])
        return tuple(out.steps)
    known = [operand_of(text) for text in operands]
    if not known:
        raise NotEvaluableError(mnemonic)
    _write_one(out, mnemonic, known)
    return tuple(out.steps)


def _write_one(out: Writer, mnemonic: str, known: list[Operand]) -> None:
    own = next((one.width for one in reversed(known) if isinstance(one, Register)), 0)
    extends = _EXTENDS.fullmatch(mnemonic)
    if extends and len(known) == 2:
        narrow, wide = WIDTH[extends[2]], WIDTH[extends[3]]
        value = read(known[0], narrow)
        write(out, known[1], wide, sign(narrow, value) if extends[1] == "s" else value)
        return
    if mnemonic.startswith("set") and mnemonic[3:] in CONDITIONS:
        write(out, known[0], 8, CONDITIONS[mnemonic[3:]])
        return
    if mnemonic.startswith("cmov"):
        code = mnemonic[4:] if mnemonic[4:] in CONDITIONS else mnemonic[4:-1]
        if code in CONDITIONS and own:
            old, new = read(known[1], own), read(known[0], own)
            write(out, known[1], own, choose(CONDITIONS[code], new, old))
            return
    rule, width = _RULES.get(mnemonic), own
    if rule is None and mnemonic[-1:] in WIDTH:
        rule, width = _RULES.get(mnemonic[:-1]), WIDTH[mnemonic[-1]]
    if rule is None or not width:
        raise NotEvaluableError(mnemonic)
    try:
        rule(out, known, width)
    except (IndexError, TypeError):
        raise NotEvaluableError(mnemonic) from None


EVALUATION = o.Evaluation(operations, (64,), FLAGS)
