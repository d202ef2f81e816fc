"""Registers and how they overlap."""

import re
from functools import lru_cache

_LETTERED = {"a": "ax", "b": "bx", "c": "cx", "d": "dx"}


@lru_cache(maxsize=4096)
def family_of(register: str) -> tuple[str, str]:
    """Return (family, view) of a register such as ``%eax``: ("ax", "e").

    The view tells how much of the register is meant; registers of one family
    overlap.
    """
    name = register.lstrip("%")
    vector = re.fullmatch(r"([xyz]mm)(\d+)", name)
    if vector:
        return f"v{vector[2]}", vector[1]
    numbered = re.fullmatch(r"r(\d+)([dwb]?)", name)
    if numbered:
        view = {"": "r", "d": "e", "w": "w", "b": "b"}[numbered[2]]
        return f"r{numbered[1]}", view
    lettered = re.fullmatch(r"([re]?)([abcd])x", name)
    if lettered:
        return _LETTERED[lettered[2]], lettered[1] or "w"
    half = re.fullmatch(r"([abcd])([lh])", name)
    if half:
        return _LETTERED[half[1]], "b" if half[2] == "l" else "h"
    pointed = re.fullmatch(r"([re]?)(si|di|bp|sp)(l?)", name)
    if pointed:
        return pointed[2], pointed[1] or ("b" if pointed[3] else "w")
    return name, ""


def register_bits(operand: str) -> int:
    """Return how wide a general register is, 0 for another operand."""
    if not operand.startswith("%"):
        return 0
    view = family_of(operand)[1]
    return {"r": 64, "e": 32, "w": 16, "b": 8, "h": 8}.get(view, 0)
