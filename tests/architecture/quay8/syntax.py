"""How it is written: ``sum r2, r2, #1``, the destination first."""

import re

from hot_anvil.core.arch.records import NEVER, Disassembly, Syntax
from hot_anvil.core.arch.spelling_rules import keep_text, without_linkage


def family_of(register: str) -> tuple[str, str]:
    """Return (family, view); ``top`` is ``r7``."""
    return "r7" if register == "top" else register, ""


SYNTAX = Syntax(
    comments=(";",),
    separator="|",
    register=re.compile(r"\b(?:r[0-7]|top)\b"),
    family=family_of,
    same={"hnz": "hne"},
    tidy=without_linkage,
    linkage=NEVER,
    prefixes=frozenset(),
    expands=NEVER,
    fillers=re.compile(r"idle$"),
    returns=re.compile(r"back$"),
    calls=re.compile(r"run$"),
    jumps=re.compile(r"hop$"),
    destination_last=False,
    meant=lambda mnemonic: (mnemonic,),
    others={},
)

DISASSEMBLY = Disassembly(
    named=keep_text,
    relative=NEVER,
    plain_fillers=frozenset(("idle",)),
    open_place="",
    one_encoding=str,
    long_jump=NEVER,
)
