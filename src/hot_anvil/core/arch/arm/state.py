"""Registers and flags of ARM processors while they are stepped through.

Flags: "Arm Architecture Reference Manual ARMv7-A and ARMv7-R", APSR; the same bits in an M's xPSR.
"""

import re
from collections.abc import Iterator

from hot_anvil.core.arch.state import MachineState, Register, flag_letters

_PLAIN = (*(Register(f"r{number}", 32) for number in range(13)), Register("sp", 32),
          Register("lr", 32), Register("flags", 32))  # fmt: skip
_PAIR = re.compile(r"\b(R\d\d|X?PSR)=([0-9a-f]{8})\b")
_WIDE = re.compile(r"\bd(\d\d)=([0-9a-f]{16})")
_OTHERS = {"R13": "sp", "R14": "lr"}
_SINGLE = re.compile(r"s(\d+)")


def _plain(bits: int) -> tuple[Register, ...]:
    return _PLAIN


def _logged(line: str) -> Iterator[tuple[str, int]]:
    if line.startswith("s"):
        for number, value in _WIDE.findall(line):
            yield f"d{int(number)}", int(value, 16)
        return
    for name, value in _PAIR.findall(line):
        if name.endswith("PSR"):
            yield "flags", int(value, 16) & 0xF800_0000
        elif name != "R15":
            yield _OTHERS.get(name) or f"r{int(name[1:])}", int(value, 16)


STATE = MachineState(
    plain=_plain,
    wide=tuple(Register(f"d{number}", 64) for number in range(32)),
    names_wide=re.compile(r"\b[sdq]\d{1,2}\b"),
    stack=lambda bits: "sp",
    flags="flags",
    flag_text=flag_letters(((31, "N"), (30, "Z"), (29, "C"), (28, "V"), (27, "Q"))),
    logged=_logged,
    called=lambda name, value: name,
    debug_name=lambda name: {"r13": "sp", "r14": "lr"}.get(name, name),
)
