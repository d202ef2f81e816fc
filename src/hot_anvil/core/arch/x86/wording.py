"""How operands and idioms are said."""

import re

from hot_anvil.core.arch.records import Operands, Wording
from hot_anvil.core.arch.wording import in_brackets, not_moved
from hot_anvil.core.arch.x86.registers import register_bits

_ZERO = re.compile(r"(?:xor|sub)[bwlq]?|v?p?xor(?:p[sd]|[dq])?")
_AT_T = re.compile(r"\*?(?:%([c-gs]s):)?([^(%]*)\((%\w+)?(?:, ?(%\w+))?(?:, ?(\d))?\)(.*)")
_LANES = re.compile(r"\{1to(\d+)\}")
# What holds one operand of so many bits: (where it is, the double width, the rest of a division).
_WIDE = {
    8: ("al", "ax", "ah"), 16: ("ax", "dx:ax", "dx"), 32: ("eax", "edx:eax", "edx"),
    64: ("rax", "rdx:rax", "rdx"),
}  # fmt: skip


def _operand(operand: str) -> str:
    plain = operand.lstrip("*")
    if plain.startswith("$"):
        return plain[1:]
    found = _AT_T.fullmatch(operand)
    if found:
        segment, offset, base, index, scale, mask = found.groups()
        parts = [base.lstrip("%")] if base and base != "%rip" else []
        if index:
            parts.append(index.lstrip("%") + (f"*{scale}" if scale and scale != "1" else ""))
        text = in_brackets(parts, offset)
        lanes = _LANES.fullmatch(mask)
        if lanes:
            return f"{text} in each of {lanes[1]} lanes"
        return (f"[{segment}:{text[1:]}" if segment else text) + mask.replace("%", "")
    found = re.fullmatch(r"%([c-gs]s):(.+)", plain)
    if found:
        return f"[{found[1]}:{found[2]}]"
    if "%" in plain:
        return plain.replace("%", "")
    return plain if not re.match(r"-?\d", plain) else f"[{plain}]"


def _idiom(name: str, ending: str, operands: Operands) -> str:
    sized = _sized(name, ending, operands) if operands else ""
    if sized:
        return sized
    if len(operands) < 2 or len(set(operands)) != 1:
        return ""
    if _ZERO.fullmatch(name) and "(" not in operands[0]:
        return f"{_operand(operands[-1])} = 0"
    if name.startswith("test"):
        return f"flags of {_operand(operands[0])}: zero? negative?"
    return ""


def _sized(name: str, ending: str, operands: Operands) -> str:
    """Return the reading of what works on the accumulator, whose name says the size."""
    bits = {"b": 8, "w": 16, "l": 32, "q": 64}.get(ending) or register_bits(operands[0])
    if bits not in _WIDE:
        return ""
    small, wide, rest = _WIDE[bits]
    said = _operand(operands[-1])
    if name in ("mul", "imul") and len(operands) == 1:
        return f"{wide} = {small} * {said}, {'' if name[0] == 'i' else 'un'}signed"
    if name in ("div", "idiv") and len(operands) == 1:
        signed = "" if name[0] == "i" else "un"
        return f"{small} = {wide} / {said}, {rest} = the rest, {signed}signed"
    if name == "cmpxchg" and len(operands) == 2:
        return f"if {small} is {said}: {said} = {_operand(operands[0])}, else {small} = {said}"
    return ""


def _fitted(name: str, ending: str, operands: Operands) -> Operands:
    """Put in registers as wide as the ending says, and the second source of three."""
    whole = name + ending
    if len(operands) == 2 and _THREE_OPERANDS.match(name):
        return (operands[0], operands[1].replace("0", "2"), operands[1])
    widens = re.fullmatch(r"mov[sz][bwl]([wlq])|(movabs|lea)q?", name)
    if widens or (name == "lea" and ending):
        return (*operands[:-1], _as_wide(operands[-1], "q" if whole[-1] not in "wl" else whole[-1]))
    if re.fullmatch(r"v?cvtsi2s[sd][lq]", whole):
        return (_as_wide(operands[0], whole[-1]), *operands[1:])
    if not ending:
        return operands
    return tuple(_as_wide(text, ending) for text in operands)


_THREE_OPERANDS = re.compile(
    r"v(?:p?(?:add|sub|mul|div|min|max|and|or|xor|avg|cmpeq|cmpgt|s[lr]l|sra|hadd|hsub|sign|sad"
    r"|unpck|mull|muldq|madd|packs|packu|pack|shufb)|rotl)(?!.*abs)"
)
_GENERAL = re.compile(r"%[er]?([abcd])x|%[er]?(si|di)|%([abcd])l")


def _as_wide(operand: str, ending: str) -> str:
    found = _GENERAL.fullmatch(operand)
    if not found:
        return operand
    letter = found[1] or found[3]
    if ending == "b":
        return f"%{letter}l" if letter else f"%{found[2]}l"
    return f"%{ {'w': '', 'l': 'e', 'q': 'r'}[ending] }{letter + 'x' if letter else found[2]}"


WORDING = Wording(operand=_operand, idiom=_idiom, fitted=_fitted, moved=not_moved)
