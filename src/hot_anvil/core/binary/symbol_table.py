"""The symbols of an ELF file, read at once: a static image has thousands of them.

Layout: "System V Application Binary Interface", chapter 4, "Symbol Table".
"""

import struct
from typing import Any, NamedTuple

_FORMS = {32: "IIIBBH", 64: "IBBHQQ"}  # of Elf32_Sym and Elf64_Sym
_OBJECT, _FUNCTION, _GNU_IFUNC = 1, 2, 10
_FIRST_RESERVED, _COMMON = 0xFF00, 0xFFF2
_KINDS = {0: "NOTYPE", 1: "OBJECT", 2: "FUNC", 3: "SECTION", 4: "FILE", 5: "COMMON", 6: "TLS",
          _GNU_IFUNC: "GNU_IFUNC"}  # fmt: skip


class TableEntry(NamedTuple):
    """One symbol, as the table has it."""

    name: str
    value: int  # an address, in an object an offset into its section
    size: int  # bytes
    kind_number: int
    is_local: bool
    section: int  # index, 0 for a symbol of somebody else's

    @property
    def kind(self) -> str:
        """The kind, without its prefix."""
        return _KINDS.get(self.kind_number, str(self.kind_number))

    @property
    def is_function(self) -> bool:
        """True for code."""
        return self.kind_number == _FUNCTION

    @property
    def is_object(self) -> bool:
        """True for data."""
        return self.kind_number == _OBJECT

    @property
    def is_taken(self) -> bool:
        """True for one that another file defines."""
        return self.section == 0

    @property
    def is_common(self) -> bool:
        """True for a variable that the linker places."""
        return self.section == _COMMON

    @property
    def is_placed(self) -> bool:
        """True for one that lies in a section of the file."""
        return 0 < self.section < _FIRST_RESERVED


def symbol_table(elf: Any, *names: str) -> list[TableEntry]:
    """Return the symbols of the first of these tables (".symtab") that an ELFFile has, or none."""
    tables = filter(None, map(elf.get_section_by_name, names or (".symtab",)))
    table = next(tables, None)
    if table is None:
        return []
    form = struct.Struct(("<" if elf.little_endian else ">") + _FORMS[elf.elfclass])
    data, texts = table.data(), elf.get_section(table["sh_link"]).data()
    rows = form.iter_unpack(data[: len(data) // form.size * form.size])
    if elf.elfclass == 32:
        rows = ((name, info, 0, index, value, size) for name, value, size, info, _, index in rows)
    return [
        TableEntry(_text(texts, name), value, size, info & 15, info >> 4 == 0, index)
        for name, info, _, index, value, size in rows
    ]


def _text(texts: bytes, at: int) -> str:
    return texts[at : texts.find(b"\0", at)].decode(errors="replace")
