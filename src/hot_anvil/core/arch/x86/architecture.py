"""x86-64: all that is particular to it, as one record."""

from collections.abc import Sequence

from hot_anvil.core.arch.records import Architecture, Tooling
from hot_anvil.core.arch.x86.abi import ABI
from hot_anvil.core.arch.x86.semantics import SEMANTICS
from hot_anvil.core.arch.x86.syntax import DISASSEMBLY, SYNTAX
from hot_anvil.core.arch.x86.wording import WORDING


def _assembler(flags: Sequence[str], target: str) -> list[str]:
    narrow = "-m32" in flags or not target.startswith("x86_64")
    return ["--32" if narrow else "--64"]


ARCHITECTURE = Architecture(
    name="x86",
    title="x86-64",
    syntax=SYNTAX,
    disassembly=DISASSEMBLY,
    semantics=SEMANTICS,
    abi=ABI,
    wording=WORDING,
    tooling=Tooling(
        reader=None,
        assembler=_assembler,
        linker=lambda head: ["-m", "elf_i386"] if head.narrow else [],
        linker_alone=(),
        listing_wraps=0,
        types_in_object=True,
        counter_flags=("-DREPEATS",),
        low_bit_is_mode=False,
    ),
)
