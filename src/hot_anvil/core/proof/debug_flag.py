"""Prove that the debug flag which the tool adds changes no code: function by function."""

import io
from typing import Any

from hot_anvil.core.binary.symbol_table import TableEntry, symbol_table
from hot_anvil.core.code.records import Code

Pieces = dict[str, tuple[bytes, tuple[tuple[int, int, str, int], ...]]]


def functions_that_differ(with_debug: bytes, without: bytes) -> tuple[str, ...]:
    """Compare the code of two objects; return the functions whose bytes differ.

    Bytes and relocations of each function are compared; code outside every
    function is compared by section and named after it.
    """
    left, right = _pieces(with_debug), _pieces(without)
    names = dict.fromkeys((*left, *right))
    return tuple(name for name in names if left.get(name) != right.get(name))


def texts_that_differ(with_debug: Code, without: Code) -> tuple[str, ...]:
    """Compare two codes where there is no object: by their instructions."""
    left, right = _spelled(with_debug), _spelled(without)
    names = dict.fromkeys((*left, *right))
    return tuple(name for name in names if left.get(name) != right.get(name))


def _spelled(code: Code) -> dict[str, list[str]]:
    return {f.name: [i.text for i in f.instructions] for f in code.functions}


def _pieces(data: bytes) -> Pieces:
    from elftools.elf.elffile import ELFFile

    elf = ELFFile(io.BytesIO(data))
    symbols = symbol_table(elf)
    holes = _relocations(elf, symbols)
    out: Pieces = {}
    for index, section in enumerate(elf.iter_sections()):
        if not section["sh_flags"] & 0x4 or section["sh_type"] == "SHT_NOBITS":
            continue
        content = section.data()
        left = bytearray(content)
        for symbol in symbols:
            if symbol.section != index or not symbol.is_function:
                continue
            start = symbol.value & ~1 if symbol.size else symbol.value
            end = start + symbol.size
            inside = tuple(
                (at - start, kind, name, added)
                for at, kind, name, added in holes[index]
                if start <= at < end
            )
            out[symbol.name] = content[start:end], inside
            left[start:end] = bytes(end - start)
        if any(left) or not content:
            out[f"(the rest of {section.name})"] = bytes(left), ()
    return out


def _relocations(elf: Any, symbols: list[TableEntry]) -> dict[int, list[tuple[int, int, str, int]]]:
    sections = list(elf.iter_sections())
    holes: dict[int, list[tuple[int, int, str, int]]] = {k: [] for k in range(len(sections))}
    for section in sections:
        if section["sh_type"] not in ("SHT_RELA", "SHT_REL"):
            continue
        for r in section.iter_relocations():
            symbol = symbols[r["r_info_sym"]] if r["r_info_sym"] < len(symbols) else None
            own = sections[symbol.section].name if symbol and symbol.is_placed else ""
            name = (symbol.name if symbol else "") or own
            # The number of a local label may differ; what it points to may not.
            name = own if name.startswith((".L", "$")) else name
            item = (r["r_offset"], r["r_info_type"], name, r.entry.get("r_addend", 0))
            holes[section["sh_info"]].append(item)
    return holes
