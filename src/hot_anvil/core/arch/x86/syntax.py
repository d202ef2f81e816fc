"""x86-64 and i386 in AT&T syntax, as gcc and clang write them."""

import re
from functools import lru_cache

from hot_anvil.core.arch.records import Isa

_PREFIXES = frozenset(
    "rep repe repz repne repnz lock notrack data16 data32 addr32 bnd rex64 rex.w xacquire "
    "xrelease cs ds es fs gs ss".split()
)
_LETTERED = {"a": "ax", "b": "bx", "c": "cx", "d": "dx"}
_SAME = {
    "callq": "call",
    "jmpq": "jmp",
    "retq": "ret",
    "leaveq": "leave",
    "jnb": "jae",
    "jnc": "jae",
    "jc": "jb",
    "jnae": "jb",
    "jna": "jbe",
    "jnbe": "ja",
    "jz": "je",
    "jnz": "jne",
    "jnl": "jge",
    "jng": "jle",
    "jnge": "jl",
    "jnle": "jg",
    "cltq": "cdqe",
    "cltd": "cdq",
    "cqto": "cqo",
    "cwtl": "cwde",
    "movabs": "movabsq",
    "sall": "shll",
    "salq": "shlq",
    "salw": "shlw",
    "salb": "shlb",
}


@lru_cache(maxsize=4096)
def family_of(register: str) -> tuple[str, str]:
    """Return (family, view) of a register such as ``%eax``: ("ax", "e").

    The view tells how much of the register is meant; registers of one family
    overlap.
    """
    name = register.lstrip("%")
    vector = re.fullmatch(r"([xyz]mm)(\d+)", name)
    if vector:
        return f"v{vector[2]}", vector[1]
    numbered = re.fullmatch(r"r(\d+)([dwb]?)", name)
    if numbered:
        view = {"": "r", "d": "e", "w": "w", "b": "b"}[numbered[2]]
        return f"r{numbered[1]}", view
    lettered = re.fullmatch(r"([re]?)([abcd])x", name)
    if lettered:
        return _LETTERED[lettered[2]], lettered[1] or "w"
    half = re.fullmatch(r"([abcd])([lh])", name)
    if half:
        return _LETTERED[half[1]], "b" if half[2] == "l" else "h"
    pointed = re.fullmatch(r"([re]?)(si|di|bp|sp)(l?)", name)
    if pointed:
        return pointed[2], pointed[1] or ("b" if pointed[3] else "w")
    return name, ""


ISA = Isa(
    name="x86",
    comments=("#",),
    separator=";",
    register=re.compile(r"%[a-z][a-z0-9]*"),
    family=family_of,
    same=_SAME,
    prefixes=_PREFIXES,
    fillers=re.compile(
        r"(?:(?:data16|cs|rex\.W) )*(?:nop[wlq]?\b.*|xchg %ax,%ax|xchg %eax,%eax|data16|int3"
        r"|lea 0x0\((%\w+)(?:,%[er]iz,1)?\),\1)$"
    ),
    setup=re.compile(
        r"endbr(?:64|32)$|push[lqw]? |movq? %rsp,%rbp$|movl? %esp,%ebp$|subq? \$\w+,%rsp$"
        r"|subl? \$\w+,%esp$|enter"
    ),
    teardown=re.compile(
        r"pop[lqw]? |leave[lq]?$|addq? \$\w+,%rsp$|addl? \$\w+,%esp$|leaq? .*%rsp$"
        r"|(?:rep |bnd )?ret[lq]?\b|vzeroupper$"
    ),
    returns=re.compile(r"(?:rep |bnd |repz )?ret[lq]?$"),
    calls=re.compile(r"(?:notrack |bnd )?call[lqw]?$"),
    jumps=re.compile(r"(?:notrack |bnd )?jmp[lq]?$"),
)
