"""How operands and idioms are said."""

from hot_anvil.core.arch.records import Operands, Wording
from hot_anvil.core.arch.wording import without_signs


def _idiom(name: str, operands: Operands) -> str:
    if name == "bx" and operands == ("lr",):
        return "return"
    if name.startswith(("pop", "ldm")) and "pc" in operands[-1]:
        return f"pop {operands[-1]}: return"
    return ""


WORDING = Wording(operand=without_signs, idiom=_idiom)
