"""Show less of a listing: source lines, kinds of instructions, what a pattern finds."""

import re
from collections.abc import Collection, Sequence
from typing import Literal

from hot_anvil.core.arch import syntax_of
from hot_anvil.core.asm.calls import callee
from hot_anvil.core.asm.listing import Line, ListedFunction, Placed
from hot_anvil.errors import RequestError

Filter = Literal["inlined", "data", "padding", "compiler-made", "frame", "library"]
INLINED: Filter = "inlined"
DATA: Filter = "data"
PADDING: Filter = "padding"
COMPILER_MADE: Filter = "compiler-made"
FRAME: Filter = "frame"
LIBRARY: Filter = "library"
KINDS = (INLINED, DATA, PADDING, COMPILER_MADE, FRAME, LIBRARY)


def read_lines(text: str) -> tuple[int, int]:
    """Return (first, last) of a text such as "12-20" or "12"; raises RequestError."""
    found = re.fullmatch(r"(\d+)(?:-(\d+))?", text)
    first, last = (int(found[1]), int(found[2] or found[1])) if found else (1, 0)
    if not 0 < first <= last:
        raise RequestError(f"{text}: give one line or a range, such as 12 or 12-20.", about="lines")
    return first, last


def only_lines(functions: Sequence[ListedFunction], text: str) -> tuple[ListedFunction, ...]:
    """Return the functions with just the source lines in a range; those without any are gone."""
    first, last = read_lines(text)

    out = []
    for function in functions:
        lines = tuple(
            line
            for line in function.lines
            if first <= line.line <= last and not line.file.startswith("/")
        )
        if any(line.instructions for line in lines):
            out.append(function._replace(lines=lines, data=()))
    return tuple(out)


def hide(functions: Sequence[ListedFunction], kinds: Collection[str]) -> tuple[ListedFunction, ...]:
    """Return the functions without the instructions of some kinds; they are counted as hidden."""
    for kind in kinds:
        if kind not in KINDS:
            raise RequestError(f"{kind}: unknown; the kinds are {', '.join(KINDS)}.", about="hide")

    def hidden(line: Line, placed: Placed) -> bool:
        return (
            (INLINED in kinds and bool(placed.instruction.chain))
            or (COMPILER_MADE in kinds and line.line <= 0)
            or (FRAME in kinds and bool(placed.phase))
            or (LIBRARY in kinds and line.file.startswith("/"))
        )

    out = []
    for function in functions:
        lines = []
        count = 0
        for line in function.lines:
            left = tuple(p for p in line.instructions if not hidden(line, p))
            count += len(line.instructions) - len(left)
            if left or not line.instructions:
                lines.append(line._replace(instructions=left))
        data = tuple(
            d
            for d in function.data
            if (PADDING if d.text.startswith("(padding)") else DATA) not in kinds
        )
        if lines:
            out.append(function._replace(lines=tuple(lines), data=data, hidden=count))
    return tuple(out)


def find(
    functions: Sequence[ListedFunction], pattern: str, isa_name: str
) -> tuple[ListedFunction, ...]:
    """Return what a pattern finds: by mnemonic, by callee, or by address in hex.

    ``pattern`` is a regular expression that must match the whole mnemonic
    (prefixes and a size suffix aside), the whole name of a callee, or be an
    address. Raises RequestError for an invalid one.
    """
    try:
        wanted = re.compile(rf"(?:{pattern})")
    except re.error as error:
        raise RequestError(
            f"'{pattern}': not a regular expression ({error}).", about="find"
        ) from None
    isa = syntax_of(isa_name)

    def fits(placed: Placed) -> bool:
        item = placed.instruction
        name = item.mnemonic.rpartition(" ")[2]
        called = callee(item, isa)
        if any(
            wanted.fullmatch(n) for n in (*isa.meant(name), called, called.partition("@")[0]) if n
        ):
            return True
        return item.address >= 0 and pattern.lower() in (f"{item.address:x}", f"{item.address:#x}")

    out = []
    for function in functions:
        lines = tuple(
            line._replace(instructions=left)
            for line in function.lines
            if (left := tuple(p for p in line.instructions if fits(p)))
        )
        if lines:
            out.append(function._replace(lines=lines, data=()))
    return tuple(out)
