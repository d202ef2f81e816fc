"""What RISC-V's integer instructions compute (unprivileged manual 20191213, I and M), 32 or 64 bit.

Values are kept zero-extended: a register of 32 bits has nothing above them.
"""

import re
from collections.abc import Callable
from functools import lru_cache

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.operations import (
    Expr,
    NotEvaluableError,
    Steps,
    Writer,
    add,
    arithmetic_right,
    below,
    both,
    const,
    either,
    equal,
    invert,
    is_zero,
    left,
    less,
    low,
    mul,
    opposite,
    reg,
    right,
    sign,
    sub,
    xor,
)
from hot_anvil.core.arch.riscv.syntax import family_of

_Two = Callable[[Expr, Expr, int], Expr]


def _division(kind: str) -> _Two:
    zero = -1 if kind.startswith("quotient") else 0
    return lambda a, b, width: ("quotient", kind, width, zero, a, b)


def _counted(shift: Callable[[Expr, Expr], Expr], signed: bool = False) -> _Two:
    def made(a: Expr, b: Expr, width: int) -> Expr:
        return shift(sign(width, a) if signed else a, both(b, const(width - 1)))

    return made


def _high(a: Expr, b: Expr, width: int, signed: tuple[bool, bool]) -> Expr:
    if width == 64:
        kind = {(True, True): "signed", (False, False): "unsigned"}.get(signed, "mixed")
        return (f"high {kind}", a, b)
    wide = [sign(width, e) if s else e for e, s in zip((a, b), signed, strict=True)]
    return right(mul(*wide), const(width))


def _less(a: Expr, b: Expr, width: int) -> Expr:
    return less(sign(width, a), sign(width, b))


_OF_TWO: dict[str, _Two] = {
    "add": lambda a, b, _: add(a, b), "sub": lambda a, b, _: sub(a, b),
    "and": lambda a, b, _: both(a, b), "or": lambda a, b, _: either(a, b),
    "xor": lambda a, b, _: xor(a, b), "sltu": lambda a, b, _: below(a, b), "slt": _less,
    "sll": _counted(left), "srl": _counted(right), "sra": _counted(arithmetic_right, True),
    "mul": lambda a, b, _: mul(a, b), "mulhu": lambda a, b, w: _high(a, b, w, (False, False)),
    "mulh": lambda a, b, w: _high(a, b, w, (True, True)),
    "mulhsu": lambda a, b, w: _high(a, b, w, (True, False)),
    "div": _division("quotient signed"), "divu": _division("quotient unsigned"),
    "rem": _division("remainder signed"), "remu": _division("remainder unsigned"),
    "andn": lambda a, b, _: both(a, invert(b)), "orn": lambda a, b, _: either(a, invert(b)),
    "xnor": lambda a, b, _: invert(xor(a, b)),
    "sgt": lambda a, b, w: _less(b, a, w), "sgtu": lambda a, b, _: below(b, a),
} | {f"sh{n}add": lambda a, b, _, n=n: add(left(a, const(n)), b) for n in (1, 2, 3)}  # fmt: skip
_IN_WORDS = ("add", "sub", "sll", "srl", "sra", "mul", "div", "divu", "rem", "remu")
_OF_ONE: dict[str, Callable[[Expr, int], Expr]] = {
    "mv": lambda a, _: a, "neg": lambda a, _: sub(const(0), a), "not": lambda a, _: invert(a),
    "seqz": lambda a, _: is_zero(a), "snez": lambda a, _: below(const(0), a),
    "sltz": lambda a, w: less(sign(w, a), const(0)),
    "sgtz": lambda a, w: less(const(0), sign(w, a)),
    "sext.w": lambda a, _: sign(32, a), "negw": lambda a, _: sign(32, sub(const(0), a)),
    "sext.b": lambda a, _: sign(8, a), "sext.h": lambda a, _: sign(16, a),
    "zext.b": lambda a, _: low(8, a), "zext.h": lambda a, _: low(16, a),
    "zext.w": lambda a, _: low(32, a),
}  # fmt: skip
_TESTS: dict[str, Callable[[Expr, Expr, int], Expr]] = {
    "eq": lambda a, b, _: equal(a, b), "ltu": lambda a, b, _: below(a, b), "lt": _less,
    "gtu": lambda a, b, _: below(b, a), "gt": lambda a, b, w: _less(b, a, w),
    "ne": lambda a, b, _: opposite(equal(a, b)), "geu": lambda a, b, _: opposite(below(a, b)),
    "ge": lambda a, b, w: opposite(_less(a, b, w)), "leu": lambda a, b, _: opposite(below(b, a)),
    "le": lambda a, b, w: opposite(_less(b, a, w)),
}  # fmt: skip
_ACCESS = re.compile(r"([ls])([bhwd])(u?)")
_BYTES = {"b": 1, "h": 2, "w": 4, "d": 8}
_AT = re.compile(r"(.*)\((\w+)\)")
_HALF = re.compile(r"%(hi|lo|pcrel_hi|pcrel_lo)\((.+)\)")


def _value(text: str, width: int) -> Expr:
    if text == "zero":
        return const(0)
    if re.fullmatch(r"(?:ra|sp|gp|tp|fp|[ast]\d+)", text):
        return reg(family_of(text)[0])
    return const(_number(text, width))


def _number(text: str, width: int) -> int:
    """Return a constant, cut to the width; halves of a symbol's address add up to it."""
    half = _HALF.fullmatch(text)
    mask = (1 << width) - 1
    if half is None:
        return o.place(text, 32) & mask  # "lui" makes all of a symbol's address
    at = o.place(half[2], 32)
    if half[1].endswith("hi"):
        return (at + 0x800) >> 12
    part = at & 0xFFF
    return (part - 0x1000 if part & 0x800 else part) & mask


@lru_cache(maxsize=1 << 16)
def operations(mnemonic: str, operands: tuple[str, ...], width: int = 64) -> Steps:
    """Return the steps of an instruction; raises NotEvaluableError for what has none."""
    out = Writer()
    if mnemonic in ("nop", "j", "c.nop"):
        return ()
    try:
        _write_one(out, mnemonic.removeprefix("c."), operands, width)
    except (KeyError, IndexError, ValueError):
        raise NotEvaluableError(mnemonic) from None
    return tuple(out.steps)


def _write_one(out: Writer, mnemonic: str, operands: tuple[str, ...], width: int) -> None:
    if mnemonic[0] == "b" and mnemonic[1:].removesuffix("z") in _TESTS:
        test = _TESTS[mnemonic[1:].removesuffix("z")]
        other = "zero" if mnemonic.endswith("z") else operands[1]
        out.set(o.BRANCH, test(_value(operands[0], width), _value(other, width), width))
        return
    access = _ACCESS.fullmatch(mnemonic)
    if access:
        _access(out, access, operands, width)
        return
    goal = family_of(operands[0])[0]
    e = _result(mnemonic, operands, width)
    if goal != "zero":
        out.set(goal, low(width, e))


def _access(out: Writer, access: re.Match[str], operands: tuple[str, ...], width: int) -> None:
    found = _AT.fullmatch(operands[1])
    if not found:
        at: Expr = const(o.place(operands[1], 32))
    else:
        by = const(_number(found[1], width)) if found[1] else const(0)
        at = low(width, add(_value(found[2], width), by))
    count = _BYTES[access[2]]
    if access[1] == "s":
        out.store(count, at, _value(operands[0], width))
        return
    e: Expr = ("load", count, at)
    goal = family_of(operands[0])[0]
    if goal != "zero":
        out.set(goal, low(width, e if access[3] else sign(8 * count, e)))


def _result(mnemonic: str, operands: tuple[str, ...], width: int) -> Expr:
    if mnemonic in ("li", "la", "lla"):
        return const(_number(operands[1], width))
    if mnemonic in ("lui", "auipc"):
        if mnemonic == "auipc" and not operands[1].startswith("%"):
            raise NotEvaluableError(mnemonic)
        return sign(32, left(const(_number(operands[1], 32)), const(12)))
    if mnemonic in _OF_ONE:
        return _OF_ONE[mnemonic](_value(operands[1], width), width)
    a, b = (_value(text, width) for text in operands[1:3])
    plain = mnemonic if mnemonic in _OF_TWO else "sltu" if mnemonic == "sltiu" else mnemonic
    if plain not in _OF_TWO:
        plain = re.sub(r"i(w?)$", r"\1", plain)
    if plain.endswith("w") and plain[:-1] in _IN_WORDS:
        made = _OF_TWO[plain[:-1]](low(32, a), low(32, b), 32)
        return sign(32, made)
    return _OF_TWO[plain](a, b, width)


EVALUATION = o.Evaluation(operations, (64, 32), ())
