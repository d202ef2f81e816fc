"""Values of variables in words, number by number."""

import struct
from collections.abc import Callable, Iterator
from typing import NamedTuple

from hot_anvil.core.binary.types import Type

_FLOATS = {4: ("<f", "{:.7g}"), 8: ("<d", "{:.15g}")}
_MOST_PARTS = 4096  # numbers of one variable that are told apart


class Part(NamedTuple):
    """One number of a variable."""

    path: str  # as the source writes it: "", "[3]", ".height", "[2].height"
    offset: int  # bytes from the variable's start
    type: Type


def parts_of(kind: Type, path: str = "", offset: int = 0) -> Iterator[Part]:
    """Give the numbers that a variable of a type is made of."""
    if kind.kind == "struct" and kind.members:
        for member in kind.members:
            yield from parts_of(member.type, f"{path}.{member.name}", offset + member.offset)
    elif kind.kind == "array" and kind.to and kind.to.size:
        for index in range(min(kind.size // kind.to.size, _MOST_PARTS)):
            yield from parts_of(kind.to, f"{path}[{index}]", offset + index * kind.to.size)
    elif kind.kind == "complex":
        half = kind._replace(kind="float", size=kind.size // 2)
        yield Part(f"{path}.real", offset, half)
        yield Part(f"{path}.imag", offset + half.size, half)
    else:
        yield Part(path, offset, kind)


def part_over(kind: Type, offset: int) -> Part | None:
    """Return the number of a type's value that a byte is part of, None where it is padding."""
    if kind.kind == "array" and kind.to and kind.to.size:
        index, inner = divmod(offset, kind.to.size)
        return _inside(part_over(kind.to, inner), f"[{index}]", offset - inner)
    if kind.kind == "struct" and kind.members:
        for member in kind.members:
            if member.offset <= offset < member.offset + member.type.size:
                found = part_over(member.type, offset - member.offset)
                return _inside(found, f".{member.name}", member.offset)
        return None
    return next((p for p in parts_of(kind) if p.offset <= offset < p.offset + p.type.size), None)


def _inside(part: Part | None, path: str, offset: int) -> Part | None:
    return part and part._replace(path=path + part.path, offset=part.offset + offset)


def number_text(kind: Type, data: bytes, pointed: Callable[[int], str] = lambda address: "") -> str:
    """Return one number in words; ``pointed`` names what an address points to, "" for nothing."""
    value = int.from_bytes(data, "little")
    if kind.kind == "float" and kind.size in _FLOATS:
        form, shown = _FLOATS[kind.size]
        return shown.format(*struct.unpack(form, data))
    if kind.kind == "int":
        return str(int.from_bytes(data, "little", signed=True))
    if kind.kind == "uint":
        return str(value)
    if kind.kind == "bool":
        return {0: "false", 1: "true"}.get(value, str(value))
    if kind.kind == "pointer":
        return pointed(value) or ("NULL" if not value else f"{value:#x}")
    return f"{value:#x}"
