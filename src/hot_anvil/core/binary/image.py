"""Read code back from an object or a linked image: the disassembler's words and DWARF.

This is the linked view, and the only one where there is no assembly text of a
compiler: for hand-written assembly and link-time optimisation.
"""

import io
import re
from collections.abc import Collection, Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

from hot_anvil.core.arch import architecture
from hot_anvil.core.arch.records import Architecture, Syntax
from hot_anvil.core.binary.lines import DebugLines
from hot_anvil.core.binary.symbol_table import TableEntry, symbol_table
from hot_anvil.core.code.records import LINKED, Code, Datum, Function, Instruction
from hot_anvil.core.code.text import split_operands

_ROW = re.compile(r" *([0-9a-f]+):[ \t]+((?:[0-9a-f]{2,8} ?)+)[ \t]*(?:\t(.*))?$")
_HEADING = re.compile(r"([0-9a-f]+) <(.+)>:$")
_SECTION = re.compile(r"Disassembly of section (.+):$")
_GOES_TO = re.compile(r"(?P<before>(?:.*[ ,\t])?)(?:0x)?(?P<at>[0-9a-f]+) <(?P<name>[^>]+)>$")
_COLD = re.compile(r"(.+)\.cold(?:\.\d+)?$")
_DATA = (".word", ".short", ".byte", ".long", ".hword", "<unknown>")
_EXECUTED = 4  # SHF_EXECINSTR
OUTSIDE = "(no function)"


class Symbol(NamedTuple):
    """A name for an address of an image."""

    name: str
    address: int
    size: int
    kind: str  # "FUNC", "GNU_IFUNC", "OBJECT", "NOTYPE"
    is_local: bool


class Row(NamedTuple):
    """One line of the disassembler."""

    address: int
    encoding: str  # bytes in hex, as it prints them
    text: str

    @property
    def size(self) -> int:
        """Bytes."""
        return len(self.encoding) // 2


def read_symbols(data: bytes, low_bit_is_mode: bool) -> tuple[Symbol, ...]:
    """Return the symbols of an image that name addresses, in the order of its table.

    ``low_bit_is_mode``: the lowest bit of a function's address is no part of it.
    """
    from elftools.elf.elffile import ELFFile

    elf = ELFFile(io.BytesIO(data))
    return tuple(
        _symbol(item, low_bit_is_mode)
        for item in symbol_table(elf, ".symtab", ".dynsym")
        if item.is_placed and item.name and not item.name.startswith("$")
    )


def _symbol(item: TableEntry, low_bit_is_mode: bool) -> Symbol:
    address = item.value & ~1 if low_bit_is_mode and item.is_function else item.value
    return Symbol(item.name, address, item.size, item.kind, item.is_local)


def outside_names(data: bytes) -> dict[int, str]:
    """Return address -> name of what an image refers to there and does not hold.

    An image that is linked by itself has no address for it; that it keeps its relocations tells
    the name (link option ``-q``).
    """
    from elftools.elf.elffile import ELFFile
    from elftools.elf.relocation import RelocationSection

    elf = ELFFile(io.BytesIO(data))
    out: dict[int, str] = {}
    for section in elf.iter_sections():
        if not isinstance(section, RelocationSection) or not section["sh_info"]:
            continue
        if not elf.get_section(section["sh_info"])["sh_flags"] & _EXECUTED:
            continue
        table = symbol_table(elf, elf.get_section(section["sh_link"]).name)
        for item in section.iter_relocations():
            symbol = table[item["r_info_sym"]]
            if symbol.is_taken and symbol.name:
                out[item["r_offset"]] = symbol.name.partition("@")[0]
    return out


class _Piece:
    """A function while it is being read."""

    def __init__(self, name: str, section: str, end: int | None) -> None:
        self.name, self.section, self.end = name, section, end
        self.rows: list[Row] = []


def read_image(
    dump: str,
    symbols: Sequence[Symbol],
    lines: DebugLines,
    isa_name: str,
    wanted: Collection[str] = (),
    outside: Mapping[int, str] = MappingProxyType({}),
) -> Code:
    """Read what objdump prints for ``-d`` of an image into functions.

    ``wanted`` limits the result to these symbols and their cold parts; empty
    means all. Padding and data stand among a function's data. ``outside`` names what calls go to
    that the image does not hold (``outside_names``).
    """
    arch = architecture(isa_name)
    pieces = _read_pieces(dump, symbols, arch)
    functions = []
    for piece in pieces:
        cold = _COLD.match(piece.name)
        parent = cold[1] if cold else ""
        if piece.rows and (not wanted or (parent or piece.name) in wanted):
            functions.append(_function(piece, parent, lines, arch, outside))
    files = {i.file: None for f in functions for i in f.instructions if i.file}
    return Code(tuple(functions), tuple(files), isa=isa_name, view=LINKED)


def _read_pieces(dump: str, symbols: Sequence[Symbol], arch: Architecture) -> list[_Piece]:
    by_name: dict[tuple[str, int], Symbol] = {(s.name, s.address): s for s in symbols}
    pieces: list[_Piece] = []
    section = ""
    current: _Piece | None = None
    for line in dump.split("\n"):
        row = _ROW.match(line)
        if row:
            address = int(row[1], 16)
            if current is None or (current.end is not None and address >= current.end):
                current = _Piece(OUTSIDE, section, None)
                pieces.append(current)
            text = _without_comment(" ".join((row[3] or "").split()), arch)
            text = _absolute(text, address, arch.disassembly.relative)
            current.rows.append(Row(address, row[2].replace(" ", ""), text))
            continue
        heading = _HEADING.match(line)
        if heading:
            symbol = by_name.get((heading[2], int(heading[1], 16)))
            if not _starts_function(heading[2], symbol, current):
                continue
            end = symbol.address + symbol.size if symbol and symbol.size else None
            current = _Piece(heading[2], section, end)
            pieces.append(current)
            continue
        named = _SECTION.match(line)
        if named:
            section, current = named[1], None
    return pieces


def _starts_function(name: str, symbol: Symbol | None, current: _Piece | None) -> bool:
    """Tell whether a symbol starts a function, or is a label inside one."""
    if name.startswith((".L", "$")):
        return False
    if symbol is None or symbol.kind in ("FUNC", "GNU_IFUNC") or not symbol.is_local:
        return True
    return current is None or current.name == OUTSIDE or symbol.kind == "OBJECT"


def _function(
    piece: _Piece,
    parent: str,
    lines: DebugLines,
    arch: Architecture,
    outside: Mapping[int, str],
) -> Function:
    isa, plain = arch.syntax, arch.disassembly.plain_fillers
    rows: list[Instruction] = []
    data: list[Datum] = []
    index = {row.address: k for k, row in enumerate(piece.rows)}
    kept: dict[int, int] = {}  # address -> place among the instructions
    labels: dict[str, int] = {}
    goals: set[int] = set()
    before = ""  # what the row before refers to
    for row in piece.rows:
        kept[row.address] = len(rows)
        if isa.fillers.match(row.text) and _is_padding(row, lines, piece, plain):
            data.append(Datum(len(rows), 0, f"(padding) {row.text}", row.size))
            continue
        if row.text.startswith(_DATA) or not row.text:
            data.append(Datum(len(rows), 0, row.text or ".byte", row.size))
            continue
        mnemonic, operands, goal = _split(row.text, isa, index)
        own = _outside(row, outside) if outside else ""
        # A far call of two instructions has its relocation on the first.
        far = before and arch.disassembly.long_call.match(row.text)
        name = before if far and not own else own
        before = own
        if name and operands and (isa.calls.match(mnemonic) or isa.jumps.match(mnemonic)):
            operands, goal = (*operands[:-1], name), None
        if goal is not None:
            goals.add(goal)
        file, line = lines.line(row.address)
        made = Instruction(mnemonic, operands, file, line, 0, False, row.address, row.size)
        inlined = lines.inlined(row.address)
        if inlined:
            made = made._replace(function=inlined.function, chain=inlined.chain)
        rows.append(made._replace(encoding=row.encoding))
    begins = _begins(rows)
    labels = {f".L{goal:x}": kept[goal] for goal in sorted(goals) if goal in kept}
    return Function(piece.name, piece.section, parent, tuple(rows), labels, tuple(data), {}, begins)


def _outside(row: Row, outside: Mapping[int, str]) -> str:
    return next((outside[at] for at in range(row.address, row.address + row.size) if at in outside),
                "")  # fmt: skip


def _begins(rows: Sequence[Instruction]) -> tuple[str, int]:
    """Return the first source line of what was written in the function itself."""
    own = [row for row in rows if not row.chain and row.line > 0]
    same = [row.line for row in own if row.file == own[0].file]
    return (own[0].file, min(same)) if own else ("", 0)


def _is_padding(row: Row, lines: DebugLines, piece: _Piece, plain: Collection[str]) -> bool:
    """Tell filler from an instruction that the source asked for."""
    if piece.name == OUTSIDE:
        return True
    # A plain one of a line may be the source's own; long ones and those of no line never are.
    return row.text not in plain or lines.line(row.address)[1] == 0


def _split(
    text: str, isa: Syntax, inside: Mapping[int, int]
) -> tuple[str, tuple[str, ...], int | None]:
    """Split an instruction; returns also the address it goes to in its own function."""
    words = re.sub(r"\s+", " ", text).strip().split(" ")
    count = 1
    while count < len(words) and words[count - 1] in isa.prefixes:
        count += 1
    mnemonic, rest = " ".join(words[:count]), " ".join(words[count:])
    goes = _GOES_TO.match(rest)
    goal = None
    if goes:
        at = int(goes["at"], 16)
        if at in inside and not isa.calls.match(mnemonic):
            goal = at
            rest = f"{goes['before']}.L{at:x}"
        else:
            rest = f"{goes['before']}{goes['name']}"
    return mnemonic, split_operands(rest), goal


def _without_comment(text: str, arch: Architecture) -> str:
    """Drop the disassembler's comment, keeping the name it gives to an address."""
    for sign in arch.syntax.comments:
        at = text.find(f" {sign}")
        if at < 0:
            continue
        text, comment = text[:at].rstrip(), text[at + 1 + len(sign) :]
        named = re.search(r"<([^>]+)>", comment)
        if named:
            text = arch.disassembly.named(text, comment, named[1])
    return text


def _absolute(text: str, address: int, relative: re.Pattern[str]) -> str:
    """Write a branch that counts from its own place as one to an address."""
    found = relative.search(text)
    if not found:
        return text
    goal = address + int(found[1])
    return f"{text[: found.start()]}{goal:x} <{goal:x}>"
