"""What AVR's instructions compute (DS40002198), each register of 8 bits; carry is borrow."""

import re
from collections.abc import Callable
from functools import lru_cache

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.avr.syntax import family_of
from hot_anvil.core.arch.operations import (
    Expr,
    NotEvaluableError,
    Steps,
    Writer,
    add,
    bit,
    both,
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

FLAGS = ("C", "Z", "N", "V", "T")
_C, _Z, _N, _V, _T = map(reg, FLAGS)
_S = xor(_N, _V)
_TESTS = {
    "breq": _Z, "brne": opposite(_Z), "brcs": _C, "brlo": _C, "brcc": opposite(_C),
    "brsh": opposite(_C), "brmi": _N, "brpl": opposite(_N), "brlt": _S, "brge": opposite(_S),
    "brvs": _V, "brvc": opposite(_V), "brts": _T, "brtc": opposite(_T),
}  # fmt: skip
_PART = re.compile(r"(pm_)?(lo8|hi8|hh8|hlo8)\((-?)\(?(?:gs\()?([^()]+)\)*")
_POINTER = re.compile(r"(-?)([XYZ])(\+?)(.*)")


def _number(text: str) -> int:
    found = _PART.fullmatch(text)
    if not found:
        return o.place(text, 16) & 0xFF
    value = o.place(found[4], 16)
    value = -value if found[3] else value
    return value >> {"lo8": 0, "hi8": 8, "hh8": 16, "hlo8": 16}[found[2]] & 0xFF


def _register(text: str) -> str:
    name = family_of(text)[0]
    if not re.fullmatch(r"r\d+", name):
        raise NotEvaluableError(text)
    return name


def _next(name: str) -> str:
    return f"r{int(name[1:]) + 1}"


def _pair(name: str) -> Expr:
    return either(reg(name), left(reg(_next(name)), const(8)))


def _set_pair(out: Writer, name: str, value: Expr) -> None:
    held = out.hold(low(16, value))
    out.set(name, low(8, held))
    out.set(_next(name), right(held, const(8)))


_Rule = Callable[[Writer, tuple[str, ...]], None]


def _sum(minus: bool, number: bool, stores: bool = True, carry: bool = False) -> _Rule:
    def rule(out: Writer, texts: tuple[str, ...]) -> None:
        goal = _register(texts[0])
        a = out.hold(reg(goal))
        b = const(_number(texts[1])) if number else out.hold(reg(_register(texts[1])))
        start = _C if carry else const(0)
        whole = sub(sub(a, b), start) if minus else add(add(a, b), start)
        result = out.hold(low(8, whole))
        zero = is_zero(result)
        out.flags(
            C=(o.borrow_of_sub if minus else o.carry_of_add)(a, b, result, 8),
            V=(o.overflow_of_sub if minus else o.overflow_of_add)(a, b, result, 8),
            N=bit(result, 7),
            Z=both(zero, _Z) if minus and carry else zero,
        )
        if stores:
            out.set(goal, result)

    return rule


def _logic(combine: Callable[[Expr, Expr], Expr], number: bool) -> _Rule:
    def rule(out: Writer, texts: tuple[str, ...]) -> None:
        goal = _register(texts[0])
        b = const(_number(texts[1])) if number else reg(_register(texts[1]))
        result = out.hold(low(8, combine(reg(goal), b)))
        out.flags(V=const(0), N=bit(result, 7), Z=is_zero(result))
        out.set(goal, result)

    return rule


def _moved(number: bool) -> _Rule:
    def rule(out: Writer, texts: tuple[str, ...]) -> None:
        e = const(_number(texts[1])) if number else reg(_register(texts[1]))
        out.set(_register(texts[0]), e)

    return rule


def _move_pair(out: Writer, texts: tuple[str, ...]) -> None:
    _set_pair(out, _register(texts[0]), _pair(_register(texts[1])))


def _by_one(minus: bool) -> _Rule:
    def rule(out: Writer, texts: tuple[str, ...]) -> None:
        goal = _register(texts[0])
        a = out.hold(reg(goal))
        result = out.hold(low(8, sub(a, const(1)) if minus else add(a, const(1))))
        over = o.equal(a, const(0x80 if minus else 0x7F))
        out.flags(V=over, N=bit(result, 7), Z=is_zero(result))
        out.set(goal, result)

    return rule


def _turned_over(out: Writer, texts: tuple[str, ...]) -> None:
    goal = _register(texts[0])
    result = out.hold(low(8, invert(reg(goal))))
    out.flags(C=const(1), V=const(0), N=bit(result, 7), Z=is_zero(result))
    out.set(goal, result)


def _negated(out: Writer, texts: tuple[str, ...]) -> None:
    goal = _register(texts[0])
    result = out.hold(low(8, sub(const(0), reg(goal))))
    over = o.equal(result, const(0x80))
    out.flags(C=opposite(is_zero(result)), V=over, N=bit(result, 7), Z=is_zero(result))
    out.set(goal, result)


def _shift_right(kind: str) -> _Rule:
    def rule(out: Writer, texts: tuple[str, ...]) -> None:
        goal = _register(texts[0])
        a = out.hold(reg(goal))
        top = {"lsr": const(0), "ror": _C, "asr": bit(a, 7)}[kind]
        result = out.hold(either(right(a, const(1)), left(top, const(7))))
        negative, carry = bit(result, 7), bit(a, 0)
        out.flags(C=carry, N=negative, V=xor(negative, carry), Z=is_zero(result))
        out.set(goal, result)

    return rule


def _doubled(carry: bool) -> _Rule:
    plain = _sum(False, False, carry=carry)
    return lambda out, texts: plain(out, (texts[0], texts[0]))


def _test(out: Writer, texts: tuple[str, ...]) -> None:
    result = reg(_register(texts[0]))
    out.flags(V=const(0), N=bit(result, 7), Z=is_zero(result))


def _clear(out: Writer, texts: tuple[str, ...]) -> None:
    out.set(_register(texts[0]), const(0))
    out.flags(V=const(0), N=const(0), Z=const(1))


def _fill(out: Writer, texts: tuple[str, ...]) -> None:
    out.set(_register(texts[0]), const(0xFF))


def _swapped(out: Writer, texts: tuple[str, ...]) -> None:
    a = reg(_register(texts[0]))
    out.set(_register(texts[0]), low(8, either(right(a, const(4)), left(a, const(4)))))


def _product(signed: tuple[bool, bool]) -> _Rule:
    def rule(out: Writer, texts: tuple[str, ...]) -> None:
        a, b = (
            sign(8, reg(_register(text))) if s else reg(_register(text))
            for text, s in zip(texts, signed, strict=True)
        )
        result = out.hold(low(16, mul(a, b)))
        out.flags(C=bit(result, 15), Z=is_zero(result))
        _set_pair(out, "r0", result)

    return rule


def _word_sum(minus: bool) -> _Rule:
    def rule(out: Writer, texts: tuple[str, ...]) -> None:
        goal = _register(texts[0])
        a, b = out.hold(_pair(goal)), const(o.place(texts[1], 16))
        result = out.hold(low(16, sub(a, b) if minus else add(a, b)))
        top, was = bit(result, 15), bit(a, 15)
        if minus:
            carry, over = both(top, opposite(was)), both(was, opposite(top))
        else:
            carry, over = both(was, opposite(top)), both(top, opposite(was))
        out.flags(C=carry, V=over, N=top, Z=is_zero(result))
        _set_pair(out, goal, result)

    return rule


def _to_flag(out: Writer, texts: tuple[str, ...]) -> None:
    out.set("T", bit(reg(_register(texts[0])), int(texts[1])))


def _from_flag(out: Writer, texts: tuple[str, ...]) -> None:
    goal, n = _register(texts[0]), int(texts[1])
    out.set(goal, either(both(reg(goal), const(0xFF ^ 1 << n)), left(_T, const(n))))


def _place(text: str) -> tuple[Expr, str, Expr | None]:
    """Return (address, pointer to move, what it becomes) of a pointer operand."""
    found = _POINTER.fullmatch(text)
    if not found:
        raise NotEvaluableError(text)
    name = family_of(found[2])[0]
    at = _pair(name)
    if found[1]:
        before = low(16, sub(at, const(1)))
        return before, name, before
    if found[4]:
        return low(16, add(at, const(o.place(found[4], 16)))), "", None
    return (at, name, low(16, add(at, const(1)))) if found[3] else (at, "", None)


def _load(out: Writer, texts: tuple[str, ...]) -> None:
    at, moves, becomes = _place(texts[1])
    value = out.hold(("load", 1, at))
    if becomes:
        _set_pair(out, moves, becomes)
    out.set(_register(texts[0]), value)


def _store(out: Writer, texts: tuple[str, ...]) -> None:
    at, moves, becomes = _place(texts[0])
    at = out.hold(at)
    out.store(1, at, reg(_register(texts[1])))
    if becomes:
        _set_pair(out, moves, becomes)


def _load_direct(out: Writer, texts: tuple[str, ...]) -> None:
    if re.fullmatch(r"\d\w*", texts[1]):
        raise NotEvaluableError("a device's register")
    out.set(_register(texts[0]), ("load", 1, const(o.place(texts[1], 16))))


def _store_direct(out: Writer, texts: tuple[str, ...]) -> None:
    if re.fullmatch(r"\d\w*", texts[0]):
        raise NotEvaluableError("a device's register")
    out.store(1, const(o.place(texts[0], 16)), reg(_register(texts[1])))


_RULES: dict[str, _Rule] = {
    "add": _sum(False, False), "adc": _sum(False, False, carry=True), "sub": _sum(True, False),
    "sbc": _sum(True, False, carry=True), "subi": _sum(True, True),
    "sbci": _sum(True, True, carry=True), "cp": _sum(True, False, False),
    "cpc": _sum(True, False, False, True), "cpi": _sum(True, True, False),
    "and": _logic(both, False), "andi": _logic(both, True), "or": _logic(either, False),
    "ori": _logic(either, True), "eor": _logic(xor, False), "sbr": _logic(either, True),
    "cbr": _logic(lambda a, b: both(a, invert(b)), True), "mov": _moved(False),
    "ldi": _moved(True), "movw": _move_pair, "inc": _by_one(False), "dec": _by_one(True),
    "com": _turned_over, "neg": _negated, "lsr": _shift_right("lsr"), "ror": _shift_right("ror"),
    "asr": _shift_right("asr"), "lsl": _doubled(False), "rol": _doubled(True), "tst": _test,
    "clr": _clear, "ser": _fill, "swap": _swapped, "mul": _product((False, False)),
    "muls": _product((True, True)), "mulsu": _product((True, False)), "adiw": _word_sum(False),
    "sbiw": _word_sum(True), "bst": _to_flag, "bld": _from_flag, "ld": _load, "ldd": _load,
    "st": _store, "std": _store, "lds": _load_direct, "sts": _store_direct,
}  # fmt: skip


@lru_cache(maxsize=1 << 16)
def operations(mnemonic: str, operands: tuple[str, ...], width: int = 8) -> Steps:
    """Return the steps of an instruction; raises NotEvaluableError for what has none."""
    out = Writer()
    if mnemonic in ("nop", "rjmp", "jmp"):
        return ()
    if mnemonic in _TESTS:
        out.set(o.BRANCH, _TESTS[mnemonic])
        return tuple(out.steps)
    texts = tuple(text.replace(" ", "") for text in operands)
    try:
        if mnemonic == "push":
            out.store(1, reg("sp"), reg(_register(texts[0])))
            out.set("sp", low(16, sub(reg("sp"), const(1))))
        elif mnemonic == "pop":
            out.set("sp", low(16, add(reg("sp"), const(1))))
            out.set(_register(texts[0]), ("load", 1, reg("sp")))
        else:
            _RULES[mnemonic](out, texts)
    except (KeyError, IndexError, ValueError):
        raise NotEvaluableError(mnemonic) from None
    return tuple(out.steps)


EVALUATION = o.Evaluation(operations, (8,), FLAGS)
