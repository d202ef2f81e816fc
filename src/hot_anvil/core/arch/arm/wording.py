"""How operands and idioms are said."""

import re

from hot_anvil.core.arch.aarch64.wording import moved, operand
from hot_anvil.core.arch.records import Operands, Wording


def _idiom(name: str, ending: str, operands: Operands) -> str:
    if name == "bx" and operands == ("lr",):
        return "return"
    if name.startswith(("pop", "ldm")) and "pc" in operands[-1]:
        return f"pop {operands[-1]}: return"
    if name == "vmov" and len(operands) == 3 and operands[-1].startswith("d"):
        return f"{operands[1]}:{operands[0]} = {operands[2]}"
    if name == "vmov" and len(operands) == 3 and operands[0].startswith("d"):
        return f"{operands[0]} = {operands[2]}:{operands[1]}"
    return ""


def _fitted(name: str, ending: str, operands: Operands) -> Operands:
    """Put in registers as wide as the type at the mnemonic's end wants them."""
    kind = name.rpartition(".")[2]
    if name.startswith("vcvt.f64.f32"):
        return ("d0", "s1")
    if kind == "f64":
        return tuple(re.sub(r"^s(?=\d)", "d", text) for text in operands)
    if re.fullmatch(r"[isup]\d+", kind) and not name.startswith("vcvt"):
        return tuple(re.sub(r"^s(?=\d)", "q", text) for text in operands)
    return operands


WORDING = Wording(operand=operand, idiom=_idiom, fitted=_fitted, moved=moved)
