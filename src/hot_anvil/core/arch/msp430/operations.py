"""What the MSP430's instructions compute (SLAU144, chapter 3): 16 bits, carry is no borrow."""

import re
from collections.abc import Callable
from functools import lru_cache

from hot_anvil.core.arch import operations as o
from hot_anvil.core.arch.arm.conditions import FLAGS, sum_of
from hot_anvil.core.arch.msp430.syntax import family_of
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
    opposite,
    reg,
    right,
    sign,
    sub,
    xor,
)

_REGISTER = re.compile(r"r\d+|sp")
_N, _Z, _C, _V = map(reg, "NZCV")
_TESTS = {
    "jeq": _Z, "jz": _Z, "jne": opposite(_Z), "jnz": opposite(_Z), "jc": _C, "jhs": _C,
    "jnc": opposite(_C), "jlo": opposite(_C), "jn": _N, "jl": xor(_N, _V),
    "jge": opposite(xor(_N, _V)),
}  # fmt: skip


class _Operand:
    """A source or destination; one with ``+`` moves its register once it was read."""

    def __init__(self, text: str) -> None:
        self.register = family_of(text)[0] if _REGISTER.fullmatch(text) else ""
        self.number: int | None = None
        self.at: Expr | None = None
        self.moves = ""
        if self.register in ("r0", "r2", "r3"):
            raise NotEvaluableError(text)  # the program counter, the flags, constants
        if self.register:
            return
        if text.startswith("#"):
            self.number = o.place(text[1:], 16) & 0xFFFF
            return
        found = re.fullmatch(r"@(\w+)(\+?)", text)
        if found:
            self.at = reg(family_of(found[1])[0])
            self.moves = family_of(found[1])[0] if found[2] else ""
            return
        found = re.fullmatch(r"(.+)\((\w+)\)", text)
        if found:
            by = const(o.place(found[1], 16))
            self.at = low(16, add(reg(family_of(found[2])[0]), by))
        else:
            self.at = const(o.place(text.lstrip("&"), 16) & 0xFFFF)

    def read(self, out: Writer, width: int) -> Expr:
        """Return its value."""
        if self.number is not None:
            return const(self.number & ((1 << width) - 1))
        if self.register:
            return low(width, reg(self.register))
        assert self.at
        value = out.hold(("load", width // 8, self.at))
        if self.moves:
            step = 2 if width == 16 or self.moves == "r1" else 1
            out.set(self.moves, low(16, add(reg(self.moves), const(step))))
        return value

    def write(self, out: Writer, width: int, value: Expr) -> None:
        """Write it; a byte clears the rest of a register."""
        if self.register:
            out.set(self.register, low(width, value))
        elif self.at:
            out.store(width // 8, self.at, value)
        else:
            raise NotEvaluableError("a number is written")


_Rule = Callable[[Writer, _Operand, _Operand, int], None]


def _arithmetic(minus: bool, stores: bool = True, carry: bool = False) -> _Rule:
    def rule(out: Writer, source: _Operand, goal: _Operand, width: int) -> None:
        b = out.hold(source.read(out, width))
        a = out.hold(goal.read(out, width))
        start = _C if carry else const(1 if minus else 0)
        result = sum_of(out, a, invert(b) if minus else b, start, width, True)
        if stores:
            goal.write(out, width, result)

    return rule


def _logic(combine: Callable[[Expr, Expr], Expr], flags: bool, stores: bool = True) -> _Rule:
    def rule(out: Writer, source: _Operand, goal: _Operand, width: int) -> None:
        b = out.hold(source.read(out, width))
        a = out.hold(goal.read(out, width))
        result = out.hold(low(width, combine(a, b)))
        if flags:
            negative = both(bit(a, width - 1), bit(b, width - 1))
            over = negative if combine is xor else const(0)
            out.flags(
                N=bit(result, width - 1), Z=is_zero(result), C=opposite(is_zero(result)), V=over
            )
        if stores:
            goal.write(out, width, result)

    return rule


def _move(out: Writer, source: _Operand, goal: _Operand, width: int) -> None:
    goal.write(out, width, source.read(out, width))


def _clear_bits(a: Expr, b: Expr) -> Expr:
    return both(a, invert(b))


_TWO: dict[str, _Rule] = {
    "mov": _move, "add": _arithmetic(False), "addc": _arithmetic(False, carry=True),
    "sub": _arithmetic(True), "subc": _arithmetic(True, carry=True),
    "cmp": _arithmetic(True, False), "bit": _logic(both, True, False),
    "bic": _logic(_clear_bits, False), "bis": _logic(either, False), "xor": _logic(xor, True),
    "and": _logic(both, True),
}  # fmt: skip
# Written as one instruction, and another one with a constant or its operand twice.
_MEANT = {
    "clr": ("mov", "#0"), "inc": ("add", "#1"), "incd": ("add", "#2"), "dec": ("sub", "#1"),
    "decd": ("sub", "#2"), "tst": ("cmp", "#0"), "inv": ("xor", "#-1"), "adc": ("addc", "#0"),
    "sbc": ("subc", "#0"), "rla": ("add", ""), "rlc": ("addc", ""),
}  # fmt: skip


def _shift_right(out: Writer, operand: _Operand, width: int, carried: bool) -> None:
    a = out.hold(operand.read(out, width))
    top = _C if carried else bit(a, width - 1)
    result = out.hold(either(right(a, const(1)), left(top, const(width - 1))))
    out.flags(N=bit(result, width - 1), Z=is_zero(result), C=bit(a, 0), V=const(0))
    operand.write(out, width, result)


@lru_cache(maxsize=1 << 16)
def operations(mnemonic: str, operands: tuple[str, ...], width: int = 16) -> Steps:
    """Return the steps of an instruction; raises NotEvaluableError for what has none."""
    out = Writer()
    name, _, size = mnemonic.partition(".")
    bits = 8 if size == "b" else 16
    if name in ("nop", "jmp"):
        return ()
    if name in _TESTS:
        out.set(o.BRANCH, _TESTS[name])
        return tuple(out.steps)
    texts = [text.replace(" ", "") for text in operands]
    try:
        _write_one(out, name, texts, bits)
    except (KeyError, IndexError, ValueError):
        raise NotEvaluableError(mnemonic) from None
    return tuple(out.steps)


def _write_one(out: Writer, name: str, texts: list[str], bits: int) -> None:
    if name in _MEANT:
        name, own = _MEANT[name]
        texts = [own or texts[0], texts[0]]
    if name in ("rra", "rrc"):
        _shift_right(out, _Operand(texts[0]), bits, name == "rrc")
    elif name == "swpb":
        operand = _Operand(texts[0])
        a = out.hold(operand.read(out, 16))
        operand.write(out, 16, either(right(a, const(8)), low(16, left(a, const(8)))))
    elif name == "sxt":
        operand = _Operand(texts[0])
        result = out.hold(low(16, sign(8, operand.read(out, 16))))
        out.flags(N=bit(result, 15), Z=is_zero(result), C=opposite(is_zero(result)), V=const(0))
        operand.write(out, 16, result)
    elif name == "push":
        value = out.hold(_Operand(texts[0]).read(out, bits))
        out.set("r1", low(16, sub(reg("r1"), const(2))))
        out.store(bits // 8, reg("r1"), value)
    elif name == "pop":
        value = out.hold(("load", 2, reg("r1")))
        out.set("r1", low(16, add(reg("r1"), const(2))))
        _Operand(texts[0]).write(out, 16, value)
    elif name == "cmp" and len(texts) == 2:
        _TWO["cmp"](out, _Operand(texts[0]), _Operand(texts[1]), bits)
    else:
        _TWO[name](out, _Operand(texts[0]), _Operand(texts[1]), bits)


EVALUATION = o.Evaluation(operations, (16,), FLAGS)
