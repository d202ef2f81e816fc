"""What shifts, rotates and operations on single bits of x86-64 compute."""

from collections.abc import Callable

from hot_anvil.core.arch.operations import (
    UNDEFINED_BIT,
    Expr,
    NotEvaluableError,
    Writer,
    arithmetic_right,
    below,
    bit,
    both,
    choose,
    const,
    either,
    equal,
    is_zero,
    left,
    low,
    reg,
    right,
    sign,
    sub,
    xor,
)
from hot_anvil.core.arch.x86.operands import (
    Operand,
    Place,
    Register,
    Rule,
    read,
    write,
    zero_and_sign,
)


def _count(out: Writer, operands: list[Operand], width: int) -> Expr:
    """Return the count, as many bits of it as the processor looks at."""
    given = read(operands[0], 8) if len(operands) > 1 else const(1)
    return out.hold(both(given, const(63 if width == 64 else 31)))


def _as_counted(n: Expr, none: Expr, flags: dict[str, Expr]) -> dict[str, Expr]:
    """Return flags after ``n`` steps: as before them if ``none``, OF known after one only."""
    once = {**flags, "OF": choose(equal(n, const(1)), flags["OF"], UNDEFINED_BIT)}
    return {f: choose(none, reg(f), e) for f, e in once.items()}


def shift_by(kind: str) -> Rule:
    """Shift; no flag changes where the count is zero."""

    def rule(out: Writer, operands: list[Operand], width: int) -> None:
        n, a = _count(out, operands, width), out.hold(read(operands[-1], width))
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
        flags = {"CF": last, "OF": over, **zero_and_sign(result, width)}
        out.flags(**_as_counted(n, none, flags))
        write(out, operands[-1], width, result)

    return rule


def rotate(leftwards: bool, flags: bool = True) -> Rule:
    """Rotate; ``flags`` is false for ``rorx``, which has an operand more and sets none."""

    def rule(out: Writer, operands: list[Operand], width: int) -> None:
        n = _count(out, operands, width)
        a = out.hold(read(operands[-1] if flags else operands[-2], width))
        by = out.hold(both(n, const(width - 1)))
        other = both(sub(const(width), by), const(width - 1))
        up, down = (by, other) if leftwards else (other, by)
        result = out.hold(low(width, either(left(a, up), right(a, down))))
        if flags:
            none, top = is_zero(n), bit(result, width - 1)
            carry = bit(result, 0) if leftwards else top
            over = xor(top, bit(result, 0) if leftwards else bit(result, width - 2))
            out.flags(**_as_counted(n, none, {"CF": carry, "OF": over}))
        write(out, operands[-1], width, result)

    return rule


def double_shift(leftwards: bool) -> Rule:
    """Shift, bits of another register coming in (``shld``, ``shrd``)."""

    def rule(out: Writer, operands: list[Operand], width: int) -> None:
        if width == 16:
            raise NotEvaluableError("a double shift of 16 bits")
        given = operands if len(operands) == 3 else [Register("%cl"), *operands]
        n = _count(out, given, width)
        a, b = out.hold(read(given[-1], width)), out.hold(read(given[-2], width))
        rest = sub(const(width), n)
        joined = (
            either(left(a, n), right(b, rest)) if leftwards else either(right(a, n), left(b, rest))
        )
        none = out.hold(is_zero(n))
        result = out.hold(choose(none, a, low(width, joined)))
        last = bit(right(a, rest if leftwards else sub(n, const(1))), 0)
        over = right(xor(a, result), const(width - 1))
        flags = {"CF": last, "OF": over, **zero_and_sign(result, width)}
        out.flags(**_as_counted(n, none, flags))
        write(out, given[-1], width, result)

    return rule


def plain_shift(kind: str) -> Rule:
    """Shift without flags by a register (``shlx``, ``shrx``, ``sarx``)."""

    def rule(out: Writer, operands: list[Operand], width: int) -> None:
        n, a = both(read(operands[0], width), const(width - 1)), read(operands[1], width)
        made = {
            "left": left(a, n), "right": right(a, n),
            "arithmetic": arithmetic_right(sign(width, a), n),
        }[kind]  # fmt: skip
        write(out, operands[2], width, made)

    return rule


def swap_bytes(out: Writer, operands: list[Operand], width: int) -> None:
    """Reverse the bytes."""
    turned = ("reversed bytes", read(operands[0], width))
    write(out, operands[0], width, right(turned, const(64 - width)))


def exchange(out: Writer, operands: list[Operand], width: int) -> None:
    """Write each operand to the other."""
    a, b = out.hold(read(operands[0], width)), out.hold(read(operands[1], width))
    write(out, operands[0], width, b)
    write(out, operands[1], width, a)


def one_bit(change: Callable[[Expr, Expr], Expr] | None) -> Rule:
    """Copy one bit to CF and change it with ``change``, if given (``bt``, ``bts`` …)."""

    def rule(out: Writer, operands: list[Operand], width: int) -> None:
        if isinstance(operands[1], Place) and isinstance(operands[0], Register):
            raise NotEvaluableError("bits of a string in memory")
        n = out.hold(both(read(operands[0], width), const(width - 1)))
        a = out.hold(read(operands[1], width))
        out.flags(CF=bit(right(a, n), 0), SF=UNDEFINED_BIT, OF=UNDEFINED_BIT)
        if change:
            write(out, operands[1], width, change(a, left(const(1), n)))

    return rule


def scan(kind: str) -> Rule:
    """Find the first or last set bit or count them (``bsf``, ``lzcnt``, ``popcnt`` …)."""

    def rule(out: Writer, operands: list[Operand], width: int) -> None:
        a = out.hold(read(operands[0], width))
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
        write(out, operands[1], width, result)

    return rule
