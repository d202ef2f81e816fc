"""How operands are said."""

from hot_anvil.core.arch.records import Wording
from hot_anvil.core.arch.wording import no_idiom, without_signs

WORDING = Wording(operand=without_signs, idiom=no_idiom)
