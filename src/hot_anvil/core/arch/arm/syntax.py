"""32-bit ARM and Thumb in the unified syntax, as gcc and clang write it."""

import re
from functools import lru_cache

from hot_anvil.core.arch.records import NEVER, Disassembly, Syntax
from hot_anvil.core.arch.spelling_rules import keep_text, without_linkage

_NAMED = {"sb": "r9", "sl": "r10", "fp": "r11", "ip": "r12", "sp": "r13", "lr": "r14", "pc": "r15"}


@lru_cache(maxsize=4096)
def family_of(register: str) -> tuple[str, str]:
    """Return (family, view): ``s6``, ``s7`` and ``d3`` overlap, as do ``d2``, ``d3`` and ``q1``."""
    kind, number = register[0], register[1:]
    if register in _NAMED or kind == "r":
        return _NAMED.get(register, register), "r"
    first = {"s": int(number) // 4, "d": int(number) // 2, "q": int(number)}[kind]
    part = f"{int(number) % 4}" if kind == "s" else f"{int(number) % 2}" if kind == "d" else ""
    return f"q{first}", f"{kind}{part}"


SYNTAX = Syntax(
    comments=("@",),
    separator=";",
    register=re.compile(r"\b(?:r\d+|sp|lr|pc|ip|fp|sl|sb|[sdq]\d+)\b"),
    family=family_of,
    same={"bhs": "bcs", "blo": "bcc", "ldmfd": "pop", "stmfd": "push"},
    fillers=re.compile(r"nop(?:\.[nw])?(?: \{0\})?$|mov(?:\.n)? r8, ?r8$|andeq r0, ?r0, ?r0$"),
    returns=re.compile(r"bx lr$|pop\b.*pc|ldm.*pc|ldr pc,|mov pc,lr"),
    calls=re.compile(r"blx?$"),
    jumps=re.compile(r"b(?:\.[nw])?$"),
    tidy=without_linkage,
    linkage=NEVER,
    prefixes=frozenset(),
    expands=NEVER,
    destination_last=False,
    meant=lambda mnemonic: (mnemonic, mnemonic.partition(".")[0]),
    others={},
)

DISASSEMBLY = Disassembly(
    named=keep_text,
    relative=NEVER,
    plain_fillers=frozenset(("nop", "nop.n")),
    open_place="",
    one_encoding=str,
    long_jump=NEVER,
)
