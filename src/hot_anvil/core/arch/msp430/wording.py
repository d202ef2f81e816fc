"""How operands are said."""

import re

from hot_anvil.core.arch.records import Wording
from hot_anvil.core.arch.wording import behind, fits, no_idiom, not_moved


def _operand(operand: str) -> str:
    said = behind(operand)
    if said:
        return said
    found = re.fullmatch(r"@(\w+)(\+?)", operand)
    if found:
        return f"[{found[1]}{', which moves on' if found[2] else ''}]"
    return f"[{operand[1:]}]" if operand.startswith("&") else operand.lstrip("#")


WORDING = Wording(operand=_operand, idiom=no_idiom, fitted=fits, moved=not_moved)
