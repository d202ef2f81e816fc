"""What calculations of AArch64 compute: sums, logic, shifts, products, fields, choices."""

from collections.abc import Callable

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.aarch64.operands import Operands, Rule, assign, by_kind, number, value_of
from hot_anvil.core.arch.arm.conditions import (
    CONDITIONS,
    difference_of,
    negative_and_zero,
    sum_of,
)
from hot_anvil.core.arch.operations import (
    Expr,
    Writer,
    add,
    both,
    choose,
    const,
    either,
    invert,
    left,
    low,
    mul,
    reg,
    right,
    sign,
    sub,
)


def arithmetic(minus: bool, flags: bool = False, carry: bool = False) -> Rule:
    """Add or subtract, with the carry or the flags if asked."""

    def rule(out: Writer, own: Operands) -> None:
        a, b = own[1], own.last_of(2)
        start = reg("C") if carry else const(1 if minus else 0)
        result = sum_of(out, a, invert(b) if minus else b, start, own.width, flags)
        assign(out, own.texts[0], result)

    return rule


def compared(minus: bool) -> Rule:
    """Add or subtract for the flags only (``cmn``, ``cmp``)."""

    def rule(out: Writer, own: Operands) -> None:
        b = own.last_of(1)
        sum_of(out, own[0], invert(b) if minus else b, const(1 if minus else 0), own.width, True)

    return rule


def logic(combine: Callable[[Expr, Expr], Expr], flags: bool = False) -> Rule:
    """Combine bit by bit; the flags C and V are cleared where any is set."""

    def rule(out: Writer, own: Operands) -> None:
        result = out.hold(low(own.width, combine(own[1], own.last_of(2))))
        if flags:
            out.flags(**negative_and_zero(result, own.width), C=const(0), V=const(0))
        assign(out, own.texts[0], result)

    return rule


def tested(out: Writer, own: Operands) -> None:
    """Set the flags of ``and`` only."""
    result = out.hold(low(own.width, both(own[0], own.last_of(1))))
    out.flags(**negative_and_zero(result, own.width), C=const(0), V=const(0))


def of_one(make: Callable[[Expr, int], Expr]) -> Rule:
    """Apply ``make`` to the one source."""
    return lambda out, own: assign(out, own.texts[0], make(own.last_of(1), own.width))


def negated(flags: bool) -> Rule:
    """Subtract from zero."""

    def rule(out: Writer, own: Operands) -> None:
        assign(out, own.texts[0], difference_of(out, const(0), own.last_of(1), own.width, flags))

    return rule


def shift_by(kind: str) -> Rule:
    """Shift or rotate by a number or the low bits of a register."""

    def rule(out: Writer, own: Operands) -> None:
        n = both(own[2], const(own.width - 1))
        assign(out, own.texts[0], by_kind(kind, own[1], n, own.width))

    return rule


def sum_of_product(minus: bool, addend: bool = True) -> Rule:
    """Multiply and add to or subtract from a third operand, or zero."""

    def rule(out: Writer, own: Operands) -> None:
        product = mul(own[1], own[2])
        base = own[3] if addend else const(0)
        assign(out, own.texts[0], sub(base, product) if minus else add(base, product))

    return rule


def long_product(signed: bool, minus: bool = False, addend: bool = False) -> Rule:
    """Multiply 32 bits to 64 and add or subtract (``smaddl``, ``umull`` …)."""

    def rule(out: Writer, own: Operands) -> None:
        a, b = (value_of(text, 32) for text in own.texts[1:3])
        product = mul(sign(32, a), sign(32, b)) if signed else mul(a, b)
        base = own[3] if addend else const(0)
        assign(out, own.texts[0], sub(base, product) if minus else add(base, product))

    return rule


def _number_at(own: Operands, n: int) -> int:
    return number(own.texts[n])


def bit_field(signed: bool, insert: bool) -> Rule:
    """Take a field of bits to the bottom, or put the bottom bits in as a field (``bfiz``)."""

    def rule(out: Writer, own: Operands) -> None:
        first, count = _number_at(own, 2), _number_at(own, 3)
        if insert:
            part = low(count, own[1]) if not signed else sign(count, own[1])
            assign(out, own.texts[0], left(part, const(first)))
            return
        part = right(own[1], const(first))
        assign(out, own.texts[0], sign(count, part) if signed else low(count, part))

    return rule


def insertion(from_field: bool) -> Rule:
    """Replace a field of bits, the rest kept (``bfi``, ``bfxil``)."""

    def rule(out: Writer, own: Operands) -> None:
        first, count = _number_at(own, 2), _number_at(own, 3)
        mask = (1 << count) - 1
        if from_field:
            part, at = both(right(own[1], const(first)), const(mask)), 0
        else:
            part, at = left(both(own[1], const(mask)), const(first)), first
        rest = both(own[0], const(~(mask << at)))
        assign(out, own.texts[0], either(rest, part))

    return rule


def extension(bits: int, signed: bool) -> Rule:
    """Extend the low bits (``sxtw``, ``uxtb`` …)."""

    def rule(out: Writer, own: Operands) -> None:
        value = value_of(own.texts[1], 64)
        assign(out, own.texts[0], sign(bits, value) if signed else low(bits, value))

    return rule


def chosen(other: Callable[[Expr], Expr]) -> Rule:
    """Choose the first source or ``other`` of the second (``csel``, ``csinc`` …)."""

    def rule(out: Writer, own: Operands) -> None:
        condition = CONDITIONS[own.texts[3]]
        assign(out, own.texts[0], choose(condition, own[1], other(own[2])))

    return rule


def changed_if(other: Callable[[Expr], Expr]) -> Rule:
    """Apply ``other`` to the source if the condition holds (``cinc``, ``cneg`` …)."""

    def rule(out: Writer, own: Operands) -> None:
        assign(out, own.texts[0], choose(CONDITIONS[own.texts[2]], other(own[1]), own[1]))

    return rule


def plus_one(e: Expr) -> Expr:
    """Return e + 1."""
    return add(e, const(1))


def negative(e: Expr) -> Expr:
    """Return -e."""
    return sub(const(0), e)


def flag_set(mask: bool) -> Rule:
    """Make the condition a number: 1 or, with ``mask``, all ones (``cset``, ``csetm``)."""

    def rule(out: Writer, own: Operands) -> None:
        e = CONDITIONS[own.texts[1]]
        assign(out, own.texts[0], negative(e) if mask else e)

    return rule


def moved(out: Writer, own: Operands) -> None:
    """Copy the source."""
    assign(out, own.texts[0], own[1])


def moved_wide(keep: bool, inverted: bool) -> Rule:
    """Move 16 bits to their place, the rest kept, cleared or set."""

    def rule(out: Writer, own: Operands) -> None:
        by = int(own.texts[2][3:].lstrip("#")) if len(own.texts) > 2 else 0
        value = (_number_at(own, 1) & 0xFFFF) << by
        if keep:
            rest = both(own[0], const(~(0xFFFF << by)))
            assign(out, own.texts[0], either(rest, const(value)))
        else:
            assign(out, own.texts[0], const(~value if inverted else value))

    return rule


def page(out: Writer, own: Operands) -> None:
    """Return the 4 KiB page of a symbol (``adrp``)."""
    assign(out, own.texts[0], const(o.place(own.texts[1]) & ~0xFFF))


def turned_bytes(bits: int) -> Callable[[Expr, int], Expr]:
    """Reverse the bytes of each part of ``bits`` bits, or of the whole for 0."""

    def made(a: Expr, width: int) -> Expr:
        if bits == 0 or bits == width:
            return right(("reversed bytes", a), const(64 - width))
        if bits == 16:
            odd, even = const(0xFF00FF00FF00FF00), const(0x00FF00FF00FF00FF)
            return either(right(both(a, odd), const(8)), left(both(a, even), const(8)))
        swapped = ("reversed bytes", a)
        return either(right(swapped, const(32)), left(swapped, const(32)))

    return made


def conditionally_compared(minus: bool) -> Rule:
    """Compare if the condition holds, else set the flags given."""

    def rule(out: Writer, own: Operands) -> None:
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


def high(kind: str) -> Rule:
    """Return the upper half of a 128-bit product."""
    return lambda out, own: assign(out, own.texts[0], (kind, own[1], own[2]))


def divided(kind: str) -> Rule:
    """Divide; by zero gives zero."""

    def rule(out: Writer, own: Operands) -> None:
        e = ("quotient", kind, own.width, 0, own[1], own[2])
        assign(out, own.texts[0], e)

    return rule


def joined(out: Writer, own: Operands) -> None:
    """Take a register out of a pair of them (``extr``)."""
    by = _number_at(own, 3)
    upper = left(own[1], const(own.width - by)) if by else const(0)
    assign(out, own.texts[0], either(upper, right(own[2], const(by))))
