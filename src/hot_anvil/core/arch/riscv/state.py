"""Registers of RISC-V processors while they are stepped through; they have no flags."""

import re
from collections.abc import Iterator

from hot_anvil.core.arch.state import MachineState, Register, no_flags

# As the emulator's log names them, by number; the assembler writes the eighth as s0.
_NAMES = (
    "ra sp gp tp t0 t1 t2 s0 s1 a0 a1 a2 a3 a4 a5 a6 a7 s2 s3 s4 s5 s6 s7 s8 s9 s10 s11 t3 t4 t5 t6"
).split()
_FLOATS = (
    "ft0 ft1 ft2 ft3 ft4 ft5 ft6 ft7 fs0 fs1 fa0 fa1 fa2 fa3 fa4 fa5 fa6 fa7 "
    "fs2 fs3 fs4 fs5 fs6 fs7 fs8 fs9 fs10 fs11 ft8 ft9 ft10 ft11"
).split()
_ONE = re.compile(r"\b[xf]\d{1,2}/(\w+) +([0-9a-f]{8,16})\b")


def _plain(bits: int) -> tuple[Register, ...]:
    return tuple(Register(name, bits) for name in _NAMES)


def _logged(line: str) -> Iterator[tuple[str, int]]:
    for name, value in _ONE.findall(line):
        if name != "zero":
            yield name, int(value, 16)


def _debug_name(name: str) -> str:
    return "s0" if name == "fp" else name


STATE = MachineState(
    plain=_plain,
    wide=tuple(Register(name, 64) for name in _FLOATS),
    names_wide=re.compile(r"\bf[tsa]\d"),
    stack=lambda bits: "sp",
    flags="",
    flag_text=no_flags,
    logged=_logged,
    called=lambda name, value: name,
    debug_name=_debug_name,
)
