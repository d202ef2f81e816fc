"""Cycles of instructions whose number is fixed, as on small chips without caches."""

from collections.abc import Callable
from typing import NamedTuple

from hot_anvil.core.arch.records import Operands
from hot_anvil.core.code.records import Instruction


class Cost(NamedTuple):
    """The cycles of one instruction."""

    least: int
    most: int
    when: str = ""  # how it differs: "2 if taken"

    @property
    def words(self) -> str:
        """As one reads it."""
        least = "1 cycle" if self.least == 1 else f"{self.least} cycles"
        return f"{least}, {self.when}" if self.when else least


class Costs(NamedTuple):
    """What an instruction set's module ``cycles`` holds, as ``COSTS``."""

    # (mnemonic, operands, bytes it takes or -1) -> its cycles, None: not known
    cost: Callable[[str, Operands, int], Cost | None]
    of: str  # which chips the numbers are of
    skipping: Callable[[str], int]  # mnemonic -> cycles of an instruction that skips it

    def of_instruction(self, item: Instruction) -> Cost | None:
        """Return the cycles of an instruction of a build."""
        return self.cost(item.mnemonic, item.operands, item.size)
