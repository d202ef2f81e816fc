"""MIR, the form that the Rust compiler checks and optimises before LLVM."""

import re
from collections.abc import Iterable, Iterator

from hot_anvil.core.stages.records import (
    DIVISION,
    LOAD,
    MARKER,
    STORE,
    Block,
    Body,
    Statement,
    call_traits,
)

FORM = "MIR"
_FN = re.compile(r"(?:const )?fn (.+?)\(.*\{$")
_LABEL = re.compile(r"^    (bb\d+)(?: \(cleanup\))?: \{$")
_GOES = re.compile(r"\b(bb\d+)\b")
_CALL = re.compile(r"= (?:move )?([\w:<>&' ,\[\]*{}#]+?)\((?:.*)\) -> ")
_DIVIDES = re.compile(r"= (?:Div|Rem)\(")


def read_functions(lines: Iterable[str]) -> Iterator[Body]:
    """Give the functions of a file, in its order."""
    name = ""
    statements: list[Statement] = []
    blocks: list[Block] = []
    for line in lines:
        begins = _FN.match(line)
        label = _LABEL.match(line.rstrip())
        text = line.strip()
        if begins:
            name, statements, blocks = begins[1], [], []
        elif label:
            blocks.append(Block(label[1], len(statements), ()))
        elif line.startswith("}") and name:
            yield Body(name, FORM, tuple(statements), tuple(blocks))
            name = ""
        elif name and blocks and text not in ("}", "") and not text.startswith("//"):
            statements.append(Statement("", 0, text, _traits(text)))
            goes = _GOES.findall(text.partition(" -> ")[2]) if " -> " in text else []
            known = blocks[-1].goes_to
            blocks[-1] = blocks[-1]._replace(goes_to=tuple(dict.fromkeys((*known, *goes))))


def _traits(text: str) -> tuple[str, ...]:
    if text.startswith(("StorageLive", "StorageDead", "nop", "debug ")):
        return (MARKER,)
    called = _CALL.search(text)
    out: list[str] = []
    if called and not text.startswith(("assert", "switchInt", "goto", "drop")):
        out += call_traits(re.sub(r"::<.*", "", called[1]).strip())
    elif _DIVIDES.search(text):
        out.append(DIVISION)
    goal, equals, value = text.partition(" = ")
    if equals and ("(*" in goal or "[" in goal):
        out.append(STORE)
    if equals and not called and re.search(r"\(\*_|_\d+\[", value) and not value.startswith("&"):
        out.append(LOAD)
    return tuple(out)
