"""What instruction sets have in common in how operands and readings are said."""

import re
from collections.abc import Sequence

from hot_anvil.core.arch.records import Moved

_SIGNS = ((re.compile(r"\+ -(?=\d)"), "- "), (re.compile(r"- -(?=\d)"), "+ "))
_LINKAGE = re.compile(r"@(?:PLT|plt)|\(PLT\)")
_BEHIND = re.compile(r"([^(]*)\((\w+)\)")


def tidy(text: str) -> str:
    """Return a reading without signs in a row."""
    for pattern, sign in _SIGNS:
        text = pattern.sub(sign, text)
    return _LINKAGE.sub("", text)


def no_idiom(name: str, ending: str, operands: tuple[str, ...]) -> str:
    """Say that nothing is written for another purpose than its own."""
    return ""


def fits(name: str, ending: str, operands: tuple[str, ...]) -> tuple[str, ...]:
    """Say that examples fit every mnemonic of their row."""
    return operands


def not_moved(operands: tuple[str, ...]) -> Moved:
    """Say that no access moves its base register, or that the operand itself says so."""
    return Moved(operands)


def without_signs(operand: str) -> str:
    """Return an operand without the sign of a constant."""
    return re.sub(r"#(?=-?\w)", "", operand)


def behind(operand: str) -> str:
    """Return memory written as ``8(a0)`` in brackets, "" for other operands."""
    found = _BEHIND.fullmatch(operand)
    return in_brackets([found[2]], found[1]) if found and not operand.startswith("%") else ""


def in_brackets(parts: Sequence[str], offset: str) -> str:
    """Return an address in brackets: registers, then a symbol or a displacement."""
    inside = " + ".join(parts)
    if re.fullmatch(r"-?(?:0x[0-9a-f]+|\d+)", offset):
        value = int(offset, 0)
        sign = f" {'-' if value < 0 else '+'} {abs(value)}" if value and inside else ""
        return f"[{inside}{sign}]" if inside else f"[{value}]"
    both = " + ".join(filter(None, (offset.replace("%", ""), inside)))
    return f"[{both}]"
