"""One spelling of an instruction for comparing, and its shape without names."""

import re
from functools import lru_cache

from hot_anvil.core.isa import isa_of

_LABEL = re.compile(r"(?:\.L|\$L_)[\w.$]+")
_HEX = re.compile(r"\b0x[0-9a-f]+\b")


@lru_cache(maxsize=65536)
def canonical(mnemonic: str, operands: tuple[str, ...], isa: str) -> str:
    """Return the instruction in the one spelling used for comparing."""
    same = isa_of(isa).same
    head, _, last = mnemonic.rpartition(" ")
    last = same.get(last, last)
    mnemonic = f"{head} {last}" if head else last
    text = ",".join(operands)
    if isa == "x86":
        text = text.replace("@PLT", "").replace("(,%", "(0,%")
    elif "@plt" in text:
        text = text.replace("@plt", "")
    if " " in text:
        text = text.replace(" ", "")
    if "0x" in text:
        text = _HEX.sub(lambda found: str(int(found[0], 16)), text)
    return f"{mnemonic} {text}" if text else mnemonic


@lru_cache(maxsize=65536)
def shape(text: str, isa: str) -> tuple[str, tuple[str, ...]]:
    """Split a canonical instruction into its shape and the names in it.

    The shape keeps the view of each register ("e" of ``%eax``) and drops its
    family; labels become "L". Two instructions of one shape differ in
    registers and labels only.
    """
    known = isa_of(isa)
    names: list[str] = []

    def register(found: re.Match[str]) -> str:
        family, view = known.family(found[0])
        names.append(family)
        return f"{view}?"

    def label(found: re.Match[str]) -> str:
        names.append(found[0])
        return "L"

    mnemonic, blank, operands = text.partition(" ")
    operands = _LABEL.sub(label, operands)
    return mnemonic + blank + known.register.sub(register, operands), tuple(names)
