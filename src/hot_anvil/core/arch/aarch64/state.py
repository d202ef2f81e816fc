"""Registers and flags of AArch64 processors while they are stepped through.

Flags: "Arm Architecture Reference Manual for A-profile", PSTATE.
"""

import re
from collections.abc import Iterator

from hot_anvil.core.arch.state import MachineState, Register, flag_letters

_PLAIN = (*(Register(f"x{number}", 64) for number in range(31)), Register("sp", 64),
          Register("nzcv", 32))  # fmt: skip
_PAIR = re.compile(r"(X\d\d| SP|PSTATE)=([0-9a-f]{8,16})\b")
_VECTOR = re.compile(r"(Q\d\d)=([0-9a-f]{16}):([0-9a-f]{16})")


def _plain(bits: int) -> tuple[Register, ...]:
    return _PLAIN


def _logged(line: str) -> Iterator[tuple[str, int]]:
    if line.startswith("Q"):
        for name, high, low in _VECTOR.findall(line):
            yield f"q{int(name[1:])}", int(high, 16) << 64 | int(low, 16)
        return
    for name, value in _PAIR.findall(line):
        if name == " SP":
            yield "sp", int(value, 16)
        elif name == "PSTATE":
            yield "nzcv", int(value, 16) & 0xF000_0000  # others say how it runs, not what it found
        else:
            yield f"x{int(name[1:])}", int(value, 16)


STATE = MachineState(
    plain=_plain,
    wide=tuple(Register(f"q{number}", 128) for number in range(32)),
    names_wide=re.compile(r"\b[vqdshb]\d{1,2}\b"),
    stack=lambda bits: "sp",
    flags="nzcv",
    flag_text=flag_letters(((31, "N"), (30, "Z"), (29, "C"), (28, "V"))),
    logged=_logged,
    called=lambda name, value: name,
    spared=(",sve=off", re.compile(r"\b[zp]\d{1,2}\b")),
    debug_name=lambda name: f"q{name[1:]}" if re.fullmatch(r"v\d+", name) else name,
)
