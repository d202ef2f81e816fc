"""Chips without a system: what links programs for each kind, and what simulates it."""

from hot_anvil.system.build.chips import avr, msp430
from hot_anvil.system.build.chips.kit import ChipKit

_KITS = {"avr": avr.KIT, "msp430": msp430.KIT}


def kit_of(isa: str) -> ChipKit:
    """Return what builds for an instruction set's chips are linked and run with."""
    return _KITS[isa]
