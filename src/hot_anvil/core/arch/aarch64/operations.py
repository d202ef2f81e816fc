"""What AArch64's integer instructions compute (Arm ARM, C6), in the common language."""

import re
from collections.abc import Callable
from functools import lru_cache

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.aarch64.syntax import family_of
from hot_anvil.core.arch.arm.conditions import (
    CONDITIONS,
    FLAGS,
    difference_of,
    negative_and_zero,
    sum_of,
)
from hot_anvil.core.arch.operations import (
    Expr,
    NotEvaluableError,
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

_REGISTER = re.compile(r"([wx])(\d+|zr)|(w?sp)")
_SHIFTED = re.compile(r"(lsl|lsr|asr|ror|[su]xt[bhwx])#?(\d*)")
_PLACE = re.compile(r"\[(\w+)(?:,([^\]]*))?\](!?)")
_HALF = re.compile(r":(\w+):(.+)")
_BITS = {"b": 8, "h": 16, "w": 32, "x": 64}


def _width(text: str) -> int:
    found = _REGISTER.fullmatch(text)
    if not found:
        raise NotEvaluableError(text)
    return 32 if text[0] == "w" else 64


def _number(text: str) -> int:
    text = text.lstrip("#")
    half = _HALF.fullmatch(text)
    if half and half[1] == "lo12":
        return o.place(half[2]) & 0xFFF
    if half:
        raise NotEvaluableError(text)
    return o.place(text)


def _value(text: str, width: int) -> Expr:
    if _REGISTER.fullmatch(text):
        family = family_of(text)[0]
        return const(0) if family == "zr" else low(_width(text), reg(family))
    return const(_number(text) & ((1 << width) - 1))


def _shifted(value: Expr, how: str, width: int) -> Expr:
    """Return a second operand, shifted or extended as the third says."""
    found = _SHIFTED.fullmatch(how)
    if not found:
        raise NotEvaluableError(how)
    kind, by = found[1], const(int(found[2] or 0))
    if kind[1:3] == "xt":
        bits = _BITS[kind[3]]
        wide = sign(bits, value) if kind[0] == "s" else low(bits, value)
        return low(width, left(wide, by))
    return low(width, _by_kind(kind, value, by, width))


def _by_kind(kind: str, a: Expr, n: Expr, width: int) -> Expr:
    if kind == "lsl":
        return left(a, n)
    if kind == "lsr":
        return right(a, n)
    if kind == "asr":
        return arithmetic_right(sign(width, a), n)
    return either(right(a, n), left(a, both(sub(const(width), n), const(width - 1))))


class _Operands:
    """The operands of one instruction."""

    def __init__(self, texts: tuple[str, ...]) -> None:
        self.texts = texts
        self.width = _width(texts[0])

    def __getitem__(self, n: int) -> Expr:
        return _value(self.texts[n], self.width)

    def last_of(self, n: int) -> Expr:
        """Return the operand from the n-th on, with a shift behind it."""
        value = self[n]
        return _shifted(value, self.texts[n + 1], self.width) if len(self.texts) > n + 1 else value


def _set(out: Writer, text: str, value: Expr) -> None:
    family = family_of(text)[0]
    if family != "zr":
        out.set(family, low(_width(text), value))


_Rule = Callable[[Writer, _Operands], None]


def _arithmetic(minus: bool, flags: bool = False, carry: bool = False) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        a, b = own[1], own.last_of(2)
        start = reg("C") if carry else const(1 if minus else 0)
        result = sum_of(out, a, invert(b) if minus else b, start, own.width, flags)
        _set(out, own.texts[0], result)

    return rule


def _compared(minus: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        b = own.last_of(1)
        sum_of(out, own[0], invert(b) if minus else b, const(1 if minus else 0), own.width, True)

    return rule


def _logic(combine: Callable[[Expr, Expr], Expr], flags: bool = False) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        result = out.hold(low(own.width, combine(own[1], own.last_of(2))))
        if flags:
            out.flags(**negative_and_zero(result, own.width), C=const(0), V=const(0))
        _set(out, own.texts[0], result)

    return rule


def _tested(out: Writer, own: _Operands) -> None:
    result = out.hold(low(own.width, both(own[0], own.last_of(1))))
    out.flags(**negative_and_zero(result, own.width), C=const(0), V=const(0))


def _of_one(make: Callable[[Expr, int], Expr]) -> _Rule:
    return lambda out, own: _set(out, own.texts[0], make(own.last_of(1), own.width))


def _negated(flags: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        _set(out, own.texts[0], difference_of(out, const(0), own.last_of(1), own.width, flags))

    return rule


def _shift(kind: str) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        n = both(own[2], const(own.width - 1))
        _set(out, own.texts[0], _by_kind(kind, own[1], n, own.width))

    return rule


def _sum_of_product(minus: bool, addend: bool = True) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        product = mul(own[1], own[2])
        base = own[3] if addend else const(0)
        _set(out, own.texts[0], sub(base, product) if minus else add(base, product))

    return rule


def _long_product(signed: bool, minus: bool = False, addend: bool = False) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        a, b = (_value(text, 32) for text in own.texts[1:3])
        product = mul(sign(32, a), sign(32, b)) if signed else mul(a, b)
        base = own[3] if addend else const(0)
        _set(out, own.texts[0], sub(base, product) if minus else add(base, product))

    return rule


def _number_at(own: _Operands, n: int) -> int:
    return _number(own.texts[n])


def _field(signed: bool, insert: bool) -> _Rule:
    """Take a field of bits to the bottom, or put the bottom bits in as a field (``bfiz``)."""

    def rule(out: Writer, own: _Operands) -> None:
        first, count = _number_at(own, 2), _number_at(own, 3)
        if insert:
            part = low(count, own[1]) if not signed else sign(count, own[1])
            _set(out, own.texts[0], left(part, const(first)))
            return
        part = right(own[1], const(first))
        _set(out, own.texts[0], sign(count, part) if signed else low(count, part))

    return rule


def _insert(from_field: bool) -> _Rule:
    """Replace a field of bits, the rest kept (``bfi``, ``bfxil``)."""

    def rule(out: Writer, own: _Operands) -> None:
        first, count = _number_at(own, 2), _number_at(own, 3)
        mask = (1 << count) - 1
        if from_field:
            part, at = both(right(own[1], const(first)), const(mask)), 0
        else:
            part, at = left(both(own[1], const(mask)), const(first)), first
        rest = both(own[0], const(~(mask << at)))
        _set(out, own.texts[0], either(rest, part))

    return rule


def _extended(bits: int, signed: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        value = _value(own.texts[1], 64)
        _set(out, own.texts[0], sign(bits, value) if signed else low(bits, value))

    return rule


def _chosen(other: Callable[[Expr], Expr]) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        condition = CONDITIONS[own.texts[3]]
        _set(out, own.texts[0], choose(condition, own[1], other(own[2])))

    return rule


def _changed_if(other: Callable[[Expr], Expr]) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        _set(out, own.texts[0], choose(CONDITIONS[own.texts[2]], other(own[1]), own[1]))

    return rule


def _plus_one(e: Expr) -> Expr:
    return add(e, const(1))


def _minus(e: Expr) -> Expr:
    return sub(const(0), e)


def _flag_set(mask: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        e = CONDITIONS[own.texts[1]]
        _set(out, own.texts[0], _minus(e) if mask else e)

    return rule


def _moved(out: Writer, own: _Operands) -> None:
    _set(out, own.texts[0], own[1])


def _moved_wide(keep: bool, inverted: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        by = int(own.texts[2][3:].lstrip("#")) if len(own.texts) > 2 else 0
        value = (_number_at(own, 1) & 0xFFFF) << by
        if keep:
            rest = both(own[0], const(~(0xFFFF << by)))
            _set(out, own.texts[0], either(rest, const(value)))
        else:
            _set(out, own.texts[0], const(~value if inverted else value))

    return rule


def _page(out: Writer, own: _Operands) -> None:
    _set(out, own.texts[0], const(o.place(own.texts[1]) & ~0xFFF))


def _turned_bytes(bits: int) -> Callable[[Expr, int], Expr]:
    def made(a: Expr, width: int) -> Expr:
        if bits == 0 or bits == width:
            return right(("reversed bytes", a), const(64 - width))
        if bits == 16:
            odd, even = const(0xFF00FF00FF00FF00), const(0x00FF00FF00FF00FF)
            return either(right(both(a, odd), const(8)), left(both(a, even), const(8)))
        swapped = ("reversed bytes", a)
        return either(right(swapped, const(32)), left(swapped, const(32)))

    return made


def _conditionally_compared(minus: bool) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        b = own[1]
        trial = Writer()
        trial._made = 100  # names of its own
        sum_of(trial, own[0], invert(b) if minus else b, const(1 if minus else 0), own.width, True)
        otherwise, condition = _number_at(own, 2), CONDITIONS[own.texts[3]]
        held = out.hold(condition)
        bits = {"N": 8, "Z": 4, "C": 2, "V": 1}
        for step in trial.steps:
            if step[1] in bits:
                value = const(1 if otherwise & bits[step[1]] else 0)
                out.set(step[1], choose(held, step[2], value))
            else:
                out.steps.append(step)

    return rule


def _high(kind: str) -> _Rule:
    return lambda out, own: _set(out, own.texts[0], (kind, own[1], own[2]))


def _divided(kind: str) -> _Rule:
    def rule(out: Writer, own: _Operands) -> None:
        e = ("quotient", kind, own.width, 0, own[1], own[2])
        _set(out, own.texts[0], e)

    return rule


def _joined(out: Writer, own: _Operands) -> None:
    by = _number_at(own, 3)
    upper = left(own[1], const(own.width - by)) if by else const(0)
    _set(out, own.texts[0], either(upper, right(own[2], const(by))))


_RULES: dict[str, _Rule] = {
    "add": _arithmetic(False), "adds": _arithmetic(False, True), "sub": _arithmetic(True),
    "subs": _arithmetic(True, True), "adc": _arithmetic(False, carry=True),
    "adcs": _arithmetic(False, True, True), "sbc": _arithmetic(True, carry=True),
    "sbcs": _arithmetic(True, True, True), "cmp": _compared(True), "cmn": _compared(False),
    "and": _logic(both), "ands": _logic(both, True), "orr": _logic(either), "eor": _logic(xor),
    "bic": _logic(lambda a, b: both(a, invert(b))),
    "bics": _logic(lambda a, b: both(a, invert(b)), True),
    "orn": _logic(lambda a, b: either(a, invert(b))),
    "eon": _logic(lambda a, b: xor(a, invert(b))), "tst": _tested,
    "mvn": _of_one(lambda a, _: invert(a)), "neg": _negated(False), "negs": _negated(True),
    "lsl": _shift("lsl"), "lsr": _shift("lsr"), "asr": _shift("asr"), "ror": _shift("ror"),
    "lslv": _shift("lsl"), "lsrv": _shift("lsr"), "asrv": _shift("asr"), "rorv": _shift("ror"),
    "mul": _sum_of_product(False, False), "mneg": _sum_of_product(True, False),
    "madd": _sum_of_product(False), "msub": _sum_of_product(True),
    "smull": _long_product(True), "umull": _long_product(False),
    "smaddl": _long_product(True, addend=True), "umaddl": _long_product(False, addend=True),
    "smsubl": _long_product(True, True, True), "umsubl": _long_product(False, True, True),
    "smnegl": _long_product(True, True), "umnegl": _long_product(False, True),
    "smulh": _high("high signed"), "umulh": _high("high unsigned"),
    "sdiv": _divided("quotient signed"), "udiv": _divided("quotient unsigned"),
    "ubfx": _field(False, False), "sbfx": _field(True, False), "ubfiz": _field(False, True),
    "sbfiz": _field(True, True), "bfi": _insert(False), "bfxil": _insert(True),
    "extr": _joined, "csel": _chosen(lambda e: e), "csinc": _chosen(_plus_one),
    "csinv": _chosen(invert), "csneg": _chosen(_minus), "cinc": _changed_if(_plus_one),
    "cinv": _changed_if(invert), "cneg": _changed_if(_minus), "cset": _flag_set(False),
    "csetm": _flag_set(True), "mov": _moved, "movz": _moved_wide(False, False),
    "movn": _moved_wide(False, True), "movk": _moved_wide(True, False), "adrp": _page,
    "adr": lambda out, own: _set(out, own.texts[0], const(o.place(own.texts[1]))),
    "clz": _of_one(lambda a, w: sub(("leading zeros", a), const(64 - w))),
    "rbit": _of_one(lambda a, w: right(("reversed bits", a), const(64 - w))),
    "rev": _of_one(_turned_bytes(0)), "rev16": _of_one(_turned_bytes(16)),
    "rev32": _of_one(_turned_bytes(32)),
    "ccmp": _conditionally_compared(True), "ccmn": _conditionally_compared(False),
} | {
    f"{s}xt{b}": _extended(_BITS[b], s == "s") for s in "su" for b in "bhw"
}  # fmt: skip


def _address(texts: tuple[str, ...]) -> tuple[Expr, str, Expr | None]:
    """Return (address, base to move, what it becomes) of the memory that operands name."""
    found = _PLACE.fullmatch(texts[0])
    if not found or len(texts) > 2:
        raise NotEvaluableError(",".join(texts))
    base, inside, before = family_of(found[1])[0], found[2] or "", found[3]
    by: Expr = const(0)
    if inside:
        first, _, how = inside.partition(",")
        if _REGISTER.fullmatch(first):
            by = _value(first, 64)
            by = _shifted(by, how, 64) if how else by
        else:
            by = const(_number(first))
    whole = add(reg(base), by)
    if before:
        return whole, base, whole
    if len(texts) == 2:
        return reg(base), base, add(reg(base), const(_number(texts[1])))
    return whole, "", None


def _moved_memory(out: Writer, mnemonic: str, texts: tuple[str, ...]) -> None:
    pair = mnemonic in ("ldp", "stp", "ldpsw", "ldnp", "stnp")
    registers, rest = texts[: 1 + pair], texts[1 + pair :]
    width = _width(registers[0])
    at, base, becomes = _address(rest)
    at = out.hold(at)
    after = out.hold(becomes) if becomes else None
    signed = mnemonic == "ldpsw" or mnemonic[3:4] == "s" or mnemonic[4:5] == "s"
    size = mnemonic[-1] if mnemonic[-1] in "bhw" else ""
    count = {"b": 1, "h": 2, "w": 4, "": width // 8}[size]
    values = []
    for k, text in enumerate(registers):
        where = add(at, const(k * count)) if k else at
        if mnemonic.startswith("st"):
            out.store(count, where, _value(text, width))
        else:
            e: Expr = ("load", count, where)
            values.append((text, out.hold(sign(8 * count, e) if signed else e)))
    for text, value in values:
        _set(out, text, value)
    if after:
        out.set(base, after)


@lru_cache(maxsize=1 << 16)
def operations(mnemonic: str, operands: tuple[str, ...], width: int = 64) -> Steps:
    """Return the steps of an instruction; raises NotEvaluableError for what has none."""
    out = Writer()
    texts = tuple(text.replace(" ", "") for text in operands)
    if mnemonic in ("nop", "b", "bti", "prfm"):
        return ()
    try:
        _write_one(out, mnemonic, texts)
    except (KeyError, IndexError, ValueError):
        raise NotEvaluableError(mnemonic) from None
    return tuple(out.steps)


def _write_one(out: Writer, mnemonic: str, texts: tuple[str, ...]) -> None:
    code = mnemonic[1:].lstrip(".")
    if mnemonic[0] == "b" and code in CONDITIONS and len(texts) == 1:
        out.set(o.BRANCH, CONDITIONS[code])
    elif mnemonic in ("cbz", "cbnz"):
        zero = is_zero(_value(texts[0], _width(texts[0])))
        out.set(o.BRANCH, zero if mnemonic == "cbz" else opposite(zero))
    elif mnemonic in ("tbz", "tbnz"):
        one = bit(_value(texts[0], 64), _number(texts[1]))
        out.set(o.BRANCH, one if mnemonic == "tbnz" else opposite(one))
    elif re.fullmatch(r"(?:ld|st)(?:u?r(?:s?[bhw])?|n?p|psw)", mnemonic):
        _moved_memory(out, mnemonic, texts)
    else:
        _RULES[mnemonic](out, _Operands(texts))


EVALUATION = o.Evaluation(operations, (64,), FLAGS)
