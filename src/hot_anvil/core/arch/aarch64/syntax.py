"""AArch64, as gcc and clang write it."""

import re
from functools import lru_cache

from hot_anvil.core.arch.records import Isa


@lru_cache(maxsize=4096)
def family_of(register: str) -> tuple[str, str]:
    """Return (family, view): ``w3`` and ``x3`` are one family, as are ``d3`` and ``v3``."""
    if register in ("wzr", "xzr"):
        return "zr", register[0]
    if register in ("sp", "wsp"):
        return "sp", "w" if register == "wsp" else "x"
    kind, number = register[0], register[1:]
    return f"{'r' if kind in 'wx' else 'v'}{number}", kind


# gcc writes "beq" where clang and objdump write "b.eq".
_CONDITIONS = "eq ne cs hs cc lo mi pl vs vc hi ls ge lt gt le".split()

ISA = Isa(
    name="aarch64",
    comments=("//",),
    separator=";",
    register=re.compile(r"\b(?:[wxbhsdqvz]\d+|[wx]zr|w?sp)\b"),
    family=family_of,
    same={f"b.{c}": f"b{c}" for c in _CONDITIONS} | {"bhs": "bcs", "blo": "bcc"},
    setup=re.compile(
        r"paciasp$|bti\b|(?:stp|str) .*\[sp,#?-\d+\]!$|stp .*\[sp(?:,#?\d+)?\]$|sub sp,sp,"
        r"|mov x29,sp$"
        r"|add x29,sp,|str x(?:19|2\d|30),\[sp"
    ),
    teardown=re.compile(
        r"autiasp$|ldp .*\[sp|ldr x(?:19|2\d|30),\[sp|add sp,sp,|mov sp,x29$|ret\b"
    ),
    returns=re.compile(r"ret(?:aa|ab)?$"),
    calls=re.compile(r"blr?(?:a[ab]z?)?$"),
    jumps=re.compile(r"br?$"),
)
