"""Open debug info with pyelftools, which does not read all that compilers write."""

import io
import struct
from collections.abc import Sequence
from typing import Any

# Relocations of thread-local variables' places, by machine: what the places are is not read.
_THREAD_LOCAL = {
    "EM_386": (32,), "EM_X86_64": (17, 21), "EM_ARM": (106,), "EM_AARCH64": (1028, 1029),
    "EM_RISCV": (8, 9),
}  # fmt: skip


def open_dwarf(data: bytes) -> tuple[Any, Any]:
    """Return an ELF file and its debug info, None where it has none.

    Of an object, relocations are applied; in a linked image they are already. One with
    relocations that the reader does not know counts as having none.
    """
    from elftools.common.exceptions import ELFRelocationError
    from elftools.elf.elffile import ELFFile

    allow_two_byte_addresses()
    elf = ELFFile(io.BytesIO(data))
    if not elf.has_dwarf_info():
        return elf, None
    if elf["e_type"] != "ET_REL":
        return elf, elf.get_dwarf_info(relocate_dwarf_sections=False)
    elf = ELFFile(io.BytesIO(_without_thread_local(elf, data)))
    try:
        return elf, elf.get_dwarf_info()
    except ELFRelocationError:
        return elf, None


def _without_thread_local(elf: Any, data: bytes) -> bytes:
    """Return the object with relocations of thread-local places made to do nothing."""
    kinds = _THREAD_LOCAL.get(elf["e_machine"], ())
    wide = elf.elfclass == 64
    order = "<" if elf.little_endian else ">"
    out: bytearray | None = None
    for section in elf.iter_sections():
        if section["sh_type"] not in ("SHT_RELA", "SHT_REL") or ".debug" not in section.name:
            continue
        for number in range(section.num_relocations()):
            kind = section.get_relocation(number)["r_info_type"]
            if kind in kinds:
                out = bytearray(data) if out is None else out
                at = section["sh_offset"] + number * section["sh_entsize"] + (8 if wide else 4)
                struct.pack_into(f"{order}{'Q' if wide else 'I'}", out, at, 0)
    return data if out is None else bytes(out)


def allow_two_byte_addresses() -> None:
    """Let pyelftools read debug info with addresses of two bytes, as small chips have."""
    import elftools.dwarf.structs as structs
    from elftools.construct import ULInt16

    if getattr(structs.DWARFStructs, "_two_byte_addresses", False):
        return
    plain = structs.DWARFStructs.__new__
    tables: Sequence[str] = (
        "_create_dw_form",
        "_create_lineprog_header",
        "_create_aranges_header",
        "_create_address_table_header",
        "_create_loclists_parsers",
        "_create_rnglists_parsers",
    )

    def new(
        cls: Any, little_endian: bool, dwarf_format: int, address_size: int, dwarf_version: int = 2
    ) -> Any:
        if address_size != 2:
            return plain(cls, little_endian, dwarf_format, address_size, dwarf_version)
        key = (little_endian, dwarf_format, 2, dwarf_version)
        if key not in cls._structs_cache:
            made = object.__new__(cls)
            made.little_endian, made.dwarf_format = little_endian, dwarf_format
            made.dwarf_version = dwarf_version
            made.address_size = 4  # only the target's address becomes narrower
            made._create_structs()
            made.address_size = 2
            made.Dwarf_target_addr, made.the_Dwarf_target_addr = ULInt16, ULInt16("")
            for table in tables:
                if hasattr(made, table):
                    getattr(made, table)()
            cls._structs_cache[key] = made
        return cls._structs_cache[key]

    structs.DWARFStructs.__new__ = new
    structs.DWARFStructs._two_byte_addresses = True
