"""Instructions with what the references say of them."""

from typing import NamedTuple

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.reference import Dictionary, Found


class Told(NamedTuple):
    """What one instruction set says of a mnemonic."""

    mnemonic: str
    dictionary: Dictionary
    found: Found


class Used(NamedTuple):
    """One instruction that a build uses."""

    dictionary: Dictionary
    mnemonic: str
    times: int
    found: Found | None  # None: the reference does not know it


_ROLES = {b.USE: "read", b.DEFINE: "written", b.BOTH: "read and written"}


def operand_words(word: str, own: Dictionary, found: Found) -> str:
    """Return how many operands there are, in which order, and what happens to each."""
    operands = found.entry.example
    if not operands:
        return "none written"
    try:
        parts = own.arch.semantics.roles(word, operands)
    except (IndexError, KeyError, ValueError):
        parts = ()
    known = [f"{o} {_ROLES[role]}" for o, role in zip(operands, parts, strict=False)]
    if own.arch.semantics.effect(word, operands).kind in (b.BRANCH, b.JUMP, b.CALL):
        return "where to go" if len(operands) == 1 else "what is compared, and where to go"
    order = f"{own.reference.direction}. " if len(operands) > 1 else ""
    return f"{order}Here: {', '.join(known)}" if known else order.rstrip()
