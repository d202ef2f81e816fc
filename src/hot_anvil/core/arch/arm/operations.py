"""What the integer instructions of 32-bit ARM and Thumb compute (Arm ARM for v7, A8).

A predicated instruction does nothing where its condition does not hold; the flags of an immediate
that has to be rotated are left open.
"""

import re
from collections.abc import Callable
from functools import lru_cache

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.arm.conditions import CONDITIONS, FLAGS, negative_and_zero, sum_of
from hot_anvil.core.arch.arm.syntax import family_of
from hot_anvil.core.arch.operations import (
    UNDEFINED_BIT,
    Expr,
    NotEvaluableError,
    Step,
    Steps,
    Writer,
    add,
    arithmetic_right,
    bit,
    both,
    choose,
    const,
    either,
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

_REGISTER = re.compile(r"r\d+|sp|lr|pc|ip|fp|sl|sb")
_SHIFTED = re.compile(r"(lsl|lsr|asr|ror)(.+)")
_PLACE = re.compile(r"\[(\w+)(?:,([^\]]*))?\](!?)")
_HALF = re.compile(r"#?:(lower16|upper16):(.+)")


def _number(text: str) -> int:
    half = _HALF.fullmatch(text)
    if half:
        at = o.place(half[2], 32)
        return at & 0xFFFF if half[1] == "lower16" else at >> 16
    return o.place(text.lstrip("#"), 32) & 0xFFFFFFFF


def _value(text: str) -> Expr:
    if _REGISTER.fullmatch(text):
        family = family_of(text)[0]
        if family == "r15":
            raise NotEvaluableError(text)
        return reg(family)
    return const(_number(text))


def _shift(kind: str, a: Expr, n: Expr) -> tuple[Expr, Expr]:
    """Return (result, carry) of a shift by n, whose carry counts only for n > 0."""
    if kind == "lsl":
        whole = left(a, n)
        return low(32, whole), bit(whole, 32)
    if kind == "lsr":
        return right(a, n), bit(right(left(a, const(1)), n), 0)
    if kind == "asr":
        wide = sign(32, a)
        result = low(32, arithmetic_right(wide, n))
        return result, bit(arithmetic_right(left(wide, const(1)), n), 0)
    by = both(n, const(31))
    result = low(32, either(right(a, by), left(a, sub(const(32), by))))
    return result, bit(result, 31)


def _shifted(a: Expr, how: str) -> tuple[Expr, Expr]:
    """Return (value, carry) of an operand with a shift behind it."""
    found = _SHIFTED.fullmatch(how)
    if not found:
        raise NotEvaluableError(how)
    n = _value(found[2])
    n = n if n[0] == "const" else low(8, n)
    value, carry = _shift(found[1], a, n)
    return value, choose(is_zero(n), reg("C"), carry)


class _Operands:
    """The operands of one instruction, and whether it sets the flags."""

    def __init__(self, texts: tuple[str, ...], flags: bool) -> None:
        self.texts = texts
        self.flags = flags

    def __getitem__(self, n: int) -> Expr:
        return _value(self.texts[n])

    def last_of(self, n: int) -> tuple[Expr, Expr]:
        """Return (value, carry) of the operand from the n-th on."""
        if len(self.texts) > n + 1:
            return _shifted(self[n], self.texts[n + 1])
        value = self[n]
        if value[0] == "const" and value[1] > 255:
            return value, UNDEFINED_BIT
        return value, reg("C")

    def of_two(self) -> tuple[Expr, tuple[Expr, Expr]]:
        """Return both sources; the first may be left out where it is the destination."""
        short = len(self.texts) == 2 or (
            len(self.texts) == 3 and bool(_SHIFTED.fullmatch(self.texts[2]))
        )
        return (self[0], self.last_of(1)) if short else (self[1], self.last_of(2))


def _set(out: Writer, text: str, value: Expr) -> None:
    family = family_of(text)[0]
    if family == "r15":
        raise NotEvaluableError("pc")
    out.set(family, low(32, value))


_Rule = Callable[[Writer, _Operands], None]


def _arithmetic(minus: bool, turned: bool = False, carry: bool = False) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        a, (b, _) = own.of_two()
        a, b = (b, a) if turned else (a, b)
        start = reg("C") if carry else const(1 if minus else 0)
        result = sum_of(out, a, invert(b) if minus else b, start, 32, own.flags)
        _set(out, own.texts[0], result)

    return rule


def _compared(minus: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        b, _ = own.last_of(1)
        sum_of(out, own[0], invert(b) if minus else b, const(1 if minus else 0), 32, True)

    return rule


def _logic(combine: Callable[[Expr, Expr], Expr], stores: bool = True) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        a, (b, carry) = own.of_two() if stores else (own[0], own.last_of(1))
        result = out.hold(low(32, combine(a, b)))
        if own.flags or not stores:
            out.flags(**negative_and_zero(result, 32), C=carry)
        if stores:
            _set(out, own.texts[0], result)

    return rule


def _moved(inverted: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        value, carry = own.last_of(1)
        result = out.hold(low(32, invert(value) if inverted else value))
        if own.flags:
            out.flags(**negative_and_zero(result, 32), C=carry)
        _set(out, own.texts[0], result)

    return rule


def _shifts(kind: str) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        a, n = (own[0], own[1]) if len(own.texts) == 2 else (own[1], own[2])
        n = n if n[0] == "const" else out.hold(low(8, n))
        value, carry = _shift(kind, a, n)
        result = out.hold(value)
        if own.flags:
            held = choose(is_zero(n), reg("C"), carry)
            out.flags(**negative_and_zero(result, 32), C=held)
        _set(out, own.texts[0], result)

    return rule


def _multiplied(out: Writer, own: _Operands) -> None:
    a, b = (own[0], own[1]) if len(own.texts) == 2 else (own[1], own[2])
    result = out.hold(low(32, mul(a, b)))
    if own.flags:
        out.flags(**negative_and_zero(result, 32))
    _set(out, own.texts[0], result)


def _sum_of_product(minus: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        product = mul(own[1], own[2])
        _set(out, own.texts[0], sub(own[3], product) if minus else add(own[3], product))

    return rule


def _long_product(signed: bool, adds: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        a, b = own[2], own[3]
        whole = mul(sign(32, a), sign(32, b)) if signed else mul(a, b)
        if adds:
            whole = add(whole, either(own[0], left(own[1], const(32))))
        held = out.hold(whole)
        _set(out, own.texts[0], held)
        _set(out, own.texts[1], right(held, const(32)))

    return rule


def _high_product(out: Writer, own: _Operands) -> None:
    _set(out, own.texts[0], right(mul(sign(32, own[1]), sign(32, own[2])), const(32)))


def _half_product(first: str, second: str, adds: bool) -> _Rule:
    def half(e: Expr, which: str) -> Expr:
        return sign(16, right(e, const(16)) if which == "t" else e)

    def rule(out: Writer, own: _Operands) -> None:
        product = mul(half(own[1], first), half(own[2], second))
        _set(out, own.texts[0], add(product, own[3]) if adds else product)

    return rule


def _divided(kind: str) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        a, b = (own[0], own[1]) if len(own.texts) == 2 else (own[1], own[2])
        _set(out, own.texts[0], ("quotient", kind, 32, 0, a, b))

    return rule


def _of_one(make: Callable[[Expr], Expr]) -> _Rule:
    return lambda out, own: _set(out, own.texts[0], make(own[1]))


def _extended(bits: int, signed: bool, adds: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        at = 2 if adds and len(own.texts) > 2 else 1 if len(own.texts) > 1 else 0
        value = own.last_of(at)[0]
        wide = sign(bits, value) if signed else low(bits, value)
        _set(out, own.texts[0], add(own[1], wide) if adds else wide)

    return rule


def _field(signed: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        first, count = _number(own.texts[2]), _number(own.texts[3])
        part = right(own[1], const(first))
        _set(out, own.texts[0], sign(count, part) if signed else low(count, part))

    return rule


def _insert(out: Writer, own: _Operands) -> None:
    clears = len(own.texts) == 3
    first, count = (_number(text) for text in own.texts[-2:])
    mask = ((1 << count) - 1) << first
    part = const(0) if clears else both(left(own[1], const(first)), const(mask))
    _set(out, own.texts[0], either(both(own[0], const(~mask)), part))


def _move_top(out: Writer, own: _Operands) -> None:
    upper = const((_number(own.texts[1]) & 0xFFFF) << 16)
    _set(out, own.texts[0], either(low(16, own[0]), upper))


def _turned(e: Expr) -> Expr:
    return right(("reversed bytes", e), const(32))


def _halves_turned(e: Expr) -> Expr:
    odd, even = const(0xFF00FF00), const(0x00FF00FF)
    return either(right(both(e, odd), const(8)), left(both(e, even), const(8)))


_RULES: dict[str, _Rule] = {
    "add": _arithmetic(False), "sub": _arithmetic(True), "rsb": _arithmetic(True, True),
    "adc": _arithmetic(False, carry=True), "sbc": _arithmetic(True, carry=True),
    "rsc": _arithmetic(True, True, True), "cmp": _compared(True), "cmn": _compared(False),
    "and": _logic(both), "orr": _logic(either), "eor": _logic(xor),
    "bic": _logic(lambda a, b: both(a, invert(b))),
    "orn": _logic(lambda a, b: either(a, invert(b))),
    "tst": _logic(both, False), "teq": _logic(xor, False), "mov": _moved(False),
    "mvn": _moved(True), "movw": _moved(False), "movt": _move_top, "lsl": _shifts("lsl"),
    "lsr": _shifts("lsr"), "asr": _shifts("asr"), "ror": _shifts("ror"), "mul": _multiplied,
    "mla": _sum_of_product(False), "mls": _sum_of_product(True),
    "umull": _long_product(False, False), "smull": _long_product(True, False),
    "umlal": _long_product(False, True), "smlal": _long_product(True, True),
    "smmul": _high_product, "sdiv": _divided("quotient signed"),
    "udiv": _divided("quotient unsigned"), "ubfx": _field(False), "sbfx": _field(True),
    "bfi": _insert, "bfc": _insert,
    "clz": _of_one(lambda a: sub(("leading zeros", a), const(32))),
    "rbit": _of_one(lambda a: right(("reversed bits", a), const(32))),
    "rev": _of_one(_turned), "rev16": _of_one(_halves_turned),
    "revsh": _of_one(lambda a: sign(16, _halves_turned(a))),
    "addw": _arithmetic(False), "subw": _arithmetic(True),
} | {
    f"{s}xt{a}{b}": _extended(8 if b == "b" else 16, s == "s", bool(a))
    for s in "su" for b in "bh" for a in ("", "a")
} | {
    f"sm{name}{x}{y}": _half_product(x, y, adds)
    for name, adds in (("ul", False), ("la", True)) for x in "bt" for y in "bt"
}  # fmt: skip
_NEGATED = {"neg": "rsb"}
_CODES = "eq|ne|cs|cc|mi|pl|vs|vc|hi|ls|ge|lt|gt|le|hs|lo|al"
_CONDITIONAL = re.compile(rf"(\w+?)({_CODES})")
_MEMORY = re.compile(r"(ld|st)r(s?[bh]|d)?")
_QUIET = re.compile(r"nop|b|it[te]*|pld")


def _split(mnemonic: str) -> tuple[str, bool, str]:
    """Return (base, sets flags, condition) of a mnemonic."""
    plain = re.sub(r"\.[nw]$", "", mnemonic)
    found = _CONDITIONAL.fullmatch(plain)
    for name, code in ((plain, ""), *(((found[1], found[2]),) if found else ())):
        for base, flags in ((name, False), (name[:-1] if name[-1:] == "s" else "", True)):
            if base in _RULES or base in _NEGATED or _MEMORY.fullmatch(base):
                return base, flags, code
            if base in ("push", "pop", "ldmia", "stmia", "ldm", "stm"):
                return base, False, code
    raise NotEvaluableError(mnemonic)


@lru_cache(maxsize=1 << 16)
def operations(mnemonic: str, operands: tuple[str, ...], width: int = 32) -> Steps:
    """Return the steps of an instruction; raises NotEvaluableError for what has none."""
    out = Writer()
    texts = tuple(text.replace(" ", "") for text in operands)
    plain = re.sub(r"\.[nw]$", "", mnemonic)
    if _QUIET.fullmatch(plain):
        return ()
    try:
        if plain in ("cbz", "cbnz"):
            zero = is_zero(_value(texts[0]))
            out.set(o.BRANCH, zero if plain == "cbz" else opposite(zero))
        elif plain[0] == "b" and plain[1:] in CONDITIONS and len(texts) == 1:
            out.set(o.BRANCH, CONDITIONS[plain[1:]])
        else:
            base, flags, code = _split(mnemonic)
            _write_one(out, base, texts, flags)
            if code and code != "al":
                return tuple(_only_if(CONDITIONS[code], out.steps))
    except (KeyError, IndexError, ValueError):
        raise NotEvaluableError(mnemonic) from None
    return tuple(out.steps)


def _write_one(out: Writer, base: str, texts: tuple[str, ...], flags: bool) -> None:
    if base in ("push", "pop") or base.startswith(("ldm", "stm")):
        _several(out, base, texts)
    elif _MEMORY.fullmatch(base):
        _moved_memory(out, base, texts)
    elif base in _NEGATED:
        _RULES[_NEGATED[base]](out, _Operands((*texts[:2], "0"), flags))
    else:
        _RULES[base](out, _Operands(texts, flags))


def _only_if(condition: Expr, steps: list[Step]) -> list[Step]:
    """Return steps that change nothing where a condition does not hold."""
    out: list[Step] = [("set", "%if", condition)]
    held = reg("%if")
    for step in steps:
        if step[0] == "store":  # what is there is stored again
            old = ("load", step[1], step[2])
            out.append(("store", step[1], step[2], choose(held, step[3], old)))
        elif step[1].startswith("%"):
            out.append(step)
        else:
            out.append(("set", step[1], choose(held, step[2], reg(step[1]))))
    return out


def _address(texts: tuple[str, ...]) -> tuple[Expr, str, Expr | None]:
    """Return (address, base to move, what it becomes)."""
    found = _PLACE.fullmatch(texts[0])
    if not found:
        if len(texts) == 1 and not texts[0].startswith("="):
            return const(o.place(texts[0], 32)), "", None
        raise NotEvaluableError(",".join(texts))
    base, before = family_of(found[1])[0], found[3]
    if base == "r15":
        raise NotEvaluableError("pc")
    parts = tuple(found[2].split(",")) if found[2] else texts[1:]
    by: Expr = const(0)
    if parts:
        minus = parts[0].startswith("-r")
        by = _value(parts[0].lstrip("-") if minus else parts[0])
        by = _shifted(by, parts[1])[0] if len(parts) > 1 else by
        by = sub(const(0), by) if minus else by
    whole = low(32, add(reg(base), by))
    if before:
        return whole, base, whole
    return (reg(base), base, whole) if len(texts) > 1 else (whole, "", None)


def _moved_memory(out: Writer, base: str, texts: tuple[str, ...]) -> None:
    found = _MEMORY.fullmatch(base)
    assert found
    size = found[2] or ""
    pair = size == "d"
    at, moves, becomes = _address(texts[1 + pair :])
    at = out.hold(at)
    after = out.hold(becomes) if becomes else None
    count = {"b": 1, "h": 2}.get(size[-1:], 4)
    loaded = []
    for k, text in enumerate(texts[: 1 + pair]):
        where = low(32, add(at, const(4 * k))) if k else at
        if found[1] == "st":
            out.store(count, where, _value(text))
        else:
            e: Expr = ("load", count, where)
            loaded.append((text, out.hold(sign(8 * count, e) if size.startswith("s") else e)))
    for text, value in loaded:
        _set(out, text, value)
    if after:
        out.set(moves, after)


def _several(out: Writer, base: str, texts: tuple[str, ...]) -> None:
    names = _listed(",".join(texts[-1:] if base in ("push", "pop") else texts[1:]))
    if base in ("push", "pop"):
        start, moves = "r13", True
    else:
        start, moves = family_of(texts[0].rstrip("!"))[0], texts[0].endswith("!")
    size = const(4 * len(names))
    first = out.hold(low(32, sub(reg(start), size)) if base == "push" else reg(start))
    loads = base in ("pop", "ldm", "ldmia")
    held = []
    for k, name in enumerate(names):
        where = low(32, add(first, const(4 * k)))
        if loads:
            held.append((name, out.hold(("load", 4, where))))
        else:
            out.store(4, where, _value(name))
    for name, value in held:
        _set(out, name, value)
    if moves:
        out.set(start, first if base == "push" else low(32, add(first, size)))


def _listed(text: str) -> list[str]:
    """Return the registers of a list such as ``{r3, r4-r6, lr}``."""
    found = re.fullmatch(r"\{(.+)\}", text)
    if not found:
        raise NotEvaluableError(text)
    out: list[int] = []
    for part in found[1].split(","):
        ends = [int(family_of(name)[0][1:]) for name in part.split("-")]
        out += range(ends[0], ends[-1] + 1)
    return [f"r{n}" for n in sorted(out)]


EVALUATION = o.Evaluation(operations, (32,), FLAGS)
