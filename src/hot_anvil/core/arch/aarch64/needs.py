"""What a processor must have to execute an AArch64 instruction.

Features go by the names that Linux gives them in /proc/cpuinfo (Documentation/arch/arm64/
elf_hwcaps.rst). Source: Arm Architecture Reference Manual for A-profile, DDI 0487, the FEAT_ name
of each instruction. What no rule here names needs nothing that is known of.
"""

import re

from hot_anvil.core.arch.records import Needs
from hot_anvil.core.code.records import Instruction

_LEVELS: dict[str, frozenset[str]] = {
    "armv8.1-a": frozenset({"atomics", "asimdrdm", "crc32"}),
    "armv8.2-a": frozenset({"dcpop"}),
    "armv8.3-a": frozenset({"fcma", "jscvt", "lrcpc"}),
    "armv8.4-a": frozenset({"asimddp", "flagm", "ilrcpc"}),
    "armv8.5-a": frozenset({"sb", "frint", "flagm2"}),
}
_ASKS = re.compile(r"\bmrs\b.*\bid_aa64|__aarch64_have_lse_atomics|\bgetauxval\b|__aarch64_cpu")

_RULES = tuple(
    (name, re.compile(pattern))
    for name, pattern in (
        ("atomics", r"(?:ld|st)(?:add|clr|eor|set|[su]max|[su]min)a?l?[bh]?|cas(?:p|a?l?)[bh]?"
                    r"|casp?a?l?[bh]?|swpa?l?[bh]?"),
        ("crc32", r"crc32c?[bhwx]"),
        ("asimddp", r"[su]dot"),
        ("asimdrdm", r"sqrdml[as]h"),
        ("aes", r"aes(?:e|d|mc|imc)"),
        ("sha2", r"sha256\w+"),
        ("jscvt", r"fjcvtzs"),
        ("fcma", r"fcmla|fcadd"),
        ("i8mm", r"[su]mmla|usmmla|usdot|sudot"),
        ("bf16", r"bf(?:dot|mmla|cvtn?2?|mlal[bt])"),
    )
)  # fmt: skip
_SVE = re.compile(r"\b[zp]\d+\b")


def _needs(instruction: Instruction) -> frozenset[str]:
    """Return the features that a processor lacks at its peril, of those that are known here."""
    if _SVE.search(" ".join(instruction.operands)):
        return frozenset({"sve"})
    return frozenset(n for n, pattern in _RULES if pattern.fullmatch(instruction.mnemonic))


NEEDS = Needs(_needs, _ASKS, _LEVELS)
