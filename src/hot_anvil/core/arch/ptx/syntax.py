"""PTX, as nvcc and clang write it."""

import re

from hot_anvil.core.arch.records import NEVER, Disassembly, Syntax
from hot_anvil.core.arch.spelling_rules import keep_text, without_linkage

SYNTAX = Syntax(
    comments=("//",),
    separator=";",
    register=re.compile(r"%[a-zA-Z_]+\d+"),
    family=lambda register: (register, register.rstrip("0123456789")),
    same={"bra.uni": "bra"},
    fillers=NEVER,
    returns=re.compile(r"ret(?:\.uni)?$|exit$"),
    calls=re.compile(r"call(?:\.uni)?$"),
    jumps=re.compile(r"bra(?:\.uni)?$"),
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
    plain_fillers=frozenset(),
    open_place="",
    one_encoding=str,
    long_jump=NEVER,
)
