"""AVR, as avr-gcc and clang write it."""

import re
from functools import lru_cache

from hot_anvil.core.arch.records import NEVER, Disassembly, Syntax
from hot_anvil.core.arch.spelling_rules import without_linkage

_NAMED = {"X": "r26", "Y": "r28", "Z": "r30", "__tmp_reg__": "r0", "__zero_reg__": "r1"}


@lru_cache(maxsize=256)
def family_of(register: str) -> tuple[str, str]:
    """Return (family, view); X, Y and Z are pairs that start at r26, r28 and r30."""
    return _NAMED.get(register, register), "pair" if register in "XYZ" else ""


SYNTAX = Syntax(
    comments=(";",),
    separator="$",
    register=re.compile(r"\b(?:r\d+|__tmp_reg__|__zero_reg__|[XYZ](?=\+|\b))"),
    family=family_of,
    same={"brsh": "brcc", "brlo": "brcs", "ldd": "ld", "std": "st"},
    returns=re.compile(r"reti?$"),
    calls=re.compile(r"r?call$|e?icall$"),
    jumps=re.compile(r"r?jmp$|e?ijmp$"),
    tidy=without_linkage,
    linkage=NEVER,
    prefixes=frozenset(),
    expands=NEVER,
    fillers=re.compile(r"nop$"),
    destination_last=False,
    meant=lambda mnemonic: (mnemonic, mnemonic.partition(".")[0]),
    others={},
)

_NEAR = re.compile(r"\.[+-]\d+$")  # the way to say where a branch goes


def _named(text: str, comment: str, name: str) -> str:
    return _NEAR.sub(comment.strip().removeprefix("0x"), text)


DISASSEMBLY = Disassembly(
    named=_named,
    relative=NEVER,
    plain_fillers=frozenset(("nop",)),
    open_place="",
    one_encoding=str,
    long_jump=NEVER,
)
