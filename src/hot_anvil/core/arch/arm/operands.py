"""Operands of ARM and Thumb, as expressions of the common language."""

import re
from collections.abc import Callable

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.arm.syntax import family_of
from hot_anvil.core.arch.operations import (
    UNDEFINED_BIT,
    Expr,
    NotEvaluableError,
    Writer,
    arithmetic_right,
    bit,
    both,
    choose,
    const,
    either,
    is_zero,
    left,
    low,
    reg,
    right,
    sign,
    sub,
)

_REGISTER = re.compile(r"r\d+|sp|lr|pc|ip|fp|sl|sb")
_SHIFTED = re.compile(r"(lsl|lsr|asr|ror)(.+)")
PLACE = re.compile(r"\[(\w+)(?:,([^\]]*))?\](!?)")
_HALF = re.compile(r"#?:(lower16|upper16):(.+)")


def number(text: str) -> int:
    """Return an immediate or the address of a symbol, or the half of it asked for."""
    half = _HALF.fullmatch(text)
    if half:
        at = o.place(half[2], 32)
        return at & 0xFFFF if half[1] == "lower16" else at >> 16
    return o.place(text.lstrip("#"), 32) & 0xFFFFFFFF


def value_of(text: str) -> Expr:
    """Return the value of a register or immediate; pc is not evaluable."""
    if _REGISTER.fullmatch(text):
        family = family_of(text)[0]
        if family == "r15":
            raise NotEvaluableError(text)
        return reg(family)
    return const(number(text))


def shift_by(kind: str, a: Expr, n: Expr) -> tuple[Expr, Expr]:
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


def changed_by(a: Expr, how: str) -> tuple[Expr, Expr]:
    """Return (value, carry) of an operand with a shift behind it."""
    found = _SHIFTED.fullmatch(how)
    if not found:
        raise NotEvaluableError(how)
    n = value_of(found[2])
    n = n if n[0] == "const" else low(8, n)
    value, carry = shift_by(found[1], a, n)
    return value, choose(is_zero(n), reg("C"), carry)


class Operands:
    """The operands of one instruction, and whether it sets the flags."""

    def __init__(self, texts: tuple[str, ...], flags: bool) -> None:
        self.texts = texts
        self.flags = flags

    def __getitem__(self, n: int) -> Expr:
        return value_of(self.texts[n])

    def last_of(self, n: int) -> tuple[Expr, Expr]:
        """Return (value, carry) of the operand from the n-th on."""
        if len(self.texts) > n + 1:
            return changed_by(self[n], self.texts[n + 1])
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


def assign(out: Writer, text: str, value: Expr) -> None:
    """Write a register; a write of pc is a branch and not evaluable here."""
    family = family_of(text)[0]
    if family == "r15":
        raise NotEvaluableError("pc")
    out.set(family, low(32, value))


Rule = Callable[[Writer, Operands], None]
