"""RISC-V, 32 and 64 bit, as gcc and clang write it."""

import re
from functools import lru_cache

from hot_anvil.core.arch.records import NEVER, Disassembly, Syntax
from hot_anvil.core.arch.spelling_rules import keep_text, without_linkage


@lru_cache(maxsize=4096)
def family_of(register: str) -> tuple[str, str]:
    """Return (family, view); ``fp`` is ``s0``."""
    name = "s0" if register == "fp" else register
    return name, "f" if re.match(r"f[ast]\d", name) else "v" if re.match(r"v\d", name) else ""


def _with_immediate(name: str) -> str:
    return f"{name[:-1]}iw" if name.endswith("w") else f"{name}i"


_IMMEDIATE = "add and or xor sll srl sra addw sllw srlw sraw slt".split()

SYNTAX = Syntax(
    comments=("#",),
    separator=";",
    register=re.compile(r"\b(?:zero|ra|sp|gp|tp|fp|f?[at]\d+|f?s\d+|x\d+|v\d+)\b"),
    family=family_of,
    # GNU as takes, and gcc writes, "add a0,a0,2" for "addi a0, a0, 2".
    same={_with_immediate(name): name for name in _IMMEDIATE},
    # Pseudo instructions that may take two or more machine instructions.
    expands=re.compile(
        r"call$|tail$|la(?:\.\w+(?:\.\w+)?)?$|lla$|li$|jump$|j$|b(?:eq|ne|lt|ge|gt|le)u?z?$|f?[ls][bhwd]u?$"
    ),
    fillers=re.compile(r"(?:c\.)?nop$|unimp$|(?:c\.)?addi? zero, ?zero, ?0$"),
    returns=re.compile(r"ret$|jr ra$"),
    calls=re.compile(r"call$|jalr?$"),
    jumps=re.compile(r"tail$|j$|jr$"),
    tidy=without_linkage,
    linkage=NEVER,
    prefixes=frozenset(),
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
    long_call=re.compile(r"jalr(?: |$)"),
    long_jump=re.compile("auipc"),
)
