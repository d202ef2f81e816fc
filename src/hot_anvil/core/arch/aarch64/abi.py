"""Registers, frames and calls. Source: Arm's AAPCS64 and AADWARF64."""

import re

from hot_anvil.core.arch.frames import listed, no_push, steps
from hot_anvil.core.arch.records import NEVER, Abi, FrameRules


def _register_name(number: int, bits: int) -> str:
    if number < 31:
        return f"x{number}"
    if number == 31:
        return "sp"
    return f"v{number - 64}" if 64 <= number <= 95 else f"register {number}"


ABI = Abi(
    word=0,
    stack=frozenset(("sp",)),
    frames=frozenset(("r29",)),
    frame_setup=re.compile(r"(?:mov|add) x29,sp"),
    clobbered=frozenset([f"r{n}" for n in range(19)] + [f"v{n}" for n in range(32)]),
    parameters=frozenset([f"r{n}" for n in range(8)] + [f"v{n}" for n in range(8)]),
    result="r0",
    results=frozenset(("r0", "v0")),
    wide_results=(),
    register_name=_register_name,
    frame=FrameRules(
        setup=re.compile(
            r"paciasp$|bti\b|(?:stp|str) .*\[sp,#?-\d+\]!$|stp .*\[sp(?:,#?\d+)?\]$|sub sp,sp,"
            r"|mov x29,sp$"
            r"|add x29,sp,|str x(?:19|2\d|30),\[sp"
        ),
        teardown=re.compile(
            r"autiasp$|ldp .*\[sp|ldr x(?:19|2\d|30),\[sp|add sp,sp,|mov sp,x29$|ret\b"
        ),
        pointer="sp",
        step=steps(
            (r"sub sp,sp,#?(\d+)", r"st[rp] .*\[sp,#?-(\d+)\]!"),
            (r"add sp,sp,#?(\d+)", r"ld[rp] .*\[sp\],#?(\d+)"),
        ),
        pushed=no_push,
        varies=re.compile(r"sub sp,sp,[xr]\d+|sub sp,sp,\w+$|add sp,sp,[a-z]\w*"),
        aligns=NEVER,
        saved=listed,
        makes_room=NEVER,
        link=frozenset(),
        below=None,
        probe=NEVER,
    ),
)
