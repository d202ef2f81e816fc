"""MSP430: all that is particular to it, as one record."""

from hot_anvil.core.arch.msp430.abi import ABI
from hot_anvil.core.arch.msp430.semantics import SEMANTICS
from hot_anvil.core.arch.msp430.syntax import DISASSEMBLY, SYNTAX
from hot_anvil.core.arch.msp430.wording import WORDING
from hot_anvil.core.arch.records import Architecture, Tooling

ARCHITECTURE = Architecture(
    name="msp430",
    title="MSP430",
    syntax=SYNTAX,
    disassembly=DISASSEMBLY,
    semantics=SEMANTICS,
    abi=ABI,
    wording=WORDING,
    tooling=Tooling(
        reader=None,
        assembler=lambda flags, target: [],
        linker=lambda head: [],
        linker_alone=(),
        listing_wraps=0,
        types_in_object=False,
        counter_flags=(),
        low_bit_is_mode=False,
    ),
)
