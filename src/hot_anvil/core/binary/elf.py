"""What an ELF object or image holds: code sizes, symbols, and comparable bytes."""

import io
from collections.abc import Collection, Sequence
from typing import Any, Literal, NamedTuple

from hot_anvil.core.arch import image_kind
from hot_anvil.core.arch.images import ImageKind
from hot_anvil.core.arch.records import ObjectHead
from hot_anvil.core.binary.symbol_table import symbol_table
from hot_anvil.errors import FaultError

_WRITABLE, _ALLOC, _EXECUTABLE = 0x1, 0x2, 0x4
_MACHINE_AT = 18  # bytes into the header, where two say the machine


class ObjectFacts(NamedTuple):
    """Facts of one object file."""

    code_bytes: int  # bytes of all code sections, padding included
    sizes: dict[str, int]  # function symbol -> bytes
    sections: dict[str, int]  # code section -> bytes


class Body(NamedTuple):
    """The bytes of one function, and which of them the linker fills in."""

    data: bytes
    open_bytes: frozenset[int]  # offsets inside ``data``


def _open(data: bytes) -> Any:
    from elftools.common.exceptions import ELFError
    from elftools.elf.elffile import ELFFile

    try:
        return ELFFile(io.BytesIO(data))
    except ELFError as error:
        raise FaultError(f"an object of the compiler cannot be read as ELF: {error}.") from None


def machine_of(head: bytes) -> tuple[int, int]:
    """Return (machine, bits) of an ELF file from its first 20 bytes, (0, 0) for another file."""
    if head[:4] != b"\x7fELF":
        return 0, 0
    order: Literal["little", "big"] = "little" if head[5] == 1 else "big"
    return int.from_bytes(head[_MACHINE_AT : _MACHINE_AT + 2], order), 32 * head[4]


def head_of(data: bytes) -> ObjectHead:
    """Return what the header of an object says."""
    narrow = data[4:5] == b"\1"  # ELFCLASS32
    return ObjectHead(narrow, int.from_bytes(data[36:40], "little") if narrow else 0)


def _kind(data: bytes) -> ImageKind:
    return image_kind(*machine_of(data)) or ImageKind(0, 0, ())


def object_facts(data: bytes) -> ObjectFacts:
    """Return the facts of the object file whose bytes these are."""
    elf = _open(data)
    sections: dict[str, int] = {}
    for section in elf.iter_sections():
        if section["sh_flags"] & _EXECUTABLE and not section.name.startswith(".note"):
            sections[section.name] = sections.get(section.name, 0) + section["sh_size"]
    return ObjectFacts(sum(sections.values()), function_sizes(elf), sections)


def processor_attributes(data: bytes) -> dict[str, object]:
    """Return what an ARM object says of the processors it is for, by pyelftools' names of tags.

    "Addenda to, and Errata in, the ABI for the Arm Architecture", section 3.
    """
    section = _open(data).get_section_by_name(".ARM.attributes")
    return {
        attribute.tag: attribute.value
        for part in (section.iter_subsections() if section else ())
        for file in part.iter_subsubsections()
        for attribute in file.iter_attributes()
    }


def floats_in_registers(data: bytes) -> bool:
    """Tell whether an ARM object's functions take floats in registers for floats."""
    return processor_attributes(data).get("TAG_ABI_VFP_ARGS") == 1


def code_alignment(data: bytes) -> int:
    """Return the boundary in bytes that all code of an object which is not set apart starts at.

    Sections of code that hardly ever runs, or runs at the start only, lie elsewhere.
    """
    apart = (".text.unlikely", ".text.exit", ".text.startup", ".init", ".fini", ".plt")
    return min(
        (
            section["sh_addralign"]
            for section in _open(data).iter_sections()
            if section["sh_flags"] & _EXECUTABLE
            and section["sh_size"]
            and not section.name.startswith(apart)
        ),
        default=1,
    )


def data_bytes(data: bytes) -> int:
    """Return the bytes of tables, constants and variables in an object."""
    return sum(section["sh_size"] for section in _data_of(_open(data)))


def data_sections(data: bytes) -> tuple[bytes, ...]:
    """Return the bytes of each section of tables, constants and variables of an object."""
    return tuple(
        b"" if section["sh_type"] == "SHT_NOBITS" else section.data()
        for section in _data_of(_open(data))
    )


def memory_of(data: bytes) -> tuple[int, int]:
    """Return the bytes of flash and of RAM that an object takes on a chip without a system.

    Variables with a first value take both: it is copied before a program starts.
    """
    kind, elf = _kind(data), _open(data)
    flash, ram = 0, sum(s.size for s in symbol_table(elf) if s.is_common)
    for section in elf.iter_sections():
        flags, size = section["sh_flags"], section["sh_size"]
        if not flags & _ALLOC or section.name.startswith((".note", ".eh_frame", ".ARM")):
            continue
        kept = section["sh_type"] != "SHT_NOBITS"
        constant = not flags & (_EXECUTABLE | _WRITABLE)
        flash += size if kept else 0
        ram += size if flags & _WRITABLE or (constant and kind.constants_in_ram) else 0
    return flash, ram


def _data_of(elf: Any) -> list[Any]:
    return [
        section
        for section in elf.iter_sections()
        if section["sh_flags"] & _ALLOC
        and not section["sh_flags"] & _EXECUTABLE
        and not section.name.startswith((".note", ".eh_frame"))
    ]


def loaded_digest(data: bytes) -> str:
    """Return a digest that is equal for files that load the same bytes."""
    import hashlib

    elf = _open(data)
    state = hashlib.blake2b(digest_size=20)
    names = [section.name for section in elf.iter_sections()]
    for section in elf.iter_sections():
        flags = section["sh_flags"]
        if flags & _ALLOC and not section.name.startswith(".note"):
            content = b"" if section["sh_type"] == "SHT_NOBITS" else section.data()
            if section.name.startswith(".eh_frame"):
                content = b""  # unwinding tables do not run
            state.update(f"{section.name} {section['sh_size']} ".encode() + content)
        relocates = section["sh_type"] in ("SHT_RELA", "SHT_REL")
        if relocates and not names[section["sh_info"]].startswith((".debug", ".eh_frame")):
            symbols = symbol_table(elf, names[section["sh_link"]])
            for r in section.iter_relocations():
                symbol = symbols[r["r_info_sym"]]
                name = symbol.name or (names[symbol.section] if symbol.is_placed else "")
                added = r.entry.get("r_addend", "")
                line = f"{section.name} {r['r_offset']} {r['r_info_type']} {name} {added}"
                state.update(line.encode())
    return state.hexdigest()


def function_sizes(elf: Any) -> dict[str, int]:
    """Return the size in bytes of each function symbol that the file defines."""
    own = (s for s in symbol_table(elf) if s.is_function and not s.is_taken)
    return {symbol.name: symbol.size for symbol in own}


def code_ranges(data: bytes, names: Sequence[str]) -> dict[str, tuple[int, int]]:
    """Return where sections of an image lie: name -> (first, end), from its first code."""
    elf = _open(data)
    start = _first_code(elf)
    out = {}
    for section in elf.iter_sections():
        if section.name in names:
            first = section["sh_addr"] - start
            out[section.name] = first, first + section["sh_size"]
    return out


def first_code(data: bytes) -> int:
    """Return the address of an image's first code, as a loader sees it."""
    return _first_code(_open(data))


def _first_code(elf: Any) -> int:
    starts: list[int] = [
        segment["p_vaddr"]
        for segment in elf.iter_segments()
        if segment["p_type"] == "PT_LOAD" and segment["p_flags"] & 1
    ]
    return min(starts)


def place_of_symbol(data: bytes, name: str) -> tuple[int, bool]:
    """Return a function's address in a program, and whether that is loaded anywhere."""
    elf = _open(data)
    table = elf.get_section_by_name(".symtab")
    found = table.get_symbol_by_name(name) if table else None
    if not found:
        raise FaultError(f"{name} is not in the program that calls it.")
    return int(found[0]["st_value"]), elf["e_type"] == "ET_DYN"


def taken_symbols(data: bytes) -> tuple[str, ...]:
    """Return the symbols that a linked image takes from others."""
    symbols = symbol_table(_open(data), ".dynsym")
    return tuple(s.name for s in symbols if s.is_taken and s.name)


def from_outside(objects: Sequence[bytes]) -> frozenset[str]:
    """Return the symbols that objects take from others, linked together."""
    taken: set[str] = set()
    given: set[str] = set()
    for data in objects:
        for symbol in symbol_table(_open(data)):
            (taken if symbol.is_taken else given).add(symbol.name)
    return frozenset(taken - given - {""})


def function_bodies(data: bytes) -> dict[str, Body]:
    """Return the bytes of each function, knowing what the linker fills in.

    ``data`` is an object, or an image that was linked with its relocations kept.
    """
    elf = _open(data)
    linked = elf["e_type"] != "ET_REL"  # then places are addresses, not offsets
    image = _kind(data)
    opened: dict[int, set[int]] = {}
    for section in elf.iter_sections():
        if section["sh_type"] in ("SHT_RELA", "SHT_REL"):
            holes = opened.setdefault(section["sh_info"], set())
            for r in section.iter_relocations():
                before, after = image.reach(r["r_info_type"])
                holes.update(range(r["r_offset"] - before, r["r_offset"] + after))
    bodies = {}
    for symbol in symbol_table(elf):
        index = symbol.section
        if symbol.is_function and symbol.is_placed:
            start, size = symbol.value & ~int(image.low_bit_is_mode), symbol.size
            section = elf.get_section(index)
            first = start - section["sh_addr"] if linked else start
            content = section.data()[first : first + size]
            holes = opened.get(index, set())
            inside = frozenset(at - start for at in holes if start <= at < start + size)
            bodies[symbol.name] = Body(content, inside)
    return bodies


def image_differs(image: bytes, bodies: dict[str, Body], functions: list[str]) -> str:
    """Compare functions in a linked image with their bodies in the object.

    Returns "" when every byte agrees that the linker does not fill in, else
    what differs.
    """
    elf = _open(image)
    mode = int(_kind(image).low_bit_is_mode)
    found = {}
    for symbol in symbol_table(elf):
        if symbol.name in functions and symbol.is_placed:
            section = elf.get_section(symbol.section)
            start = (symbol.value & ~mode) - section["sh_addr"]
            found[symbol.name] = section.data()[start : start + symbol.size]
    for name in functions:
        body, linked = bodies.get(name), found.get(name)
        if body is None or linked is None:
            return f"{name} is not in the {'object' if body is None else 'linked image'}"
        if len(body.data) != len(linked):
            return f"{name} has {len(linked)} bytes, {len(body.data)} were compiled"
        pairs = enumerate(zip(body.data, linked, strict=True))
        if any(a != b for at, (a, b) in pairs if at not in body.open_bytes):
            return f"the linked bytes of {name} are not those compiled"
    return ""


def data_symbols(image: bytes) -> dict[str, list[tuple[int, int]]]:
    """Return symbol -> (address, bytes) of each writable object of a linked image."""
    elf = _open(image)
    writable = [bool(section["sh_flags"] & _WRITABLE) for section in elf.iter_sections()]
    out: dict[str, list[tuple[int, int]]] = {}
    for symbol in symbol_table(elf):
        if symbol.is_object and symbol.is_placed and writable[symbol.section]:
            out.setdefault(symbol.name, []).append((symbol.value, symbol.size))
    return out


def object_contents(data: bytes) -> dict[str, bytes]:
    """Return symbol -> contents of each object of an ELF file that has a size and a first value."""
    elf = _open(data)
    out = {}
    for symbol in symbol_table(elf):
        if symbol.is_object and symbol.is_placed and symbol.size:
            section = elf.get_section(symbol.section)
            if section["sh_type"] != "SHT_NOBITS":
                first = symbol.value - (section["sh_addr"] if elf["e_type"] != "ET_REL" else 0)
                out[symbol.name] = section.data()[first : first + symbol.size]
    return out


def object_pointers(data: bytes) -> dict[str, tuple[str, ...]]:
    """Return symbol -> what an object file's data points to: functions and data, by their symbols.

    What has no symbol of its own goes by its section and place.
    """
    elf = _open(data)
    symbols = symbol_table(elf)
    names = [section.name for section in elf.iter_sections()]
    placed = [s for s in symbols if s.is_placed and s.size]

    def at(section: int, place: int) -> str:
        found = (s.name for s in placed if s.section == section and s.value == place)
        return next(found, f"{names[section]} + {place}")

    out: dict[str, list[str]] = {}
    for section in elf.iter_sections():
        if section["sh_type"] not in ("SHT_RELA", "SHT_REL"):
            continue
        owners = [s for s in placed if s.is_object and s.section == section["sh_info"]]
        for r in section.iter_relocations() if owners else ():
            goal = symbols[r["r_info_sym"]]
            where = r["r_offset"]
            own = (s.name for s in owners if s.value <= where < s.value + s.size)
            plain = goal.name if goal.is_taken or goal.size else ""
            told = plain or at(goal.section, goal.value + r.entry.get("r_addend", 0))
            for name in own:
                out.setdefault(name, []).append(told)
    return {name: tuple(goals) for name, goals in out.items()}


def data_contents(image: bytes) -> list[tuple[int, bytes]]:
    """Return (address, contents) of each writable section of a linked image; zeros where it is."""
    out = []
    for section in _open(image).iter_sections():
        if not section["sh_flags"] & _WRITABLE or not section["sh_flags"] & _ALLOC:
            continue
        empty = section["sh_type"] == "SHT_NOBITS"
        data = bytes(section["sh_size"]) if empty else section.data()
        out.append((section["sh_addr"], data))
    return out


def symbol_addresses(image: bytes) -> dict[str, int]:
    """Return symbol -> address in a linked image, but for names that stand for several places."""
    found: dict[str, int] = {}
    several: set[str] = set()
    for symbol in symbol_table(_open(image)):
        known = found.setdefault(symbol.name, symbol.value) if symbol.is_placed else symbol.value
        if known != symbol.value:
            several.add(symbol.name)
    return {name: at for name, at in found.items() if name not in several}


def function_span(image: bytes, names: Collection[str]) -> tuple[int, int] | None:
    """Return the first address of some functions of a linked image, and the end of the last.

    Their cold parts count among them; None where the image has none of them.
    """
    elf = _open(image)
    low_bit = _kind(image).low_bit_is_mode
    spans = []
    for symbol in symbol_table(elf):
        if symbol.is_function and symbol.is_placed and symbol.name.partition(".")[0] in names:
            at = symbol.value & ~1 if low_bit else symbol.value
            spans.append((at, at + max(symbol.size, 1)))
    return (min(spans)[0], max(end for _, end in spans)) if spans else None
