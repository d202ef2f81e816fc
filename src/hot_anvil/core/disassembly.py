"""Read what objdump prints for an object, and the listing an assembler writes.

Both serve only to prove that the code shown is the code that runs; the code
shown comes from the compiler's text.
"""

import re
from typing import NamedTuple

_SECTION = re.compile(r"Disassembly of section (.+):$")
_TARGET = re.compile(r"^(\w+(?:,p[nt])?\s+)([0-9a-f]+)(?: <(.*)>)?$")


class Decoded(NamedTuple):
    """One instruction as the disassembler sees it in an object."""

    section: str
    address: int
    text: str
    target: int | None  # address a branch goes to inside its section
    relocation: str  # what the linker will fill in, "" when nothing


def read_objdump(text: str) -> tuple[Decoded, ...]:
    """Read the output of ``objdump -dr -w --no-show-raw-insn`` of an object."""
    out: list[Decoded] = []
    section = ""
    known: dict[str, tuple[str, int | None, str]] = {}  # bodies repeat a lot
    for line in text.split("\n"):
        address, found, body = line.partition(":\t")
        if found:
            parts = known.get(body)
            if parts is None:
                # With -w an instruction's relocations follow it on its line, after tabs.
                instruction, *relocations = body.split("\t")
                relocation = relocations[-1] if relocations else ""
                parts = (*_without_target(instruction.split("#")[0].strip()), relocation)
                known[body] = parts
            out.append(Decoded(section, int(address, 16), *parts))
            continue
        named = _SECTION.match(line)
        if named:
            section = named[1]
    return tuple(out)


def _without_target(body: str) -> tuple[str, int | None]:
    found = _TARGET.match(body)
    if not found or body[0] not in "jclx":
        return re.sub(r"\s+", " ", body), None
    return found[1].strip(), int(found[2], 16)


def is_padding(text: str) -> bool:
    """Tell whether a decoded instruction does nothing but fill space."""
    words = text.split()
    return any(word in ("nop", "nopw", "nopl", "nopq") for word in words) or text in (
        "xchg %ax,%ax",
        "data16",
        "int3",
        "lea 0x0(%rsi,%riz,1),%rsi",
        "lea 0x0(%rsi),%rsi",
    )


def read_assembler_listing(text: str) -> tuple[tuple[int, int], ...]:
    """Read the listing of GNU as (``-aln``): (text line, offset) pairs.

    Only lines that put bytes into a section are returned, in text order. The
    offset counts from the start of the section the line stands in.
    """
    pairs: list[tuple[int, int]] = []
    previous = ""
    for line in text.split("\n"):
        # Number, one blank, offset, bytes; without bytes, or on a line that
        # continues the bytes of the one before, more blanks stand for the offset.
        number, _, rest = line.lstrip(" ").partition(" ")
        if rest[:1] not in ("", " ") and number != previous:
            pairs.append((int(number), int(rest.partition(" ")[0], 16)))
            previous = number
    return tuple(pairs)
