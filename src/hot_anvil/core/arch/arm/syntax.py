"""32-bit ARM and Thumb in the unified syntax, as gcc and clang write it."""

import re
from functools import lru_cache

from hot_anvil.core.arch.records import Isa

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


ISA = Isa(
    name="arm",
    comments=("@",),
    separator=";",
    register=re.compile(r"\b(?:r\d+|sp|lr|pc|ip|fp|sl|sb|[sdq]\d+)\b"),
    family=family_of,
    same={"bhs": "bcs", "blo": "bcc", "ldmfd": "pop", "stmfd": "push"},
    fillers=re.compile(r"nop(?:\.[nw])?(?: \{0\})?$|mov(?:\.n)? r8, ?r8$|andeq r0, ?r0, ?r0$"),
    setup=re.compile(
        r"push\b|stmf?d?b? sp!|vpush\b|str lr,\[sp,#-\d+\]!|sub(?:\.?w)? sp,(?:sp,)?#"
        r"|(?:add|mov)s? (?:fp|r7|r11),sp"
    ),
    teardown=re.compile(
        r"pop\b|vpop\b|ldm\w* sp!|ldr (?:lr|pc),\[sp\],|add(?:\.?w)? sp,(?:sp,)?#"
        r"|(?:mov|sub) sp,(?:fp|r7|r11)|bx lr$|adds? r7,r7,#|mov sp,r7$"
    ),
    returns=re.compile(r"bx lr$|pop\b.*pc|ldm.*pc|ldr pc,|mov pc,lr"),
    calls=re.compile(r"blx?$"),
    jumps=re.compile(r"b(?:\.[nw])?$"),
)
