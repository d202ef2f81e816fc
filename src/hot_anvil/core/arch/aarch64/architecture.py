"""AArch64: all that is particular to it, as one record."""

from hot_anvil.core.arch.aarch64.abi import ABI
from hot_anvil.core.arch.aarch64.semantics import SEMANTICS
from hot_anvil.core.arch.aarch64.syntax import DISASSEMBLY, SYNTAX
from hot_anvil.core.arch.aarch64.wording import WORDING
from hot_anvil.core.arch.records import Architecture, Tooling

ARCHITECTURE = Architecture(
    name="aarch64",
    title="AArch64",
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
        types_in_object=True,
        counter_flags=(),
        low_bit_is_mode=False,
    ),
)
