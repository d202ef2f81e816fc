"""What x86-64's integer instructions compute (Intel 64 manual, volume 2), in the common language.

Parity and the auxiliary carry are left out: compilers ask for them after float comparisons only.
"""

import re
from collections.abc import Callable
from functools import lru_cache

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.operations import (
    UNDEFINED_BIT,
    Expr,
    NotEvaluableError,
    Steps,
    Writer,
    add,
    arithmetic_right,
    below,
    bit,
    both,
    choose,
    const,
    either,
    equal,
    invert,
    is_zero,
    left,
    low,
    mul,
    opposite,
    reg,
    right,
    sign,
    sub,
    xor,
)
from hot_anvil.core.arch.x86.registers import family_of

FLAGS = ("CF", "ZF", "SF", "OF")
_CF, _ZF, _SF, _OF = map(reg, FLAGS)
_WIDTH = {"b": 8, "w": 16, "l": 32, "q": 64}
_VIEW = {"r": 64, "e": 32, "w": 16, "b": 8, "h": 8}
_CONDITIONS = {
    "o": _OF, "b": _CF, "e": _ZF, "be": either(_CF, _ZF), "s": _SF, "l": xor(_SF, _OF),
    "le": either(_ZF, xor(_SF, _OF)),
}  # fmt: skip
_OTHER_NAMES = (
    ("c", "b"), ("nae", "b"), ("z", "e"), ("na", "be"), ("nge", "l"), ("ng", "le"),
)  # fmt: skip
_CONDITIONS |= {name: _CONDITIONS[other] for name, other in _OTHER_NAMES}
_CONDITIONS |= {
    n: opposite(_CONDITIONS[m])
    for n, m in (
        ("no", "o"), ("nb", "b"), ("ae", "b"), ("nc", "b"), ("ne", "e"), ("nz", "e"),
        ("nbe", "be"), ("a", "be"), ("ns", "s"), ("nl", "l"), ("ge", "l"), ("nle", "le"),
        ("g", "le"),
    )
}  # fmt: skip
_MEMORY = re.compile(r"([^(]*)(?:\((%\w+)?(?:, ?(%\w+))?(?:, ?(\d))?\))?")
_QUIET = re.compile(r"nop\w*|endbr(?:64|32)|jmp\w*|prefetch\w*")


class _Register:
    """A register operand."""

    def __init__(self, text: str) -> None:
        self.family, view = family_of(text)
        if view not in _VIEW:
            raise NotEvaluableError(text)
        self.width = _VIEW[view]
        self.high = view == "h"


class _Place:
    """A memory operand."""

    width = 0

    def __init__(self, text: str) -> None:
        found = _MEMORY.fullmatch(text)
        if not found or ":" in text or text[0] == "*":
            raise NotEvaluableError(text)
        displacement, base, index, scale = found.groups()
        at = const(o.place(displacement)) if displacement else const(0)
        views = set()
        for name, factor in ((base, 1), (index, int(scale or 1))):
            if not name or name == "%rip":
                continue
            family, view = family_of(name)
            views.add(view)
            at = add(at, mul(reg(family), const(factor)) if factor > 1 else reg(family))
        if not views <= {"r", "e"}:
            raise NotEvaluableError(text)
        self.at = low(32, at) if "e" in views else at


class _Number:
    """An immediate operand."""

    width = 0

    def __init__(self, text: str) -> None:
        self.value = o.place(text)


_Operand = _Register | _Place | _Number


def _operand(text: str) -> _Operand:
    if text[:1] == "$":
        return _Number(text[1:])
    if text[:1] == "%":
        return _Register(text)
    return _Place(text)


def _read(one: _Operand, width: int) -> Expr:
    if isinstance(one, _Number):
        return const(one.value & ((1 << width) - 1))
    if isinstance(one, _Place):
        return ("load", width // 8, one.at)
    value = reg(one.family)
    return low(8, right(value, const(8))) if one.high else low(width, value)


def _write(out: Writer, one: _Operand, width: int, value: Expr) -> None:
    """Write a result; 32 bits clear the upper half of a register, 8 and 16 keep the rest."""
    if isinstance(one, _Place):
        out.store(width // 8, one.at, value)
    elif isinstance(one, _Register):
        if width >= 32:
            out.set(one.family, low(width, value))
            return
        shift = 8 if one.high else 0
        mask = ((1 << width) - 1) << shift
        part = left(low(width, value), const(shift)) if shift else low(width, value)
        out.set(one.family, either(both(reg(one.family), const(~mask)), part))


def _zero_and_sign(result: Expr, width: int) -> dict[str, Expr]:
    return {"ZF": is_zero(result), "SF": bit(result, width - 1)}


def _sum(
    out: Writer, a: Expr, b: Expr, width: int, minus: bool, carry: Expr | None = None,
    sets_carry: bool = True,
) -> Expr:  # fmt: skip
    """Return a sum or difference, its flags set."""
    whole = sub(a, b) if minus else add(a, b)
    if carry:
        whole = sub(whole, carry) if minus else add(whole, carry)
    result = out.hold(low(width, whole))
    over = (o.overflow_of_sub if minus else o.overflow_of_add)(a, b, result, width)
    flags = {"OF": over, **_zero_and_sign(result, width)}
    if sets_carry:
        flags["CF"] = (o.borrow_of_sub if minus else o.carry_of_add)(a, b, result, width)
    out.flags(**flags)
    return result


_Rule = Callable[[Writer, list[_Operand], int], None]


def _two(minus: bool, stores: bool = True, carries: bool = False) -> _Rule:
    def rule(out: Writer, operands: list[_Operand], width: int) -> None:
        a, b = out.hold(_read(operands[1], width)), out.hold(_read(operands[0], width))
        result = _sum(out, a, b, width, minus, out.hold(_CF) if carries else None)
        if stores:
            _write(out, operands[1], width, result)

    return rule


def _logic(combine: Callable[[Expr, Expr], Expr], stores: bool = True) -> _Rule:
    def rule(out: Writer, operands: list[_Operand], width: int) -> None:
        goal, first = operands[-1], operands[1]  # the same one where there are two
        result = out.hold(low(width, combine(_read(first, width), _read(operands[0], width))))
        out.flags(CF=const(0), OF=const(0), **_zero_and_sign(result, width))
        if stores:
            _write(out, goal, width, result)

    return rule


def _move(out: Writer, operands: list[_Operand], width: int) -> None:
    _write(out, operands[1], width, _read(operands[0], width))


def _address(out: Writer, operands: list[_Operand], width: int) -> None:
    if not isinstance(operands[0], _Place):
        raise NotEvaluableError("lea")
    _write(out, operands[1], width, operands[0].at)


def _invert(out: Writer, operands: list[_Operand], width: int) -> None:
    _write(out, operands[0], width, invert(_read(operands[0], width)))


def _negate(out: Writer, operands: list[_Operand], width: int) -> None:
    value = out.hold(_read(operands[0], width))
    _write(out, operands[0], width, _sum(out, const(0), value, width, True))


def _by_one(minus: bool) -> _Rule:
    def rule(out: Writer, operands: list[_Operand], width: int) -> None:
        value = out.hold(_read(operands[0], width))
        result = _sum(out, value, const(1), width, minus, sets_carry=False)
        _write(out, operands[0], width, result)

    return rule


def _product(out: Writer, factor: _Operand, width: int, signed: bool) -> None:
    """Multiply the accumulator: the result has twice the width."""
    a, b = out.hold(low(width, reg("ax"))), out.hold(_read(factor, width))
    wide = (lambda e: sign(width, e)) if signed else (lambda e: e)
    lower = out.hold(mul(wide(a), wide(b)))
    kind = "high signed" if signed else "high unsigned"
    upper = out.hold((kind, a, b) if width == 64 else low(width, right(lower, const(width))))
    if width == 8:
        _write(out, _Register("%ax"), 16, lower)
    else:
        _write(out, _Register("%rax"), max(width, 16) if width == 16 else width, lower)
        _write(out, _Register("%rdx"), width, upper)
    filled = low(width, arithmetic_right(sign(width, lower), const(63))) if signed else const(0)
    big = opposite(equal(upper, filled))
    out.flags(CF=big, OF=big, ZF=UNDEFINED_BIT, SF=UNDEFINED_BIT)


def _multiply(out: Writer, operands: list[_Operand], width: int) -> None:
    if len(operands) == 1:
        _product(out, operands[0], width, True)
        return
    source = operands[0] if len(operands) == 3 else operands[1]
    a, b = (out.hold(sign(width, _read(one, width))) for one in (operands[-2], source))
    result = out.hold(mul(a, b))
    if width == 64:
        fits = equal(("high signed", a, b), arithmetic_right(result, const(63)))
    else:
        fits = equal(sign(width, result), result)
    out.flags(CF=opposite(fits), OF=opposite(fits), ZF=UNDEFINED_BIT, SF=UNDEFINED_BIT)
    _write(out, operands[-1], width, result)


def _divide(signed: str) -> _Rule:
    def rule(out: Writer, operands: list[_Operand], width: int) -> None:
        by, ax = out.hold(_read(operands[0], width)), reg("ax")
        if width == 8:
            high, lower = low(8, right(ax, const(8))), low(8, ax)
        else:
            high, lower = low(width, reg("dx")), low(width, ax)
        quotient, rest, fault = (
            out.hold(("divided", f"{what} {signed}", width, high, lower, by))
            for what in ("quotient", "remainder", "fault")
        )
        out.fault(fault)
        if width == 8:
            _write(out, _Register("%ax"), 16, either(quotient, left(rest, const(8))))
        else:
            _write(out, _Register("%rax"), width, quotient)
            _write(out, _Register("%rdx"), width, rest)
        out.flags(**dict.fromkeys(FLAGS, UNDEFINED_BIT))

    return rule


def _count(out: Writer, operands: list[_Operand], width: int) -> Expr:
    given = _read(operands[0], 8) if len(operands) > 1 else const(1)
    return out.hold(both(given, const(63 if width == 64 else 31)))


def _as_counted(n: Expr, none: Expr, flags: dict[str, Expr]) -> dict[str, Expr]:
    """Return flags after ``n`` steps: as before them if ``none``, OF known after one only."""
    once = {**flags, "OF": choose(equal(n, const(1)), flags["OF"], UNDEFINED_BIT)}
    return {f: choose(none, reg(f), e) for f, e in once.items()}


def _shift(kind: str) -> _Rule:
    def rule(out: Writer, operands: list[_Operand], width: int) -> None:
        n, a = _count(out, operands, width), out.hold(_read(operands[-1], width))
        none, less, top = out.hold(is_zero(n)), sub(n, const(1)), const(width - 1)
        wide = sign(width, a)
        if kind == "left":
            result = out.hold(low(width, left(a, n)))
            last = bit(right(left(a, less), top), 0)
            over = xor(right(result, top), last)
        elif kind == "right":
            result = out.hold(low(width, right(a, n)))
            last = bit(right(a, less), 0)
            over = right(a, top)
        else:
            result = out.hold(low(width, arithmetic_right(wide, n)))
            last = bit(arithmetic_right(wide, less), 0)
            over = const(0)
        if width < 32 and kind != "arithmetic":
            last = choose(below(const(width), n), UNDEFINED_BIT, last)
        flags = {"CF": last, "OF": over, **_zero_and_sign(result, width)}
        out.flags(**_as_counted(n, none, flags))
        _write(out, operands[-1], width, result)

    return rule


def _rotate(leftwards: bool, flags: bool = True) -> _Rule:
    def rule(out: Writer, operands: list[_Operand], width: int) -> None:
        n = _count(out, operands, width)
        a = out.hold(_read(operands[-1] if flags else operands[-2], width))
        by = out.hold(both(n, const(width - 1)))
        other = both(sub(const(width), by), const(width - 1))
        up, down = (by, other) if leftwards else (other, by)
        result = out.hold(low(width, either(left(a, up), right(a, down))))
        if flags:
            none, top = is_zero(n), bit(result, width - 1)
            carry = bit(result, 0) if leftwards else top
            over = xor(top, bit(result, 0) if leftwards else bit(result, width - 2))
            out.flags(**_as_counted(n, none, {"CF": carry, "OF": over}))
        _write(out, operands[-1], width, result)

    return rule


def _double_shift(leftwards: bool) -> _Rule:
    def rule(out: Writer, operands: list[_Operand], width: int) -> None:
        if width == 16:
            raise NotEvaluableError("a double shift of 16 bits")
        given = operands if len(operands) == 3 else [_Register("%cl"), *operands]
        n = _count(out, given, width)
        a, b = out.hold(_read(given[-1], width)), out.hold(_read(given[-2], width))
        rest = sub(const(width), n)
        joined = (
            either(left(a, n), right(b, rest)) if leftwards else either(right(a, n), left(b, rest))
        )
        none = out.hold(is_zero(n))
        result = out.hold(choose(none, a, low(width, joined)))
        last = bit(right(a, rest if leftwards else sub(n, const(1))), 0)
        over = right(xor(a, result), const(width - 1))
        flags = {"CF": last, "OF": over, **_zero_and_sign(result, width)}
        out.flags(**_as_counted(n, none, flags))
        _write(out, given[-1], width, result)

    return rule


def _plain_shift(kind: str) -> _Rule:
    def rule(out: Writer, operands: list[_Operand], width: int) -> None:
        n, a = both(_read(operands[0], width), const(width - 1)), _read(operands[1], width)
        made = {
            "left": left(a, n), "right": right(a, n),
            "arithmetic": arithmetic_right(sign(width, a), n),
        }[kind]  # fmt: skip
        _write(out, operands[2], width, made)

    return rule


def _swap_bytes(out: Writer, operands: list[_Operand], width: int) -> None:
    turned = ("reversed bytes", _read(operands[0], width))
    _write(out, operands[0], width, right(turned, const(64 - width)))


def _exchange(out: Writer, operands: list[_Operand], width: int) -> None:
    a, b = out.hold(_read(operands[0], width)), out.hold(_read(operands[1], width))
    _write(out, operands[0], width, b)
    _write(out, operands[1], width, a)


def _one_bit(change: Callable[[Expr, Expr], Expr] | None) -> _Rule:
    def rule(out: Writer, operands: list[_Operand], width: int) -> None:
        if isinstance(operands[1], _Place) and isinstance(operands[0], _Register):
            raise NotEvaluableError("bits of a string in memory")
        n = out.hold(both(_read(operands[0], width), const(width - 1)))
        a = out.hold(_read(operands[1], width))
        out.flags(CF=bit(right(a, n), 0), SF=UNDEFINED_BIT, OF=UNDEFINED_BIT)
        if change:
            _write(out, operands[1], width, change(a, left(const(1), n)))

    return rule


def _scan(kind: str) -> _Rule:
    def rule(out: Writer, operands: list[_Operand], width: int) -> None:
        a = out.hold(_read(operands[0], width))
        none = is_zero(a)
        above = either(a, left(const(1), const(width))) if width < 64 else a
        below_it = ("trailing zeros", above)
        over_it = sub(("leading zeros", a), const(64 - width))
        unknown = low(width, ("undefined",))
        result = out.hold(
            {
                "bsf": choose(none, unknown, below_it),
                "bsr": choose(none, unknown, sub(const(width - 1), over_it)),
                "tzcnt": below_it,
                "lzcnt": over_it,
                "popcnt": ("ones", a),
            }[kind]
        )
        u = UNDEFINED_BIT
        if kind[0] == "b":
            out.flags(ZF=none, CF=u, SF=u, OF=u)
        elif kind[0] == "p":
            out.flags(ZF=none, CF=const(0), SF=const(0), OF=const(0))
        else:
            out.flags(CF=none, ZF=is_zero(result), SF=u, OF=u)
        _write(out, operands[1], width, result)

    return rule


def _push(out: Writer, operands: list[_Operand], width: int) -> None:
    value, size = out.hold(_read(operands[0], width)), const(width // 8)
    out.set("sp", low(width, sub(reg("sp"), size)))
    out.store(width // 8, reg("sp"), value)


def _pop(out: Writer, operands: list[_Operand], width: int) -> None:
    value, size = out.hold(("load", width // 8, reg("sp"))), const(width // 8)
    out.set("sp", low(width, add(reg("sp"), size)))
    _write(out, operands[0], width, value)


_RULES: dict[str, _Rule] = {
    "mov": _move, "movabs": _move, "movabsq": _move, "lea": _address,
    "add": _two(False), "sub": _two(True), "cmp": _two(True, False),
    "adc": _two(False, carries=True), "sbb": _two(True, carries=True),
    "and": _logic(both), "or": _logic(either), "xor": _logic(xor), "test": _logic(both, False),
    "andn": _logic(lambda a, b: both(invert(a), b)),
    "not": _invert, "neg": _negate, "inc": _by_one(False), "dec": _by_one(True),
    "mul": lambda out, operands, width: _product(out, operands[0], width, False),
    "imul": _multiply, "div": _divide("unsigned"), "idiv": _divide("signed"),
    "shl": _shift("left"), "sal": _shift("left"), "shr": _shift("right"),
    "sar": _shift("arithmetic"), "rol": _rotate(True), "ror": _rotate(False),
    "rorx": _rotate(False, False), "shld": _double_shift(True), "shrd": _double_shift(False),
    "shlx": _plain_shift("left"), "shrx": _plain_shift("right"),
    "sarx": _plain_shift("arithmetic"), "bswap": _swap_bytes, "xchg": _exchange,
    "bt": _one_bit(None), "bts": _one_bit(either),
    "btr": _one_bit(lambda a, m: both(a, invert(m))), "btc": _one_bit(xor),
    "push": _push, "pop": _pop,
} | {name: _scan(name) for name in ("bsf", "bsr", "tzcnt", "lzcnt", "popcnt")}  # fmt: skip

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
    if mnemonic.startswith("j") and mnemonic[1:] in _CONDITIONS:
        out.set(o.BRANCH, _CONDITIONS[mnemonic[1:]])
        return tuple(out.steps)
    known = [_operand(text) for text in operands]
    if not known:
        raise NotEvaluableError(mnemonic)
    _write_one(out, mnemonic, known)
    return tuple(out.steps)


def _write_one(out: Writer, mnemonic: str, known: list[_Operand]) -> None:
    own = next((one.width for one in reversed(known) if isinstance(one, _Register)), 0)
    extends = _EXTENDS.fullmatch(mnemonic)
    if extends and len(known) == 2:
        narrow, wide = _WIDTH[extends[2]], _WIDTH[extends[3]]
        value = _read(known[0], narrow)
        _write(out, known[1], wide, sign(narrow, value) if extends[1] == "s" else value)
        return
    if mnemonic.startswith("set") and mnemonic[3:] in _CONDITIONS:
        _write(out, known[0], 8, _CONDITIONS[mnemonic[3:]])
        return
    if mnemonic.startswith("cmov"):
        code = mnemonic[4:] if mnemonic[4:] in _CONDITIONS else mnemonic[4:-1]
        if code in _CONDITIONS and own:
            old, new = _read(known[1], own), _read(known[0], own)
            _write(out, known[1], own, choose(_CONDITIONS[code], new, old))
            return
    rule, width = _RULES.get(mnemonic), own
    if rule is None and mnemonic[-1:] in _WIDTH:
        rule, width = _RULES.get(mnemonic[:-1]), _WIDTH[mnemonic[-1]]
    if rule is None or not width:
        raise NotEvaluableError(mnemonic)
    try:
        rule(out, known, width)
    except (IndexError, TypeError):
        raise NotEvaluableError(mnemonic) from None


EVALUATION = o.Evaluation(operations, (64,), FLAGS)
