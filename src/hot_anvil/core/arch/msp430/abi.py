"""Registers, frames and calls. Source: what clang for MSP430 writes."""

import re

from hot_anvil.core.arch.frames import listed, steps
from hot_anvil.core.arch.records import NEVER, Abi, FrameRules


def _register_name(number: int, bits: int) -> str:
    return {0: "return address", 1: "sp", 2: "sr"}.get(number, f"r{number}")


ABI = Abi(
    word=2,
    stack=frozenset(("r1",)),
    frames=frozenset(("r4",)),
    frame_setup=re.compile(r"mov (?:r1|sp),r4"),
    clobbered=frozenset("r11 r12 r13 r14 r15".split()),
    parameters=frozenset("r12 r13 r14 r15".split()),
    result="r12",
    results=frozenset(("r12",)),
    wide_results=(),
    register_name=_register_name,
    frame=FrameRules(
        setup=re.compile(r"push\b|sub #\d+,(?:r1|sp)$|mov r1,r4$"),
        teardown=re.compile(r"pop\b|add #\d+,(?:r1|sp)$|mov r4,r1$|reti?$"),
        pointer="r1",
        step=steps((r"sub #(\d+),(?:r1|sp)",), (r"add #(\d+),(?:r1|sp)",)),
        pushed=lambda text: 2,
        varies=NEVER,
        aligns=NEVER,
        saved=listed,
        makes_room=NEVER,
        link=frozenset(),
        below=None,
        probe=NEVER,
    ),
)
