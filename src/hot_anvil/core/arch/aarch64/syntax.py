"""AArch64, as gcc and clang write it."""

import re
from functools import lru_cache

from hot_anvil.core.arch.records import NEVER, Disassembly, Syntax
from hot_anvil.core.arch.spelling_rules import keep_text, without_linkage


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

SYNTAX = Syntax(
    comments=("//",),
    separator=";",
    register=re.compile(r"\b(?:[wxbhsdqvz]\d+|[wx]zr|w?sp)\b"),
    family=family_of,
    same={f"b.{c}": f"b{c}" for c in _CONDITIONS} | {"bhs": "bcs", "blo": "bcc"},
    returns=re.compile(r"ret(?:aa|ab)?$"),
    calls=re.compile(r"blr?(?:a[ab]z?)?$"),
    jumps=re.compile(r"br?$"),
    tidy=without_linkage,
    linkage=NEVER,
    prefixes=frozenset(),
    expands=NEVER,
    fillers=re.compile(r"nop$"),
    destination_last=False,
    meant=lambda mnemonic: (mnemonic, mnemonic.partition(".")[0]),
    others={},
)

DISASSEMBLY = Disassembly(
    named=keep_text,
    relative=NEVER,
    plain_fillers=frozenset(("nop",)),
    open_place="",
    one_encoding=str,
    long_jump=NEVER,
)
