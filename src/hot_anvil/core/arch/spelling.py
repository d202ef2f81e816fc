"""One spelling of an instruction for comparing, and its shape without names."""

import re
from functools import lru_cache

from hot_anvil.core.arch import syntax_of

# Labels, and what compilers number as they go: static variables of functions, tables.
_LABEL = re.compile(r"(?:\.L|\$L_)[\w.$]+|(?<![\w.$])[A-Za-z_]\w*\.\d+(?![\w.])")
_HEX = re.compile(r"\b0x[0-9a-f]+\b")


@lru_cache(maxsize=65536)
def canonical(mnemonic: str, operands: tuple[str, ...], isa: str) -> str:
    """Return the instruction in the one spelling used for comparing."""
    syntax = syntax_of(isa)
    same = syntax.same
    head, _, last = mnemonic.rpartition(" ")
    last = same.get(last, last)
    mnemonic = f"{head} {last}" if head else last
    text = syntax.tidy(",".join(operands))
    if " " in text:
        text = text.replace(" ", "")
    if "0x" in text:
        text = _HEX.sub(lambda found: str(int(found[0], 16)), text)
    return f"{mnemonic} {text}" if text else mnemonic


@lru_cache(maxsize=65536)
def split_names(text: str, isa: str) -> tuple[str, tuple[str, ...], tuple[str, ...]]:
    """Split a canonical instruction into (shape, labels, families of its registers).

    The shape keeps the view of each register ("e" of ``%eax``) and drops its
    family; labels become "L". Two instructions of one shape differ in
    registers and labels only.
    """
    known = syntax_of(isa)
    labels: list[str] = []
    families: list[str] = []

    def register(found: re.Match[str]) -> str:
        family, view = known.family(found[0])
        families.append(family)
        return f"{view}?"

    def label(found: re.Match[str]) -> str:
        labels.append(found[0])
        return "L"

    mnemonic, blank, operands = text.partition(" ")
    if "." in operands or "$" in operands:
        operands = _LABEL.sub(label, operands)
    plain = mnemonic + blank + known.register.sub(register, operands)
    return plain, tuple(labels), tuple(families)


def shape(text: str, isa: str) -> tuple[str, tuple[str, ...]]:
    """Split a canonical instruction into its shape and the names in it, labels first."""
    plain, labels, families = split_names(text, isa)
    return plain, labels + families
