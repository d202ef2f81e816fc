"""Registers, frames and calls. Source: what avr-gcc writes and documents."""

import re

from hot_anvil.core.arch.frames import listed, steps
from hot_anvil.core.arch.records import NEVER, Abi, FrameRules


def _register_name(number: int, bits: int) -> str:
    return "SP" if number == 32 else "return address" if number == 36 else f"r{number}"


_MOVES = steps(
    (r"sbiw r28,(?:lo8\()?(\d+)\)?", r"subi r28,(?:lo8\()?(\d+)\)?"), (r"adiw r28,(\d+)",)
)
_HIGH = re.compile(r"sbci r29,(?:hi8\()?(\d+)\)?")


def _step(text: str, following: str) -> int:
    low = _MOVES(text, following)
    high = _HIGH.match(following) if low and text.startswith("subi") else None
    return low + 256 * int(high[1]) if high else low


ABI = Abi(
    word=1,
    stack=frozenset(("sp",)),
    frames=frozenset(("r28",)),
    frame_setup=re.compile(r"in r28,(?:__SP_L__|61)"),
    clobbered=frozenset(["r0", *(f"r{n}" for n in range(18, 28)), "r30", "r31"]),
    parameters=frozenset(f"r{n}" for n in range(8, 26)),
    result="r24",
    results=frozenset(("r22", "r23", "r24", "r25")),
    wide_results=(("r22", "r23", "r24", "r25"), ("r24", "r25")),
    register_name=_register_name,
    frame=FrameRules(
        setup=re.compile(
            r"push |in r2[89],(?:__SP_[LH]__|6[12])$|sbiw r28,|subi r28,|sbci r29,|rcall \.$"
            r"|in (?:__tmp_reg__|r0),(?:__SREG__|63)$|cli$"
            r"|out (?:__SP_[LH]__|__SREG__|6[123]),(?:r2[89]|__tmp_reg__|r0)$"
        ),
        teardown=re.compile(
            r"pop |adiw r28,|subi r28,|sbci r29,|in (?:__tmp_reg__|r0),(?:__SREG__|63)$|cli$"
            r"|out (?:__SP_[LH]__|__SREG__|6[123]),(?:r2[89]|__tmp_reg__|r0)$|reti?$"
        ),
        pointer="r28",
        step=_step,
        pushed=lambda text: 2 if text.startswith("rcall") else 1,
        varies=NEVER,
        aligns=NEVER,
        saved=listed,
        makes_room=re.compile("rcall"),
        link=frozenset(),
        below=None,
        probe=NEVER,
    ),
)
