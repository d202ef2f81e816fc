"""The common language in which instruction sets say what an instruction does.

An instruction is a run of steps, one after another:

    ("set", name, e)         a register, a flag or a temporary becomes e
    ("store", bytes, at, e)  memory at address ``at``, the lowest byte first
    ("fault", e)             the program is stopped where e is not 0

A flag holds 0 or 1; a conditional branch sets the name BRANCH to 1 where it is taken. An
expression ``e`` is a tuple too; each value has 64 bits, zero above the width it is kept in:

    ("reg", name)  ("const", number)  ("load", bytes, at)  ("undefined",)
    ("low", width, e)   the low bits, the rest 0
    ("sign", width, e)  the low bits as a signed number, in 64 bits
    (operator, e, ...)  an operator of ``core.evaluate.operators``
"""

import re
from collections.abc import Callable
from functools import lru_cache
from typing import Any, NamedTuple
from zlib import crc32

Expr = tuple[Any, ...]
Step = tuple[Any, ...]
Steps = tuple[Step, ...]

ALL = (1 << 64) - 1
BRANCH = "branch"  # the name that says whether a conditional branch is taken


class NotEvaluableError(Exception):
    """An instruction that this language does not say; its text says which."""


class Evaluation(NamedTuple):
    """How an instruction set's code is evaluated; ``EVALUATION`` in its ``operations``."""

    # (mnemonic, operands, bits of a register) -> steps; raises NotEvaluableError
    operations: Callable[[str, tuple[str, ...], int], Steps]
    widths: tuple[int, ...]  # bits that a register may have: what holds must hold for each
    flags: tuple[str, ...]


def _refused(mnemonic: str, operands: tuple[str, ...], width: int) -> Steps:
    raise NotEvaluableError(mnemonic)


NOT_EVALUATED = Evaluation(_refused, (64,), ())  # an instruction set whose code is not evaluated


def const(value: int) -> Expr:
    """Return a number."""
    return ("const", value & ALL)


def reg(name: str) -> Expr:
    """Return what a register or flag holds."""
    return ("reg", name)


def low(width: int, e: Expr) -> Expr:
    """Return the low bits of a value."""
    return e if width == 64 else ("low", width, e)


def sign(width: int, e: Expr) -> Expr:
    """Return the low bits of a value as a signed number in 64 bits."""
    return e if width == 64 else ("sign", width, e)


def add(a: Expr, b: Expr) -> Expr:
    """Return a sum of 64 bits."""
    return ("add", a, b)


def sub(a: Expr, b: Expr) -> Expr:
    """Return a difference of 64 bits."""
    return ("sub", a, b)


def mul(a: Expr, b: Expr) -> Expr:
    """Return the low 64 bits of a product."""
    return ("mul", a, b)


def both(a: Expr, b: Expr) -> Expr:
    """Return the bits that are set in both."""
    return ("and", a, b)


def either(a: Expr, b: Expr) -> Expr:
    """Return the bits that are set in one of two."""
    return ("or", a, b)


def xor(a: Expr, b: Expr) -> Expr:
    """Return the bits in which two values differ."""
    return ("exclusive or", a, b)


def invert(a: Expr) -> Expr:
    """Return all bits turned over."""
    return ("not", a)


def left(a: Expr, n: Expr) -> Expr:
    """Return a value shifted left; by 64 and more it becomes 0."""
    return ("left", a, n)


def right(a: Expr, n: Expr) -> Expr:
    """Return a value shifted right, zeros coming in; by 64 and more it becomes 0."""
    return ("right", a, n)


def arithmetic_right(a: Expr, n: Expr) -> Expr:
    """Return a value of 64 bits shifted right, its sign coming in."""
    return ("arithmetic right", a, n)


def equal(a: Expr, b: Expr) -> Expr:
    """Return 1 where two values are equal, else 0."""
    return ("equal", a, b)


def below(a: Expr, b: Expr) -> Expr:
    """Return 1 where one unsigned value is below another, else 0."""
    return ("below", a, b)


def less(a: Expr, b: Expr) -> Expr:
    """Return 1 where one signed value of 64 bits is less than another, else 0."""
    return ("less", a, b)


def is_zero(e: Expr) -> Expr:
    """Return 1 where a value is 0, else 0."""
    return equal(e, const(0))


def opposite(e: Expr) -> Expr:
    """Return 0 for 1 and 1 for 0."""
    return xor(e, const(1))


def choose(condition: Expr, a: Expr, b: Expr) -> Expr:
    """Return one value where a condition is not 0, else another."""
    return ("choose", condition, a, b)


def bit(e: Expr, n: int) -> Expr:
    """Return one bit of a value."""
    return both(right(e, const(n)), const(1))


def carry_of_add(a: Expr, b: Expr, result: Expr, width: int) -> Expr:
    """Return the carry out of a sum, which may have had a carry come in: the majority rule."""
    return bit(either(both(a, b), both(either(a, b), invert(result))), width - 1)


def borrow_of_sub(a: Expr, b: Expr, result: Expr, width: int) -> Expr:
    """Return the borrow of a difference a - b, which may have had one come in."""
    return bit(either(both(invert(a), b), both(either(invert(a), b), result)), width - 1)


def overflow_of_add(a: Expr, b: Expr, result: Expr, width: int) -> Expr:
    """Return whether a signed sum left its range."""
    return bit(both(xor(a, result), xor(b, result)), width - 1)


def overflow_of_sub(a: Expr, b: Expr, result: Expr, width: int) -> Expr:
    """Return whether a signed difference a - b left its range."""
    return bit(both(xor(a, b), xor(a, result)), width - 1)


UNDEFINED_BIT = both(const(1), ("undefined",))


class Writer:
    """Collects the steps of one instruction."""

    def __init__(self) -> None:
        self.steps: list[Step] = []
        self._made = 0

    def set(self, name: str, e: Expr) -> None:
        """Give a register or flag a value."""
        self.steps.append(("set", name, e))

    def hold(self, e: Expr) -> Expr:
        """Keep a value under a name of its own, and return that."""
        if e[0] == "const" or (e[0] == "reg" and e[1].startswith("%")):
            return e
        self._made += 1
        name = f"%{self._made}"
        self.set(name, e)
        return reg(name)

    def store(self, count: int, at: Expr, e: Expr) -> None:
        """Write bytes to memory."""
        self.steps.append(("store", count, at, e))

    def fault(self, e: Expr) -> None:
        """Stop the program where a value is not 0."""
        self.steps.append(("fault", e))

    def flags(self, **values: Expr) -> None:
        """Set flags at once: none sees another's new value."""
        held = {name: self.hold(e) for name, e in values.items()}
        for name, e in held.items():
            self.set(name, e)


_SYMBOL = re.compile(r"([A-Za-z_.{$][\w.$@{}]*)((?:[+-]\d+)*)")


@lru_cache(maxsize=1 << 14)
def place(text: str, width: int = 64) -> int:
    """Return a number, or the address that stands for a symbol: one far place for each name.

    Raises NotEvaluableError for other texts.
    """
    try:
        return int(text, 0)
    except ValueError:
        pass
    found = _SYMBOL.fullmatch(text)
    if not found:
        raise NotEvaluableError(text)
    offset = sum(int(part) for part in re.findall(r"[+-]\d+", found[2]))
    own = crc32(found[1].encode())
    if width <= 16:
        return 0x2000 + (own % 0x180) * 64 + offset & 0xFFFF
    if width <= 32:
        return 0x20000000 + (own % 0x8000) * 4096 + offset & 0xFFFFFFFF
    return 0x500000000000 + (own << 12) + offset
