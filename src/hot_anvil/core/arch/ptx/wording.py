"""How operands are said."""

from hot_anvil.core.arch.records import Wording
from hot_anvil.core.arch.wording import fits, no_idiom, not_moved, without_signs

WORDING = Wording(operand=without_signs, idiom=no_idiom, fitted=fits, moved=not_moved)
