"""Operands of AArch64, as expressions of the common language."""

import re
from collections.abc import Callable

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.aarch64.syntax import family_of
from hot_anvil.core.arch.operations import (
    Expr,
    NotEvaluableError,
    Writer,
    arithmetic_right,
    both,
    const,
    either,
    left,
    low,
    reg,
    right,
    sign,
    sub,
)

REGISTER = re.compile(r"([wx])(\d+|zr)|(w?sp)")
_SHIFTED = re.compile(r"(lsl|lsr|asr|ror|[su]xt[bhwx])#?(\d*)")
PLACE = re.compile(r"\[(\w+)(?:,([^\]]*))?\](!?)")
_HALF = re.compile(r":(\w+):(.+)")
BITS = {"b": 8, "h": 16, "w": 32, "x": 64}


def width_of(text: str) -> int:
    """Return 32 or 64, the bits of a general register; NotEvaluableError for others."""
    found = REGISTER.fullmatch(text)
    if not found:
        raise NotEvaluableError(text)
    return 32 if text[0] == "w" else 64


def number(text: str) -> int:
    """Return an immediate, the address of a symbol or the low 12 bits of it."""
    text = text.lstrip("#")
    half = _HALF.fullmatch(text)
    if half and half[1] == "lo12":
        return o.place(half[2]) & 0xFFF
    if half:
        raise NotEvaluableError(text)
    return o.place(text)


def value_of(text: str, width: int) -> Expr:
    """Return the value of a register or immediate."""
    if REGISTER.fullmatch(text):
        family = family_of(text)[0]
        return const(0) if family == "zr" else low(width_of(text), reg(family))
    return const(number(text) & ((1 << width) - 1))


def changed_by(value: Expr, how: str, width: int) -> Expr:
    """Return a second operand, shifted or extended as the third says."""
    found = _SHIFTED.fullmatch(how)
    if not found:
        raise NotEvaluableError(how)
    kind, by = found[1], const(int(found[2] or 0))
    if kind[1:3] == "xt":
        bits = BITS[kind[3]]
        wide = sign(bits, value) if kind[0] == "s" else low(bits, value)
        return low(width, left(wide, by))
    return low(width, by_kind(kind, value, by, width))


def by_kind(kind: str, a: Expr, n: Expr, width: int) -> Expr:
    """Return ``a`` shifted or rotated by ``n``."""
    if kind == "lsl":
        return left(a, n)
    if kind == "lsr":
        return right(a, n)
    if kind == "asr":
        return arithmetic_right(sign(width, a), n)
    return either(right(a, n), left(a, both(sub(const(width), n), const(width - 1))))


class Operands:
    """The operands of one instruction."""

    def __init__(self, texts: tuple[str, ...]) -> None:
        self.texts = texts
        self.width = width_of(texts[0])

    def __getitem__(self, n: int) -> Expr:
        return value_of(self.texts[n], self.width)

    def last_of(self, n: int) -> Expr:
        """Return the operand from the n-th on, with a shift behind it."""
        value = self[n]
        return (
            changed_by(value, self.texts[n + 1], self.width) if len(self.texts) > n + 1 else value
        )


def assign(out: Writer, text: str, value: Expr) -> None:
    """Write a register; 32 bits clear the upper half, and zr takes nothing."""
    family = family_of(text)[0]
    if family != "zr":
        out.set(family, low(width_of(text), value))


Rule = Callable[[Writer, Operands], None]
