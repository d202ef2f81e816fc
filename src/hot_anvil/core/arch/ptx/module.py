"""What a PTX text declares: kernels with their parameters, registers, and memory of every space.

Source: "Parallel Thread Execution ISA", chapters 4 (syntax) and 5 (state spaces, types, variables).
"""

import re
import struct
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from hot_anvil.core.arch.ptx.reader import read_kernels
from hot_anvil.core.code.records import Instruction

TYPE_BYTES = {"8": 1, "16": 2, "32": 4, "64": 8}
_DECLARED = re.compile(
    r"(?:\.(?:visible|extern|weak|common)\s+)*"
    r"\.(?P<space>shared|global|const|local)\s+(?:\.attribute\([^)]*\)\s*)?"
    r"(?:\.align\s+(?P<align>\d+)\s+)?\.(?P<type>[bsuf]\d+)\s+(?P<name>[\w$%]+)"
    r"(?P<counts>(?:\[\d*\])*)(?:\s*=\s*(?P<value>.*))?$",
    re.DOTALL,
)
_PARAMETER = re.compile(
    r"\.param\s+(?:\.align\s+(?P<align>\d+)\s+)?\.(?P<type>[bsuf]\d+)\s*"
    r"(?:\.ptr\s*(?:\.\w+\s*)*(?:\.align\s+\d+\s*)?)?(?P<name>[\w$%]+)(?:\[(?P<count>\d+)\])?"
)
_REGISTERS = re.compile(r"\.reg\s+\.(?P<type>\w+)\s+(?P<names>.*)$", re.DOTALL)
_RANGE = re.compile(r"([\w$%]+)<(\d+)>$")
_TARGET = re.compile(r"^\s*\.target\s+(\w+)", re.MULTILINE)
_LIMIT = re.compile(r"\.(maxntid|reqntid|minnctapersm|maxnreg)\s+([\d,\s]+)")


class Parameter(NamedTuple):
    """One parameter of a kernel."""

    name: str
    type: str  # "u64", "f32"; "b8" for a struct
    size: int  # bytes
    align: int


class Space(NamedTuple):
    """A variable in one of the state spaces."""

    name: str
    space: str  # "shared", "global", "const" or "local"
    size: int  # bytes, 0 for shared memory that the launch sizes
    align: int
    data: bytes | None  # what it holds at first, None: nothing is said
    pointers: tuple[tuple[int, str], ...] = ()  # (offset, variable whose address stands there)


class Kernel(NamedTuple):
    """One function of a module."""

    name: str
    parameters: tuple[Parameter, ...]
    registers: Mapping[str, str]  # name without a number -> type, or a whole name -> type
    variables: tuple[Space, ...]  # of its own: shared and local ones
    instructions: tuple[Instruction, ...]
    labels: Mapping[str, int]
    is_entry: bool

    def register_type(self, name: str) -> str:
        """Return the type that a register is declared with, alone or in a range; "" for none."""
        return self.registers.get(name) or self.registers.get(name.rstrip("0123456789"), "")


class Module(NamedTuple):
    """A PTX text."""

    target: str  # "sm_80"
    kernels: Mapping[str, Kernel]
    variables: tuple[Space, ...]  # of the module


def read_module(text: str, folder: str = "") -> Module:
    """Read what a PTX text declares and all its functions."""
    target = _TARGET.search(text)
    kernels, outside = read_kernels(text, folder)
    made = {}
    for one in kernels:
        variables = [found for line in one.declared if (found := _variable(line))]
        made[one.name] = Kernel(
            one.name, tuple(_parameters(one.header)), dict(_registers(one.declared)),
            tuple(variables), one.instructions, one.labels, ".entry" in one.header,
        )  # fmt: skip
    own = tuple(found for line in outside if (found := _variable(line)))
    return Module(target[1] if target else "", made, own)


def _parameters(header: str) -> Iterator[Parameter]:
    listed = header[header.find("(") :] if "(" in header else ""
    for found in _PARAMETER.finditer(listed):
        size = TYPE_BYTES[found["type"][1:]]
        total = size * int(found["count"] or 1)
        yield Parameter(found["name"], found["type"], total, int(found["align"] or size))


def _registers(declared: "tuple[str, ...]") -> Iterator[tuple[str, str]]:
    for line in declared:
        found = _REGISTERS.match(line)
        for name in found["names"].split(",") if found else ():
            ranged = _RANGE.match(name.strip())
            yield (ranged[1] if ranged else name.strip()), found["type"] if found else ""


def _variable(line: str) -> Space | None:
    found = _DECLARED.match(line.strip())
    if not found:
        return None
    size = TYPE_BYTES[found["type"][1:]]
    counts = re.findall(r"\[(\d*)\]", found["counts"])
    total = size
    for count in counts:
        total *= int(count or 0)
    data, pointers = _initial(found["value"], found["type"], size, total)
    align = int(found["align"] or size)
    return Space(found["name"], found["space"], total, align, data, pointers)


def _initial(
    value: str | None, kind: str, size: int, total: int
) -> tuple[bytes | None, tuple[tuple[int, str], ...]]:
    if value is None:
        return None, ()
    data, pointers = bytearray(), []
    for word in value.strip().strip("{}").replace("{", "").replace("}", "").split(","):
        text = word.strip()
        if not text:
            continue
        number = constant(text, kind)
        if number is None:
            pointers.append((len(data), text))
            number = 0
        data += (number & ((1 << 8 * size) - 1)).to_bytes(size, "little")
    return bytes(data).ljust(total, b"\0"), tuple(pointers)


def constant(text: str, kind: str) -> int | None:
    """Return the bits of a constant as a type of ``kind`` has them, None for what is none."""
    if text[:2] in ("0f", "0F"):
        bits = int(text[2:], 16)
        single = struct.unpack("<f", struct.pack("<I", bits))[0]
        return _bits(single, kind) if kind == "f64" else bits
    if text[:2] in ("0d", "0D"):
        bits = int(text[2:], 16)
        double = struct.unpack("<d", struct.pack("<Q", bits))[0]
        return _bits(double, kind) if kind == "f32" else bits
    try:
        return int(text.rstrip("U"), 0)
    except ValueError:
        pass
    try:
        return _bits(float(text), kind)
    except ValueError:
        return None


def _bits(value: float, kind: str) -> int:
    form, back = ("<f", "<I") if kind == "f32" else ("<d", "<Q")
    return int(struct.unpack(back, struct.pack(form, value))[0])


def launch_limits(header: str) -> dict[str, tuple[int, ...]]:
    """Return the limits that a kernel's header sets to its launches."""
    return {
        found[1]: tuple(int(n) for n in found[2].split(",") if n.strip())
        for found in _LIMIT.finditer(header)
    }
