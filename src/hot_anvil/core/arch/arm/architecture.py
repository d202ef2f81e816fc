"""ARM and Thumb: all that is particular to it, as one record."""

from hot_anvil.core.arch.arm.abi import ABI
from hot_anvil.core.arch.arm.semantics import SEMANTICS
from hot_anvil.core.arch.arm.syntax import DISASSEMBLY, SYNTAX
from hot_anvil.core.arch.arm.wording import WORDING
from hot_anvil.core.arch.records import Architecture, Tooling

ARCHITECTURE = Architecture(
    name="arm",
    title="ARM and Thumb",
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
        low_bit_is_mode=True,
    ),
)
