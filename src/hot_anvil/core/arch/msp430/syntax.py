"""MSP430, as clang writes it."""

import re
from functools import lru_cache

from hot_anvil.core.arch.records import Isa

_NAMED = {"pc": "r0", "sp": "r1", "sr": "r2"}


@lru_cache(maxsize=256)
def family_of(register: str) -> tuple[str, str]:
    """Return (family, view)."""
    return _NAMED.get(register, register), ""


ISA = Isa(
    name="msp430",
    comments=(";",),
    separator="{",
    register=re.compile(r"\b(?:r\d+|pc|sp|sr)\b"),
    family=family_of,
    same={},
    setup=re.compile(r"push\b|sub #\d+,(?:r1|sp)$|mov r1,r4$"),
    teardown=re.compile(r"pop\b|add #\d+,(?:r1|sp)$|mov r4,r1$|reti?$"),
    returns=re.compile(r"reti?$"),
    calls=re.compile(r"call$"),
    jumps=re.compile(r"jmp$|br$"),
)
