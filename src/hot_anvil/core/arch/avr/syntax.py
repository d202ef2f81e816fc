"""AVR, as avr-gcc and clang write it."""

import re
from functools import lru_cache

from hot_anvil.core.arch.records import Isa

_NAMED = {"X": "r26", "Y": "r28", "Z": "r30", "__tmp_reg__": "r0", "__zero_reg__": "r1"}


@lru_cache(maxsize=256)
def family_of(register: str) -> tuple[str, str]:
    """Return (family, view); X, Y and Z are pairs that start at r26, r28 and r30."""
    return _NAMED.get(register, register), "pair" if register in "XYZ" else ""


ISA = Isa(
    name="avr",
    comments=(";",),
    separator="$",
    register=re.compile(r"\b(?:r\d+|__tmp_reg__|__zero_reg__|[XYZ](?=\+|\b))"),
    family=family_of,
    same={"brsh": "brcc", "brlo": "brcs", "ldd": "ld", "std": "st"},
    setup=re.compile(
        r"push |in r2[89],(?:__SP_[LH]__|6[12])$|sbiw r28,|subi r28,|sbci r29,|rcall \.$"
        r"|in (?:__tmp_reg__|r0),(?:__SREG__|63)$|cli$"
        r"|out (?:__SP_[LH]__|__SREG__|6[123]),(?:r2[89]|__tmp_reg__|r0)$"
    ),
    teardown=re.compile(
        r"pop |adiw r28,|subi r28,|sbci r29,|in (?:__tmp_reg__|r0),(?:__SREG__|63)$|cli$"
        r"|out (?:__SP_[LH]__|__SREG__|6[123]),(?:r2[89]|__tmp_reg__|r0)$|reti?$"
    ),
    returns=re.compile(r"reti?$"),
    calls=re.compile(r"r?call$|e?icall$"),
    jumps=re.compile(r"r?jmp$|e?ijmp$"),
)
