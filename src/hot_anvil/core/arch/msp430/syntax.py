"""MSP430, as clang writes it."""

import re
from functools import lru_cache

from hot_anvil.core.arch.records import NEVER, Disassembly, Syntax
from hot_anvil.core.arch.spelling_rules import keep_text, without_linkage

_NAMED = {"pc": "r0", "sp": "r1", "sr": "r2"}


@lru_cache(maxsize=256)
def family_of(register: str) -> tuple[str, str]:
    """Return (family, view)."""
    return _NAMED.get(register, register), ""


SYNTAX = Syntax(
    comments=(";",),
    separator="{",
    register=re.compile(r"\b(?:r\d+|pc|sp|sr)\b"),
    family=family_of,
    same={},
    returns=re.compile(r"reti?$"),
    calls=re.compile(r"call$"),
    jumps=re.compile(r"jmp$|br$"),
    tidy=without_linkage,
    linkage=NEVER,
    prefixes=frozenset(),
    expands=NEVER,
    fillers=re.compile(r"nop$"),
    destination_last=True,
    meant=lambda mnemonic: (mnemonic, mnemonic.partition(".")[0]),
    others={},
)

DISASSEMBLY = Disassembly(
    named=keep_text,
    relative=re.compile(r"\$([+-]\d+)$"),
    plain_fillers=frozenset(("nop",)),
    open_place="",
    one_encoding=str,
    long_jump=NEVER,
)
