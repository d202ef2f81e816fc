"""What an instruction does, as far as rules over code have to know.

One module beside this one describes one instruction set; each is loaded when
first asked for.
"""

from functools import cache
from importlib import import_module

from hot_anvil.core.arch.semantics import Deed, Meaning


@cache
def meaning_of(isa: str) -> Meaning:
    """Return what instructions of an instruction set mean."""
    known: Meaning = import_module(f"hot_anvil.core.arch.{isa}.semantics").MEANING
    return known


def deed(mnemonic: str, operands: tuple[str, ...], isa: str) -> Deed:
    """Return what one instruction does; its kind is OTHER when that is not known."""
    return meaning_of(isa).deed(mnemonic, operands)


def roles(mnemonic: str, operands: tuple[str, ...], isa: str) -> tuple[str, ...]:
    """Return for each operand USE, DEFINE or BOTH: what happens to a register it names."""
    return meaning_of(isa).roles(mnemonic, operands)
