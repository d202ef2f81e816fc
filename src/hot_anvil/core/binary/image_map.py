"""Where code and data of an image end up: its sections, and what is biggest in each."""

import io
from collections.abc import Iterable, Mapping, Sequence
from typing import Literal, NamedTuple

from hot_anvil.core.binary.symbol_table import symbol_table

Holds = Literal["code", "read-only data", "data", "zeroed data"]
HOLDS: tuple[Holds, ...] = ("code", "read-only data", "data", "zeroed data")
_WRITABLE, _ALLOCATED, _EXECUTED = 1, 2, 4  # SHF_WRITE, SHF_ALLOC, SHF_EXECINSTR
_NOTES = (
    "SHT_NOTE", "SHT_DYNSYM", "SHT_GNU_HASH", "SHT_HASH", "SHT_GNU_versym", "SHT_GNU_verneed",
    "SHT_RELA", "SHT_REL", "SHT_STRTAB", "SHT_DYNAMIC",
)  # fmt: skip


class Thing(NamedTuple):
    """A function or a variable."""

    name: str  # its symbol
    address: int  # in an object: in its section
    size: int  # bytes


class Section(NamedTuple):
    """A part of an image that takes memory when it runs."""

    name: str
    address: int | None  # None in an object: nothing is placed yet
    size: int  # bytes
    alignment: int  # bytes
    holds: Holds
    things: tuple[Thing, ...]  # the biggest first
    file: str = ""  # the object it is of, "" for an image


class BuildImage(NamedTuple):
    """A snippet's image under one build."""

    snippet: str
    build: str
    sections: tuple[Section, ...]  # by address
    why: str  # why it is not linked, "" where it is
    link_flags: tuple[str, ...]
    titles: Mapping[str, str]  # symbol -> name as the source writes it

    def total(self, holds: Holds) -> int:
        """Bytes of all sections that hold this."""
        return sum(one.size for one in self.sections if one.holds == holds)


def read_map(data: bytes, low_bit_is_mode: bool, file: str = "") -> tuple[Section, ...]:
    """Return the sections of an ELF image, or of an object ``file``, that take memory.

    ``low_bit_is_mode``: the lowest bit of a function's address is no part of it.

    Sections of no bytes, and notes that no code reads, are left out.
    """
    from elftools.elf.elffile import ELFFile

    elf = ELFFile(io.BytesIO(data))
    placed = elf["e_type"] != "ET_REL"
    things: dict[int, list[Thing]] = {}
    for item in symbol_table(elf):
        if item.is_placed and item.size and (item.is_function or item.is_object):
            at = item.value & ~1 if low_bit_is_mode and item.is_function else item.value
            things.setdefault(item.section, []).append(Thing(item.name, at, item.size))
    out = []
    for index, section in enumerate(elf.iter_sections()):
        flags = section["sh_flags"]
        if not flags & _ALLOCATED or not section["sh_size"] or section["sh_type"] in _NOTES:
            continue
        own = sorted(_once(things.get(index, ())), key=lambda t: (-t.size, t.address))
        out.append(
            Section(
                section.name, section["sh_addr"] if placed else None, section["sh_size"],
                section["sh_addralign"], _holds(flags, section["sh_type"]), tuple(own), file,
            )
        )  # fmt: skip
    return tuple(sorted(out, key=lambda s: s.address or 0) if placed else out)


def _holds(flags: int, kind: str) -> Holds:
    if kind == "SHT_NOBITS":
        return "zeroed data"
    if flags & _EXECUTED:
        return "code"
    return "data" if flags & _WRITABLE else "read-only data"


def _once(things: Iterable[Thing]) -> Sequence[Thing]:
    """Return things with those of one place once: a second name takes no memory."""
    found: dict[tuple[int, int], Thing] = {}
    for one in things:
        found.setdefault((one.address, one.size), one)
    return list(found.values())
