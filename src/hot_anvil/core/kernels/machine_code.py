"""The real machine's code of kernels, as its disassembler lists it."""

import re
from typing import NamedTuple

from hot_anvil.core.code.text import normal_path

_SECTION = re.compile(r"^\.text\.(\S+):")
_PLACE = re.compile(r'^\s*//## File "([^"]+)", line (\d+)')
_CODE = re.compile(r"^\s*/\*([0-9a-f]{4,})\*/\s+(.*?)\s*;")
_LABEL = re.compile(r"^(\.L_x_\d+):")
_END = re.compile(r"^//-{5,}")


class MachineInstruction(NamedTuple):
    """One instruction of the real machine."""

    offset: int  # bytes from the kernel's start
    text: str
    file: str  # "" where that is not known
    line: int
    label: str = ""  # that stands before it


def read_machine_code(text: str, folder: str) -> dict[str, tuple[MachineInstruction, ...]]:
    """Return the instructions of each kernel; paths in ``folder`` are told from there.

    ``text`` is what ``nvdisasm -g -c`` says. What fills the code up behind its last jump to itself
    stays in, as it is there.
    """
    found: dict[str, list[MachineInstruction]] = {}
    own: list[MachineInstruction] | None = None
    place, label = ("", 0), ""
    for row in text.splitlines():
        if section := _SECTION.match(row):
            own = found.setdefault(section[1], [])
            place, label = ("", 0), ""
        elif _END.match(row):
            own = None
        elif own is None:
            continue
        elif named := _PLACE.match(row):
            place = normal_path("", named[1], folder), int(named[2])
        elif labelled := _LABEL.match(row):
            label = labelled[1]
        elif code := _CODE.match(row):
            own.append(MachineInstruction(int(code[1], 16), _plain(code[2]), *place, label))
            label = ""
    return {name: tuple(items) for name, items in found.items()}


def _plain(text: str) -> str:
    return re.sub(r"`\((\.L_x_\d+)\)", r"\1", text)
