"""Registers, frames and calls. Source: Arm's AAPCS32 and AADWARF32."""

import re

from hot_anvil.core.arch.frames import listed, steps
from hot_anvil.core.arch.records import NEVER, Abi, FrameRules


def _register_name(number: int, bits: int) -> str:
    if number < 16:
        return {13: "sp", 14: "lr", 15: "pc"}.get(number, f"r{number}")
    if 64 <= number <= 95:
        return f"s{number - 64}"
    return f"d{number - 256}" if 256 <= number <= 287 else f"register {number}"


def _pushed(text: str) -> int:
    wide = text.startswith(("vpush", "vpop")) and "{d" in text.replace(" ", "")
    return len(listed(text.partition(" ")[2])) * (8 if wide else 4)


ABI = Abi(
    word=0,
    stack=frozenset(("r13",)),
    frames=frozenset(("r7", "r11")),
    frame_setup=re.compile(r"(?:add|mov)s? (?:r7|r11|fp),sp.*"),
    clobbered=frozenset("r0 r1 r2 r3 r12 r14 q0 q1 q2 q3".split()),
    parameters=frozenset("r0 r1 r2 r3 q0 q1".split()),
    result="r0",
    results=frozenset(("r0", "q0")),
    wide_results=(),
    register_name=_register_name,
    frame=FrameRules(
        setup=re.compile(
            r"push\b|stmf?d?b? sp!|vpush\b|str lr,\[sp,#-\d+\]!|sub(?:\.?w)? sp,(?:sp,)?#"
            r"|(?:add|mov)s? (?:fp|r7|r11),sp"
        ),
        teardown=re.compile(
            r"pop\b|vpop\b|ldm\w* sp!|ldr (?:lr|pc),\[sp\],|add(?:\.?w)? sp,(?:sp,)?#"
            r"|(?:mov|sub) sp,(?:fp|r7|r11)|bx lr$|adds? r7,r7,#|mov sp,r7$"
        ),
        pointer="sp",
        step=steps(
            (r"sub(?:\.?w)? sp,(?:sp,)?#(\d+)", r"str \w+,\[sp,#-(\d+)\]!"),
            (r"add(?:\.?w)? sp,(?:sp,)?#(\d+)", r"ldr \w+,\[sp\],#(\d+)"),
        ),
        pushed=_pushed,
        varies=re.compile(r"sub sp,sp,[xr]\d+|sub sp,sp,\w+$|add sp,sp,[a-z]\w*"),
        aligns=NEVER,
        saved=listed,
        makes_room=re.compile(r"vpush \{s"),
        link=frozenset(("lr", "r14")),
        below=None,
        probe=NEVER,
    ),
)
