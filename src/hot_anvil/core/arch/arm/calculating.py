"""What calculations of ARM and Thumb compute: sums, logic, shifts, products, fields."""

from collections.abc import Callable

from hot_anvil.core.arch.arm.conditions import negative_and_zero, sum_of
from hot_anvil.core.arch.arm.operands import Operands, Rule, assign, number, shift_by
from hot_anvil.core.arch.operations import (
    Expr,
    Writer,
    add,
    both,
    choose,
    const,
    either,
    invert,
    is_zero,
    left,
    low,
    mul,
    reg,
    right,
    sign,
    sub,
)


def arithmetic(minus: bool, turned: bool = False, carry: bool = False) -> Rule:
    """Add or subtract; ``turned`` subtracts the first operand (``rsb``)."""

    def rule(out: Writer, own: Operands) -> None:
        a, (b, _) = own.of_two()
        a, b = (b, a) if turned else (a, b)
        start = reg("C") if carry else const(1 if minus else 0)
        result = sum_of(out, a, invert(b) if minus else b, start, 32, own.flags)
        assign(out, own.texts[0], result)

    return rule


def compared(minus: bool) -> Rule:
    """Add or subtract for the flags only (``cmn``, ``cmp``)."""

    def rule(out: Writer, own: Operands) -> None:
        b, _ = own.last_of(1)
        sum_of(out, own[0], invert(b) if minus else b, const(1 if minus else 0), 32, True)

    return rule


def logic(combine: Callable[[Expr, Expr], Expr], stores: bool = True) -> Rule:
    """Combine bit by bit; C comes from a shifted operand."""

    def rule(out: Writer, own: Operands) -> None:
        a, (b, carry) = own.of_two() if stores else (own[0], own.last_of(1))
        result = out.hold(low(32, combine(a, b)))
        if own.flags or not stores:
            out.flags(**negative_and_zero(result, 32), C=carry)
        if stores:
            assign(out, own.texts[0], result)

    return rule


def moved(inverted: bool) -> Rule:
    """Copy an operand, shifted or inverted on the way (``mov``, ``mvn``)."""

    def rule(out: Writer, own: Operands) -> None:
        value, carry = own.last_of(1)
        result = out.hold(low(32, invert(value) if inverted else value))
        if own.flags:
            out.flags(**negative_and_zero(result, 32), C=carry)
        assign(out, own.texts[0], result)

    return rule


def shifts(kind: str) -> Rule:
    """Shift by a number or a register; a count of zero leaves C."""

    def rule(out: Writer, own: Operands) -> None:
        a, n = (own[0], own[1]) if len(own.texts) == 2 else (own[1], own[2])
        n = n if n[0] == "const" else out.hold(low(8, n))
        value, carry = shift_by(kind, a, n)
        result = out.hold(value)
        if own.flags:
            held = choose(is_zero(n), reg("C"), carry)
            out.flags(**negative_and_zero(result, 32), C=held)
        assign(out, own.texts[0], result)

    return rule


def multiplied(out: Writer, own: Operands) -> None:
    """Multiply, 32 bits of the product."""
    a, b = (own[0], own[1]) if len(own.texts) == 2 else (own[1], own[2])
    result = out.hold(low(32, mul(a, b)))
    if own.flags:
        out.flags(**negative_and_zero(result, 32))
    assign(out, own.texts[0], result)


def sum_of_product(minus: bool) -> Rule:
    """Multiply and add to or subtract from a third operand (``mla``, ``mls``)."""

    def rule(out: Writer, own: Operands) -> None:
        product = mul(own[1], own[2])
        assign(out, own.texts[0], sub(own[3], product) if minus else add(own[3], product))

    return rule


def long_product(signed: bool, adds: bool) -> Rule:
    """Multiply to 64 bits in two registers, adding to them if asked (``umlal``)."""

    def rule(out: Writer, own: Operands) -> None:
        a, b = own[2], own[3]
        whole = mul(sign(32, a), sign(32, b)) if signed else mul(a, b)
        if adds:
            whole = add(whole, either(own[0], left(own[1], const(32))))
        held = out.hold(whole)
        assign(out, own.texts[0], held)
        assign(out, own.texts[1], right(held, const(32)))

    return rule


def high_product(out: Writer, own: Operands) -> None:
    """Return the upper half of a signed product (``smmul``)."""
    assign(out, own.texts[0], right(mul(sign(32, own[1]), sign(32, own[2])), const(32)))


def half_product(first: str, second: str, adds: bool) -> Rule:
    """Multiply bottom or top halves (``smulbt``, ``smlabb`` …)."""

    def half(e: Expr, which: str) -> Expr:
        return sign(16, right(e, const(16)) if which == "t" else e)

    def rule(out: Writer, own: Operands) -> None:
        product = mul(half(own[1], first), half(own[2], second))
        assign(out, own.texts[0], add(product, own[3]) if adds else product)

    return rule


def divided(kind: str) -> Rule:
    """Divide; by zero gives zero."""

    def rule(out: Writer, own: Operands) -> None:
        a, b = (own[0], own[1]) if len(own.texts) == 2 else (own[1], own[2])
        assign(out, own.texts[0], ("quotient", kind, 32, 0, a, b))

    return rule


def of_one(make: Callable[[Expr], Expr]) -> Rule:
    """Apply ``make`` to the one source."""
    return lambda out, own: assign(out, own.texts[0], make(own[1]))


def extension(bits: int, signed: bool, adds: bool) -> Rule:
    """Extend the low bits and, with ``adds``, add the first source (``uxtab``)."""

    def rule(out: Writer, own: Operands) -> None:
        at = 2 if adds and len(own.texts) > 2 else 1 if len(own.texts) > 1 else 0
        value = own.last_of(at)[0]
        wide = sign(bits, value) if signed else low(bits, value)
        assign(out, own.texts[0], add(own[1], wide) if adds else wide)

    return rule


def bit_field(signed: bool) -> Rule:
    """Take a field of bits to the bottom (``ubfx``, ``sbfx``)."""

    def rule(out: Writer, own: Operands) -> None:
        first, count = number(own.texts[2]), number(own.texts[3])
        part = right(own[1], const(first))
        assign(out, own.texts[0], sign(count, part) if signed else low(count, part))

    return rule


def insertion(out: Writer, own: Operands) -> None:
    """Replace a field of bits, with zeros where no source is given (``bfi``, ``bfc``)."""
    clears = len(own.texts) == 3
    first, count = (number(text) for text in own.texts[-2:])
    mask = ((1 << count) - 1) << first
    part = const(0) if clears else both(left(own[1], const(first)), const(mask))
    assign(out, own.texts[0], either(both(own[0], const(~mask)), part))


def move_top(out: Writer, own: Operands) -> None:
    """Replace the upper half (``movt``)."""
    upper = const((number(own.texts[1]) & 0xFFFF) << 16)
    assign(out, own.texts[0], either(low(16, own[0]), upper))


def bytes_turned(e: Expr) -> Expr:
    """Return 32 bits with their bytes reversed."""
    return right(("reversed bytes", e), const(32))


def halves_turned(e: Expr) -> Expr:
    """Return 32 bits with the bytes of each half reversed."""
    odd, even = const(0xFF00FF00), const(0x00FF00FF)
    return either(right(both(e, odd), const(8)), left(both(e, even), const(8)))
