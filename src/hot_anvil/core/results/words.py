"""Instructions with what the references say of them."""

from typing import NamedTuple

from hot_anvil.core.arch import costs_of
from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.reference import Dictionary, Found


class Told(NamedTuple):
    """What one instruction set says of a mnemonic, or of a whole instruction."""

    mnemonic: str
    dictionary: Dictionary
    found: Found
    given: tuple[str, ...] = ()  # the operands that it was asked for with

    @property
    def operands(self) -> tuple[str, ...]:
        """The operands that it was asked for with, else those of an example."""
        fitted = self.dictionary.arch.wording.fitted
        found = self.found
        return self.given or fitted(found.mnemonic, found.suffix, found.entry.example)

    @property
    def text(self) -> str:
        """The instruction with its operands."""
        return f"{self.mnemonic} {', '.join(self.operands)}".strip()

    @property
    def reading(self) -> str:
        """What the instruction does with its operands, "" where that is not known."""
        return self.dictionary.read(self.mnemonic, self.operands)


def cost_words(told: Told) -> str:
    """Return the cycles of an instruction and on which chips, "" where they are not fixed."""
    costs = costs_of(told.dictionary.reference.isa)
    cost = costs.cost(told.mnemonic, told.operands, -1) if costs else None
    return f"{cost.words} ({costs.of})" if costs and cost else ""


class Used(NamedTuple):
    """One instruction that a build uses."""

    dictionary: Dictionary
    mnemonic: str
    times: int
    found: Found | None  # None: the reference does not know it


_ROLES = {b.USE: "read", b.DEFINE: "written", b.BOTH: "read and written"}


def operand_words(told: Told) -> str:
    """Return how many operands there are, in which order, and what happens to each."""
    own, operands = told.dictionary, told.operands
    if not operands:
        return "none written"
    semantics = own.arch.semantics
    done = semantics.effect(told.mnemonic, operands)
    if done.kind in (b.BRANCH, b.JUMP, b.CALL):
        return "where to go" if len(operands) == 1 else "what is compared, and where to go"
    try:
        roles = semantics.roles(told.mnemonic, operands)
    except (IndexError, KeyError, ValueError):
        roles = ()
    known = [
        f"{operand} {_happens(own, operand, role, done)}"
        for operand, role in zip(operands, roles, strict=False)
    ]
    order = f"{own.reference.direction}. " if len(operands) > 1 else ""
    return f"{order}Here: {', '.join(known)}" if known else order.rstrip()


def _happens(own: Dictionary, operand: str, role: b.Role, done: b.Effect) -> str:
    """Return what happens to an operand: a register, memory, or neither."""
    if own.arch.wording.operand(operand).startswith("["):
        moved = ", its register moved" if role == b.BOTH else ""
        if done.kind == b.ADDRESS:
            return "only its address taken"
        if not done.loads and not done.stores:
            return f"accessed{moved}"
        return (
            _ROLES[b.BOTH if done.loads and done.stores else b.USE if done.loads else b.DEFINE]
            + moved
        )
    if not own.arch.syntax.register.search(operand):
        return "given"
    return _ROLES[role]
