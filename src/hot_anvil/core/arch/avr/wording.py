"""How operands and idioms are said."""

import re

from hot_anvil.core.arch.records import Operands, Wording
from hot_anvil.core.arch.wording import fits, not_moved

_POINTER = re.compile(r"(-?)([XYZ])(\+?)(\d*)")


def _operand(operand: str) -> str:
    found = _POINTER.fullmatch(operand)
    if found and (found[1] or (found[3] and not found[4])):
        return f"[{found[2]}, which moves {'back before' if found[1] else 'on'}]"
    return f"[{' + '.join(filter(None, (found[2], found[4])))}]" if found else operand


def _idiom(name: str, ending: str, operands: Operands) -> str:
    same = len(operands) > 1 and len(set(operands)) == 1
    return f"{_operand(operands[-1])} = 0" if same and name in ("eor", "sub") else ""


WORDING = Wording(operand=_operand, idiom=_idiom, fitted=fits, moved=not_moved)
