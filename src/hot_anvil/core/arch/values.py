"""What instruction sets have in common in the values that instructions leave."""

from collections.abc import Callable, Mapping, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.semantics import Effect

Operands = tuple[str, ...]


def constants(
    effect: Callable[[str, Operands], Effect], zeros: Sequence[str] = ()
) -> Callable[[str, Operands, int], int | None]:
    """Return what tells the value that an instruction sets a register to, None if it does not.

    ``zeros`` are the names of registers that always hold 0.
    """

    def value(mnemonic: str, operands: Operands, before: int) -> int | None:
        known = effect(mnemonic, operands).immediate
        if known is not None:
            return known
        text = operands[-1] if operands else ""
        return 0 if text in zeros else b.number(text)

    return value


def computed(kind: str, mnemonic: str, own: int, by: int) -> int | None:
    """Return what an operation makes of a value and a constant, None where that is not known."""
    if kind == b.ADD:
        return own + by
    if kind == b.SUB:
        return own - by
    if kind == b.SHIFT and 0 <= by < 64:
        return own << by if "l" in mnemonic[1:3] else own >> by
    if kind == b.LOGIC:
        if mnemonic.startswith("or"):
            return own | by
        return own & by if "and" in mnemonic else own ^ by
    return None


def plain_bytes(mnemonic: str, done: Effect) -> int:
    """Return how many bytes an instruction loads or stores, by what it works in."""
    return (done.width if done.packed else done.bits) // 8


def no_scale(operands: Operands) -> int:
    """Say that no memory operand multiplies its index."""
    return 1


def no_writeback(operands: Operands, done: Effect) -> tuple[int, int]:
    """Say that no access moves its base register."""
    return 0, 0


def nothing_hard(mnemonic: str, operands: Operands) -> tuple[str, ...]:
    """Say that no register is written unnamed."""
    return ()


def joined(parts: Mapping[str, object], families: Sequence[str]) -> int | None:
    """Return the value that registers of a byte each hold, the lowest first; None if not known."""
    value = 0
    for place, family in enumerate(families):
        part = parts.get(family, 0)
        if not isinstance(part, int):
            return None
        value |= (part & 0xFF) << 8 * place
    return value
