"""Registers, frames and calls. Source: the RISC-V psABI."""

import re

from hot_anvil.core.arch.frames import no_push, steps
from hot_anvil.core.arch.records import NEVER, Abi, FrameRules

_RISCV = (
    "zero ra sp gp tp t0 t1 t2 s0 s1 a0 a1 a2 a3 a4 a5 a6 a7 "
    "s2 s3 s4 s5 s6 s7 s8 s9 s10 s11 t3 t4 t5 t6"
).split()
_RISCV_FLOAT = (
    "ft0 ft1 ft2 ft3 ft4 ft5 ft6 ft7 fs0 fs1 fa0 fa1 fa2 fa3 fa4 fa5 fa6 fa7 "
    "fs2 fs3 fs4 fs5 fs6 fs7 fs8 fs9 fs10 fs11 ft8 ft9 ft10 ft11"
).split()


def _register_name(number: int, bits: int) -> str:
    if number < 32:
        return _RISCV[number]
    return _RISCV_FLOAT[number - 32] if number < 64 else f"register {number}"


ABI = Abi(
    word=0,
    stack=frozenset(("sp",)),
    frames=frozenset(("s0",)),
    frame_setup=re.compile(r"addi? s0,sp,\d+"),
    clobbered=frozenset(
        ["ra", *(f"a{n}" for n in range(8)), *(f"t{n}" for n in range(7))]
        + [f"f{k}{n}" for k in "at" for n in range(12)]
    ),
    parameters=frozenset([f"a{n}" for n in range(8)] + [f"fa{n}" for n in range(8)]),
    result="a0",
    results=frozenset(("a0", "fa0")),
    wide_results=(),
    register_name=_register_name,
    frame=FrameRules(
        setup=re.compile(
            r"addi? sp,sp,-\d+$|s[wd] (?:ra|s\d+),-?\d+\(sp\)$|fsd .*\(sp\)$|addi? s0,sp,"
        ),
        teardown=re.compile(
            r"addi? sp,(?:sp|s0),-?\d+$|l[wd] (?:ra|s\d+),-?\d+\(sp\)$|fld .*\(sp\)$|ret$|jr ra$"
        ),
        pointer="sp",
        step=steps((r"addi? sp,sp,-(\d+)",), (r"addi? sp,sp,(\d+)",)),
        pushed=no_push,
        varies=re.compile(r"sub sp,sp,[xr]\d+|sub sp,sp,\w+$|add sp,sp,[a-z]\w*"),
        aligns=NEVER,
        saved=lambda operand: [operand],
        makes_room=NEVER,
        link=frozenset(("ra",)),
        below=None,
        probe=NEVER,
    ),
)
