"""How operands are said."""

import re

from hot_anvil.core.arch.records import Operands, Wording
from hot_anvil.core.arch.wording import behind, no_idiom, not_moved, without_signs


def _operand(operand: str) -> str:
    return behind(operand) or without_signs(operand)


_IMMEDIATE = re.compile(r"(?:add|and|or|xor|slt)i[wu]?")
_CONVERTS = re.compile(r"fcvt\.(\w+)\.(\w+)")
# Those whose operands differ from those of their row.
_OWN: dict[str, Operands] = {
    "c.addi16sp": ("sp", "32"), "c.addi4spn": ("a0", "sp", "8"), "c.li": ("a0", "4"),
    "c.lui": ("a0", "4"), "csrr": ("a0", "fflags"), "csrw": ("fflags", "a0"),
    "csrs": ("fflags", "a0"), "csrc": ("fflags", "a0"), "csrwi": ("fflags", "1"),
    "csrrw": ("a0", "fflags", "a1"), "csrrs": ("a0", "fflags", "a1"),
    "csrrc": ("a0", "fflags", "a1"), "csrrwi": ("a0", "fflags", "1"), "frcsr": ("a0",),
    "frflags": ("a0",), "frrm": ("a0",), "fscsr": ("a0",), "fsflags": ("a0",), "fsrm": ("a0",),
}  # fmt: skip


def _fitted(name: str, ending: str, operands: Operands) -> Operands:
    """Put in a constant, registers of the right kind, or the fewer operands of a short form."""
    if name in _OWN:
        return _OWN[name]
    if _IMMEDIATE.fullmatch(name):
        return (*operands[:-1], "4")
    converts = _CONVERTS.fullmatch(name)
    if converts:
        to, source = (kind in ("h", "s", "d", "q") for kind in converts.groups())
        rounded = () if to else ("rtz",)
        return ("fa0" if to else "a0", "fa1" if source else "a1", *rounded)
    if name.startswith("c.") and name.endswith("sp"):
        return (operands[0], "8(sp)")
    if name.startswith("c.") and len(operands) == 3:
        return (operands[0], "4" if re.search(r"i|s[lr][la]", name[2:]) else operands[1])
    return operands


WORDING = Wording(operand=_operand, idiom=no_idiom, fitted=_fitted, moved=not_moved)
