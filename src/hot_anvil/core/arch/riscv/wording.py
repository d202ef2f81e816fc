"""How operands are said."""

from hot_anvil.core.arch.records import Wording
from hot_anvil.core.arch.wording import behind, no_idiom, without_signs


def _operand(operand: str) -> str:
    return behind(operand) or without_signs(operand)


WORDING = Wording(operand=_operand, idiom=no_idiom)
