"""x86-64 and i386 in AT&T syntax, as gcc and clang write them."""

import re

from hot_anvil.core.arch.records import NEVER, Disassembly, Syntax
from hot_anvil.core.arch.x86.intel import intel_text
from hot_anvil.core.arch.x86.registers import family_of
from hot_anvil.core.code.records import Instruction

_PREFIXES = frozenset(
    "rep repe repz repne repnz lock notrack data16 data32 addr32 bnd rex64 rex.w xacquire "
    "xrelease cs ds es fs gs ss".split()
)
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


def _intel(instruction: Instruction) -> Instruction:
    mnemonic, operands = intel_text(instruction)
    return instruction._replace(mnemonic=mnemonic, operands=(operands,) if operands else ())


SYNTAX = Syntax(
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
    returns=re.compile(r"(?:rep |bnd |repz )?ret[lq]?$"),
    calls=re.compile(r"(?:notrack |bnd )?call[lqw]?$"),
    jumps=re.compile(r"(?:notrack |bnd )?jmp[lq]?$"),
    tidy=lambda text: text.replace("@PLT", "").replace("(,%", "(0,%"),
    linkage=re.compile(r"@GOTPCREL\(%rip\)"),
    expands=NEVER,
    destination_last=True,
    meant=lambda mnemonic: (mnemonic, mnemonic[:-1]),
    others={"intel": _intel},
)

_ADDRESS = re.compile(r"-?(?:0x)?[0-9a-f]+\(%rip\)")
# Instructions with two encodings, between which an assembler and a compiler choose differently.
_SHIFT_BY_ONE = re.compile(r"^((?:sh[lr]|sa[lr]|ro[lr]|rc[lr])[bwlq]?) \$0x1,")


def _named(text: str, comment: str, name: str) -> str:
    return _ADDRESS.sub(f"{name}(%rip)", text)


def _one_encoding(text: str) -> str:
    if text.startswith("xchg"):  # the operands have no order
        return " ".join(sorted(re.split(r"[ ,]", text)))
    return _SHIFT_BY_ONE.sub(r"\1 ", text)


DISASSEMBLY = Disassembly(
    named=_named,
    relative=NEVER,
    plain_fillers=frozenset(("nop",)),
    open_place="(%rip)",
    one_encoding=_one_encoding,
    long_jump=NEVER,
)
