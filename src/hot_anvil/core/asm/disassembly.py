"""Read what objdump prints for an object, and the listing an assembler writes.

Both serve only to prove that the code shown is the code that runs; the code
shown comes from the compiler's text.
"""

import re
from collections.abc import Sequence
from typing import NamedTuple

_LISTED = re.compile(r"^ *(\d+) ([0-9a-f]+) ", re.MULTILINE)
_SECTION = re.compile(r"Disassembly of section (.+):$")
_TARGET = re.compile(r"(.*?)(?:0x)?([0-9a-f]+) <([^>]*)>$")
_ADDRESS = re.compile(r" *([0-9a-f]+): *\t")
_RELOCATION = re.compile(r"\t+\s*[0-9a-f]+:\s+(R_\w+)\t(.*)$")


class Decoded(NamedTuple):
    """One instruction as the disassembler sees it in an object."""

    section: str
    address: int
    text: str
    target: int | None  # address a branch goes to inside its section
    relocation: str  # what the linker will fill in, "" when nothing

    @property
    def is_data(self) -> bool:
        """True for bytes that the disassembler knows to be no code."""
        return self.text.startswith(_DATA)


_DATA = (".word", ".short", ".byte", ".long", ".hword", ".2byte", ".4byte", "<unknown>")


def read_objdump(text: str, comments: Sequence[str] = ("#",)) -> tuple[Decoded, ...]:
    """Read what objdump prints of an object for ``-dr`` without the raw bytes.

    GNU's (with ``-w``) and LLVM's are understood; ``comments`` are the signs
    that start a comment in the target's syntax.
    """
    out: list[Decoded] = []
    section = ""
    known: dict[str, tuple[str, int | None, str]] = {}  # bodies repeat a lot
    for line in text.split("\n"):
        address, tab, body = line.partition(":\t")  # GNU's; LLVM's has blanks before the tab
        if not tab or address.strip(" ").strip("0123456789abcdef"):
            found = _ADDRESS.match(line)
            address, body = (found[1], line[found.end() :]) if found else ("", "")
        if address:
            parts = known.get(body)
            if parts is None:
                parts = known[body] = _read_body(body, comments)
            out.append(Decoded(section, int(address, 16), *parts))
            continue
        named = _SECTION.match(line)
        if named:
            section = named[1]
            continue
        moved = _RELOCATION.match(line)
        if moved and out and not out[-1].relocation:
            out[-1] = out[-1]._replace(relocation=moved[2] or moved[1])
    return tuple(out)


def _read_body(body: str, comments: Sequence[str]) -> tuple[str, int | None, str]:
    # GNU puts relocations behind the instruction, after a tab: address, kind, symbol.
    words = body.split("\t")
    relocation = ""
    for index, word in enumerate(words):
        if re.match(r"[0-9a-f]+: R_", word):
            relocation = words[index + 1] if index + 1 < len(words) else word
            words = words[:index]
            break
    text = " ".join(words)
    for sign in comments:
        text = text.partition(f" {sign}")[0] if sign != "#" else text.split("#")[0]
    text = re.sub(r"\s+", " ", text.strip())
    found = _TARGET.match(text)
    if not found:
        return text, None, relocation
    return found[1].strip().rstrip(","), int(found[2], 16), relocation


def read_assembler_listing(text: str) -> tuple[tuple[int, int], ...]:
    """Read the listing of GNU as (``-aln``): (text line, offset) pairs.

    Only lines that put bytes into a section are returned, in text order. The
    offset counts from the start of the section the line stands in.
    """
    # Number, one blank, offset, bytes; without bytes, or on a line that continues the bytes
    # of the one before, more blanks stand for the offset. A line's first offset counts.
    first: dict[str, str] = {}
    for number, offset in _LISTED.findall(text):
        first.setdefault(number, offset)
    return tuple((int(number), int(offset, 16)) for number, offset in first.items())
