"""x86-64 spellings: registers by family, and one spelling for what compilers write in two."""

import re
from functools import lru_cache

_LETTERED = {"a": "ax", "b": "bx", "c": "cx", "d": "dx"}
_SAME = {
    "callq": "call",
    "jmpq": "jmp",
    "retq": "ret",
    "leaveq": "leave",
    "jnb": "jae",
    "jnc": "jae",
    "jc": "jb",
    "jnae": "jb",
    "jna": "jbe",
    "jnbe": "ja",
    "jz": "je",
    "jnz": "jne",
    "jnl": "jge",
    "jng": "jle",
    "jnge": "jl",
    "jnle": "jg",
    "cltq": "cdqe",
    "cltd": "cdq",
    "cqto": "cqo",
    "cwtl": "cwde",
    "movabs": "movabsq",
    "sall": "shll",
    "salq": "shlq",
    "salw": "shlw",
    "salb": "shlb",
}
_REGISTER = re.compile(r"%[a-z][a-z0-9]*")
_LABEL = re.compile(r"\.L[\w.$]+")
_HEX = re.compile(r"\b0x[0-9a-f]+\b")


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


@lru_cache(maxsize=65536)
def canonical(mnemonic: str, operands: tuple[str, ...]) -> str:
    """Return the instruction in the one spelling used for comparing."""
    head, _, last = mnemonic.rpartition(" ")
    last = _SAME.get(last, last)
    mnemonic = f"{head} {last}" if head else last
    text = ",".join(operands).replace("@PLT", "").replace("(,%", "(0,%")
    if "0x" in text:
        text = _HEX.sub(lambda found: str(int(found[0], 16)), text)
    return f"{mnemonic} {text}" if text else mnemonic


@lru_cache(maxsize=65536)
def shape(text: str) -> tuple[str, tuple[str, ...]]:
    """Split a canonical instruction into its shape and the names in it.

    The shape keeps the view of each register ("e" of ``%eax``) and drops its
    family; labels become "L". Two instructions of one shape differ in
    registers and labels only.
    """
    names: list[str] = []

    def register(found: re.Match[str]) -> str:
        family, view = family_of(found[0])
        names.append(family)
        return f"%{view}?"

    def label(found: re.Match[str]) -> str:
        names.append(found[0])
        return "L"

    without_labels = _LABEL.sub(label, text)
    return _REGISTER.sub(register, without_labels), tuple(names)
