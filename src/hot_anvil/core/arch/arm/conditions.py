"""Flags and conditions of ARM and AArch64 (Arm ARM, C1.2.4): carry of a difference is no borrow."""

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.operations import (
    Expr,
    Writer,
    add,
    bit,
    both,
    const,
    either,
    invert,
    is_zero,
    low,
    opposite,
    reg,
    xor,
)

FLAGS = ("N", "Z", "C", "V")
_N, _Z, _C, _V = map(reg, FLAGS)
_PLAIN: dict[str, Expr] = {
    "eq": _Z, "cs": _C, "hs": _C, "mi": _N, "vs": _V, "hi": both(_C, opposite(_Z)),
    "lt": xor(_N, _V), "le": either(_Z, xor(_N, _V)),
}  # fmt: skip
CONDITIONS: dict[str, Expr] = _PLAIN | {
    name: opposite(_PLAIN[other])
    for name, other in (
        ("ne", "eq"), ("cc", "cs"), ("lo", "cs"), ("pl", "mi"), ("vc", "vs"), ("ls", "hi"),
        ("ge", "lt"), ("gt", "le"),
    )
}  # fmt: skip
CONDITIONS["al"] = const(1)


def sum_of(out: Writer, a: Expr, b: Expr, carry: Expr, width: int, flags: bool) -> Expr:
    """Return a + b + carry, with all four flags if asked; a difference is a + ~b + 1."""
    a, b = out.hold(a), out.hold(low(width, b))
    result = out.hold(low(width, add(add(a, b), carry)))
    if flags:
        out.flags(
            **negative_and_zero(result, width),
            C=o.carry_of_add(a, b, result, width),
            V=o.overflow_of_add(a, b, result, width),
        )
    return result


def difference_of(out: Writer, a: Expr, b: Expr, width: int, flags: bool) -> Expr:
    """Return a - b."""
    return sum_of(out, a, invert(b), const(1), width, flags)


def negative_and_zero(result: Expr, width: int) -> dict[str, Expr]:
    """Return the two flags that tell of a result's own value."""
    return {"N": bit(result, width - 1), "Z": is_zero(result)}
