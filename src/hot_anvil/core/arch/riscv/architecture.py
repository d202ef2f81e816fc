"""RISC-V: all that is particular to it, as one record."""

from hot_anvil.core.arch.records import Architecture, Tooling
from hot_anvil.core.arch.riscv.abi import ABI
from hot_anvil.core.arch.riscv.semantics import SEMANTICS
from hot_anvil.core.arch.riscv.syntax import DISASSEMBLY, SYNTAX
from hot_anvil.core.arch.riscv.wording import WORDING

ARCHITECTURE = Architecture(
    name="riscv",
    title="RISC-V",
    syntax=SYNTAX,
    disassembly=DISASSEMBLY,
    semantics=SEMANTICS,
    abi=ABI,
    wording=WORDING,
    tooling=Tooling(
        reader=None,
        assembler=lambda flags, target: [],
        linker=lambda head: ["-m", "elf32lriscv"] if head.narrow else [],
        linker_alone=("--no-relax",),
        listing_wraps=0,
        types_in_object=False,
        counter_flags=(),
        low_bit_is_mode=False,
    ),
)
