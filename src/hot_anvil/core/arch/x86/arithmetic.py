"""What copies, sums, logic, products and divisions of x86-64 compute."""

from collections.abc import Callable

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.operations import (
    UNDEFINED_BIT,
    Expr,
    NotEvaluableError,
    Writer,
    add,
    arithmetic_right,
    const,
    either,
    equal,
    invert,
    left,
    low,
    mul,
    opposite,
    reg,
    right,
    sign,
    sub,
)
from hot_anvil.core.arch.x86.operands import (
    CF,
    FLAGS,
    Operand,
    Place,
    Register,
    Rule,
    read,
    write,
    zero_and_sign,
)


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
    flags = {"OF": over, **zero_and_sign(result, width)}
    if sets_carry:
        flags["CF"] = (o.borrow_of_sub if minus else o.carry_of_add)(a, b, result, width)
    out.flags(**flags)
    return result


def sums(minus: bool, stores: bool = True, carries: bool = False) -> Rule:
    """Add or subtract, with the carry (``adc``, ``sbb``) or for the flags only (``cmp``)."""

    def rule(out: Writer, operands: list[Operand], width: int) -> None:
        a, b = out.hold(read(operands[1], width)), out.hold(read(operands[0], width))
        result = _sum(out, a, b, width, minus, out.hold(CF) if carries else None)
        if stores:
            write(out, operands[1], width, result)

    return rule


def logic(combine: Callable[[Expr, Expr], Expr], stores: bool = True) -> Rule:
    """Combine bit by bit; CF and OF are cleared."""

    def rule(out: Writer, operands: list[Operand], width: int) -> None:
        goal, first = operands[-1], operands[1]  # the same one where there are two
        result = out.hold(low(width, combine(read(first, width), read(operands[0], width))))
        out.flags(CF=const(0), OF=const(0), **zero_and_sign(result, width))
        if stores:
            write(out, goal, width, result)

    return rule


def move(out: Writer, operands: list[Operand], width: int) -> None:
    """Copy the source."""
    write(out, operands[1], width, read(operands[0], width))


def address(out: Writer, operands: list[Operand], width: int) -> None:
    """Compute an address without a load (``lea``)."""
    if not isinstance(operands[0], Place):
        raise NotEvaluableError("lea")
    write(out, operands[1], width, operands[0].at)


def complement(out: Writer, operands: list[Operand], width: int) -> None:
    """Turn every bit; no flag changes."""
    write(out, operands[0], width, invert(read(operands[0], width)))


def negate(out: Writer, operands: list[Operand], width: int) -> None:
    """Subtract from zero."""
    value = out.hold(read(operands[0], width))
    write(out, operands[0], width, _sum(out, const(0), value, width, True))


def by_one(minus: bool) -> Rule:
    """Add or subtract one; CF stays as it was."""

    def rule(out: Writer, operands: list[Operand], width: int) -> None:
        value = out.hold(read(operands[0], width))
        result = _sum(out, value, const(1), width, minus, sets_carry=False)
        write(out, operands[0], width, result)

    return rule


def product(out: Writer, factor: Operand, width: int, signed: bool) -> None:
    """Multiply the accumulator: the result has twice the width."""
    a, b = out.hold(low(width, reg("ax"))), out.hold(read(factor, width))
    wide = (lambda e: sign(width, e)) if signed else (lambda e: e)
    lower = out.hold(mul(wide(a), wide(b)))
    kind = "high signed" if signed else "high unsigned"
    upper = out.hold((kind, a, b) if width == 64 else low(width, right(lower, const(width))))
    if width == 8:
        write(out, Register("%ax"), 16, lower)
    else:
        write(out, Register("%rax"), max(width, 16) if width == 16 else width, lower)
        write(out, Register("%rdx"), width, upper)
    filled = low(width, arithmetic_right(sign(width, lower), const(63))) if signed else const(0)
    big = opposite(equal(upper, filled))
    out.flags(CF=big, OF=big, ZF=UNDEFINED_BIT, SF=UNDEFINED_BIT)


def multiply(out: Writer, operands: list[Operand], width: int) -> None:
    """Multiply signed, with one, two or three operands (``imul``)."""
    if len(operands) == 1:
        product(out, operands[0], width, True)
        return
    source = operands[0] if len(operands) == 3 else operands[1]
    a, b = (out.hold(sign(width, read(one, width))) for one in (operands[-2], source))
    result = out.hold(mul(a, b))
    if width == 64:
        fits = equal(("high signed", a, b), arithmetic_right(result, const(63)))
    else:
        fits = equal(sign(width, result), result)
    out.flags(CF=opposite(fits), OF=opposite(fits), ZF=UNDEFINED_BIT, SF=UNDEFINED_BIT)
    write(out, operands[-1], width, result)


def divide(signed: str) -> Rule:
    """Divide the double accumulator; a quotient that does not fit is a fault."""

    def rule(out: Writer, operands: list[Operand], width: int) -> None:
        by, ax = out.hold(read(operands[0], width)), reg("ax")
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
            write(out, Register("%ax"), 16, either(quotient, left(rest, const(8))))
        else:
            write(out, Register("%rax"), width, quotient)
            write(out, Register("%rdx"), width, rest)
        out.flags(**dict.fromkeys(FLAGS, UNDEFINED_BIT))

    return rule
