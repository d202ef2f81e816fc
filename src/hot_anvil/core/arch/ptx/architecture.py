"""PTX: all that is particular to it, as one record."""

from hot_anvil.core.arch.ptx.abi import ABI
from hot_anvil.core.arch.ptx.reader import read_ptx
from hot_anvil.core.arch.ptx.semantics import SEMANTICS
from hot_anvil.core.arch.ptx.syntax import DISASSEMBLY, SYNTAX
from hot_anvil.core.arch.ptx.wording import WORDING
from hot_anvil.core.arch.records import Architecture, Tooling

ARCHITECTURE = Architecture(
    name="ptx",
    title="PTX",
    syntax=SYNTAX,
    disassembly=DISASSEMBLY,
    semantics=SEMANTICS,
    abi=ABI,
    wording=WORDING,
    tooling=Tooling(
        reader=read_ptx,
        assembler=lambda flags, target: [],
        linker=lambda head: [],
        linker_alone=(),
        listing_wraps=0,
        types_in_object=False,
        counter_flags=(),
        low_bit_is_mode=False,
    ),
)
