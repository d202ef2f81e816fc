"""Operands, flags and conditions of x86-64, as expressions of the common language."""

import re
from collections.abc import Callable

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.operations import (
    Expr,
    NotEvaluableError,
    Writer,
    add,
    bit,
    both,
    const,
    either,
    is_zero,
    left,
    low,
    mul,
    opposite,
    reg,
    right,
    xor,
)
from hot_anvil.core.arch.x86.registers import family_of

FLAGS = ("CF", "ZF", "SF", "OF")
CF, ZF, SF, OF = map(reg, FLAGS)
WIDTH = {"b": 8, "w": 16, "l": 32, "q": 64}
_VIEW = {"r": 64, "e": 32, "w": 16, "b": 8, "h": 8}
CONDITIONS = {
    "o": OF, "b": CF, "e": ZF, "be": either(CF, ZF), "s": SF, "l": xor(SF, OF),
    "le": either(ZF, xor(SF, OF)),
}  # fmt: skip
_OTHER_NAMES = (
    ("c", "b"), ("nae", "b"), ("z", "e"), ("na", "be"), ("nge", "l"), ("ng", "le"),
)  # fmt: skip
CONDITIONS |= {name: CONDITIONS[other] for name, other in _OTHER_NAMES}
CONDITIONS |= {
    n: opposite(CONDITIONS[m])
    for n, m in (
        ("no", "o"), ("nb", "b"), ("ae", "b"), ("nc", "b"), ("ne", "e"), ("nz", "e"),
        ("nbe", "be"), ("a", "be"), ("ns", "s"), ("nl", "l"), ("ge", "l"), ("nle", "le"),
        ("g", "le"),
    )
}  # fmt: skip
_MEMORY = re.compile(r"([^(]*)(?:\((%\w+)?(?:, ?(%\w+))?(?:, ?(\d))?\))?")


class Register:
    """A register operand."""

    def __init__(self, text: str) -> None:
        self.family, view = family_of(text)
        if view not in _VIEW:
            raise NotEvaluableError(text)
        self.width = _VIEW[view]
        self.high = view == "h"


class Place:
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


Operand = Register | Place | _Number


def operand_of(text: str) -> Operand:
    """Return the operand an AT&T text names; NotEvaluableError for one not understood."""
    if text[:1] == "$":
        return _Number(text[1:])
    if text[:1] == "%":
        return Register(text)
    return Place(text)


def read(one: Operand, width: int) -> Expr:
    """Return the value of an operand, ``width`` bits of it."""
    if isinstance(one, _Number):
        return const(one.value & ((1 << width) - 1))
    if isinstance(one, Place):
        return ("load", width // 8, one.at)
    value = reg(one.family)
    return low(8, right(value, const(8))) if one.high else low(width, value)


def write(out: Writer, one: Operand, width: int, value: Expr) -> None:
    """Write a result; 32 bits clear the upper half of a register, 8 and 16 keep the rest."""
    if isinstance(one, Place):
        out.store(width // 8, one.at, value)
    elif isinstance(one, Register):
        if width >= 32:
            out.set(one.family, low(width, value))
            return
        shift = 8 if one.high else 0
        mask = ((1 << width) - 1) << shift
        part = left(low(width, value), const(shift)) if shift else low(width, value)
        out.set(one.family, either(both(reg(one.family), const(~mask)), part))


def zero_and_sign(result: Expr, width: int) -> dict[str, Expr]:
    """Return the flags ZF and SF of a result."""
    return {"ZF": is_zero(result), "SF": bit(result, width - 1)}


Rule = Callable[[Writer, list[Operand], int], None]
