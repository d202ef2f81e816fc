"""Chips without a system: what links programs for each kind, and what simulates it.

A module here is one kind, by the name of its instruction set.
"""

from functools import cache
from importlib import import_module

from hot_anvil.system.build.chips.kit import ChipKit


@cache
def kit_of(isa: str) -> ChipKit:
    """Return what builds for an instruction set's chips are linked and run with."""
    found: ChipKit = import_module(f"{__name__}.{isa}").KIT
    return found
