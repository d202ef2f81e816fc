"""AVR: all that is particular to it, as one record."""

from collections.abc import Sequence

from hot_anvil.core.arch.avr.abi import ABI
from hot_anvil.core.arch.avr.semantics import SEMANTICS
from hot_anvil.core.arch.avr.syntax import DISASSEMBLY, SYNTAX
from hot_anvil.core.arch.avr.wording import WORDING
from hot_anvil.core.arch.records import Architecture, ObjectHead, Tooling


def _assembler(flags: Sequence[str], target: str) -> list[str]:
    told = [flag for flag in flags if flag.startswith("-mmcu=")]
    return told or ["-mmcu=avr6"]  # it knows what all others know


def _linker(head: ObjectHead) -> list[str]:
    machine = head.flags & 0x7F  # EF_AVR_MACH of binutils' elf/avr.h
    family = "tiny" if machine == 100 else f"xmega{machine - 100}" if machine > 100 else machine
    return ["-m", f"avr{family}"]


ARCHITECTURE = Architecture(
    name="avr",
    title="AVR",
    syntax=SYNTAX,
    disassembly=DISASSEMBLY,
    semantics=SEMANTICS,
    abi=ABI,
    wording=WORDING,
    tooling=Tooling(
        reader=None,
        assembler=_assembler,
        linker=_linker,
        linker_alone=(),
        listing_wraps=1 << 16,
        types_in_object=False,
        counter_flags=(),
        low_bit_is_mode=False,
    ),
)
