"""Which registers an instruction reads and writes."""

from functools import lru_cache

from hot_anvil.core.arch import architecture
from hot_anvil.core.arch.semantics import DEFINE, USE


@lru_cache(maxsize=1 << 17)
def read_and_written(
    mnemonic: str, operands: tuple[str, ...], isa: str
) -> tuple[frozenset[str], frozenset[str]]:
    """Return the register families that an instruction reads and writes."""
    arch = architecture(isa)
    syntax, semantics = arch.syntax, arch.semantics
    reads: set[str] = set()
    writes: set[str] = set(semantics.hard_writes(mnemonic, operands))
    for operand, role in zip(operands, semantics.roles(mnemonic, operands), strict=True):
        families = {syntax.family(name)[0] for name in syntax.register.findall(operand)}
        if role != DEFINE:
            reads |= families
        if role != USE:
            writes |= families
    return frozenset(reads), frozenset(writes)
