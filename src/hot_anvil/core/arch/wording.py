"""Operands and readings as they are said."""

import re
from collections.abc import Sequence
from functools import lru_cache

_SIGNS = ((re.compile(r"\+ -(?=\d)"), "- "), (re.compile(r"- -(?=\d)"), "+ "))
_ZERO = re.compile(r"(?:xor|sub)[bwlq]?|v?p?xor(?:p[sd]|[dq])?|eor")
_LINKAGE = re.compile(r"@(?:PLT|plt)|\(PLT\)")


def tidy(text: str) -> str:
    """Return a reading without signs in a row."""
    for pattern, sign in _SIGNS:
        text = pattern.sub(sign, text)
    return _LINKAGE.sub("", text)


def idiom(name: str, operands: tuple[str, ...], isa: str) -> str:
    """Return the reading of what is written so for another purpose, "" for the rest."""
    same = len(operands) > 1 and len(set(operands)) == 1
    if same and isa in ("x86", "avr") and _ZERO.fullmatch(name) and "(" not in operands[0]:
        return f"{say_operand(operands[-1], isa)} = 0"
    if same and name.startswith("test"):
        return f"flags of {say_operand(operands[0], isa)}: zero? negative?"
    if isa == "arm" and name == "bx" and operands == ("lr",):
        return "return"
    if isa == "arm" and name.startswith(("pop", "ldm")) and "pc" in operands[-1]:
        return f"pop {operands[-1]}: return"
    return ""


_AT_T = re.compile(r"\*?(?:%([c-gs]s):)?([^(%]*)\((%\w+)?(?:, ?(%\w+))?(?:, ?(\d))?\)(.*)")
_BEHIND = re.compile(r"([^(]*)\((\w+)\)")


@lru_cache(maxsize=1 << 14)
def say_operand(operand: str, isa: str) -> str:
    """Return an operand as it is read: constants plain, memory in brackets."""
    if isa == "x86":
        return _say_x86(operand)
    behind = _BEHIND.fullmatch(operand) if isa in ("riscv", "msp430") else None
    if behind and not operand.startswith("%"):
        return _memory([behind[2]], behind[1])
    if isa == "msp430":
        found = re.fullmatch(r"@(\w+)(\+?)", operand)
        if found:
            return f"[{found[1]}{', which moves on' if found[2] else ''}]"
        return f"[{operand[1:]}]" if operand.startswith("&") else operand.lstrip("#")
    if isa == "avr":
        found = re.fullmatch(r"(-?)([XYZ])(\+?)(\d*)", operand)
        if found and (found[1] or (found[3] and not found[4])):
            return f"[{found[2]}, which moves {'back before' if found[1] else 'on'}]"
        return f"[{' + '.join(filter(None, (found[2], found[4])))}]" if found else operand
    return re.sub(r"#(?=-?\w)", "", operand)


def _say_x86(operand: str) -> str:
    plain = operand.lstrip("*")
    if plain.startswith("$"):
        return plain[1:]
    found = _AT_T.fullmatch(operand)
    if found:
        segment, offset, base, index, scale, mask = found.groups()
        parts = [base.lstrip("%")] if base and base != "%rip" else []
        if index:
            parts.append(index.lstrip("%") + (f"*{scale}" if scale and scale != "1" else ""))
        text = _memory(parts, offset)
        return (f"[{segment}:{text[1:]}" if segment else text) + mask.replace("%", "")
    found = re.fullmatch(r"%([c-gs]s):(.+)", plain)
    if found:
        return f"[{found[1]}:{found[2]}]"
    if "%" in plain:
        return plain.replace("%", "")
    return plain if not re.match(r"-?\d", plain) else f"[{plain}]"


def _memory(parts: Sequence[str], offset: str) -> str:
    """Return an address in brackets: registers, then a symbol or a displacement."""
    inside = " + ".join(parts)
    if re.fullmatch(r"-?(?:0x[0-9a-f]+|\d+)", offset):
        value = int(offset, 0)
        sign = f" {'-' if value < 0 else '+'} {abs(value)}" if value and inside else ""
        return f"[{inside}{sign}]" if inside else f"[{value}]"
    both = " + ".join(filter(None, (offset.replace("%", ""), inside)))
    return f"[{both}]"
