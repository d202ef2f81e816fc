"""quay8: all that is particular to it, as one record."""

from hot_anvil.core.arch.quay8.abi import ABI
from hot_anvil.core.arch.quay8.semantics import SEMANTICS
from hot_anvil.core.arch.quay8.syntax import DISASSEMBLY, SYNTAX
from hot_anvil.core.arch.quay8.wording import WORDING

from hot_anvil.core.arch.records import Architecture, Tooling

ARCHITECTURE = Architecture(
    name="quay8",
    title="Quay-8",
    syntax=SYNTAX,
    disassembly=DISASSEMBLY,
    semantics=SEMANTICS,
    abi=ABI,
    wording=WORDING,
    tooling=Tooling(
        reader=None,
        assembler=lambda flags, target: [],
        linker=lambda narrow: [],
        linker_alone=(),
        listing_wraps=0,
        types_in_object=True,
        counter_flags=(),
        low_bit_is_mode=False,
    ),
)
