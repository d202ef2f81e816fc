"""Align two runs of instructions and say of each pair how it differs."""

from collections.abc import Sequence
from difflib import SequenceMatcher
from typing import NamedTuple

from hot_anvil.core.code import Instruction
from hot_anvil.core.isa.spelling import canonical, shape

SAME, RENAMED, REORDERED, CHANGED = "same", "renamed", "reordered", "changed"
GONE, NEW = "gone", "new"


class Pair(NamedTuple):
    """Two instructions that correspond, or one that has no counterpart."""

    left: Instruction | None
    right: Instruction | None
    state: str  # SAME, RENAMED, CHANGED, GONE or NEW


def align(left: Sequence[Instruction], right: Sequence[Instruction], isa: str) -> tuple[Pair, ...]:
    """Pair the instructions of two runs, keeping the order of both.

    Instructions of one shape are paired first; of what lies between, those
    with the same mnemonic are paired as CHANGED, the rest stands alone.
    """
    a = [canonical(i.mnemonic, i.operands, isa) for i in left]
    b = [canonical(i.mnemonic, i.operands, isa) for i in right]
    if a == b:
        return tuple(Pair(x, y, SAME) for x, y in zip(left, right, strict=True))
    shapes = SequenceMatcher(
        None, [shape(t, isa)[0] for t in a], [shape(t, isa)[0] for t in b], False
    )
    pairs: list[Pair] = []
    for kind, i, i_end, j, j_end in shapes.get_opcodes():
        if kind == "equal":
            pairs += [
                Pair(left[i + k], right[j + k], SAME if a[i + k] == b[j + k] else RENAMED)
                for k in range(i_end - i)
            ]
        else:
            pairs += _by_mnemonic(left[i:i_end], right[j:j_end])
    return tuple(pairs)


def _by_mnemonic(left: Sequence[Instruction], right: Sequence[Instruction]) -> list[Pair]:
    pairs: list[Pair] = []
    matcher = SequenceMatcher(None, [i.mnemonic for i in left], [i.mnemonic for i in right], False)
    for kind, i, i_end, j, j_end in matcher.get_opcodes():
        if kind == "equal":
            both = zip(left[i:i_end], right[j:j_end], strict=True)
            pairs += [Pair(x, y, CHANGED) for x, y in both]
        else:
            pairs += [Pair(x, None, GONE) for x in left[i:i_end]]
            pairs += [Pair(None, y, NEW) for y in right[j:j_end]]
    return pairs


def state_of(pairs: Sequence[Pair], isa: str) -> str:
    """Return the state of a line from its pairs.

    RENAMED needs one renaming of registers and labels, the same in both
    directions, that turns the left side into the right; REORDERED the same
    instructions in another order.
    """
    if not any(pair.left for pair in pairs):
        return NEW
    if not any(pair.right for pair in pairs):
        return GONE
    states = {pair.state for pair in pairs}
    if states == {SAME}:
        return SAME
    if states <= {SAME, RENAMED} and _consistent(pairs, isa):
        return RENAMED
    left = sorted(_text(pair.left, isa) for pair in pairs if pair.left)
    right = sorted(_text(pair.right, isa) for pair in pairs if pair.right)
    return REORDERED if left == right else CHANGED


def _text(instruction: Instruction, isa: str) -> str:
    return canonical(instruction.mnemonic, instruction.operands, isa)


def _consistent(pairs: Sequence[Pair], isa: str) -> bool:
    forth: dict[str, str] = {}
    back: dict[str, str] = {}
    for pair in pairs:
        if pair.left and pair.right:
            names = zip(_names(pair.left, isa), _names(pair.right, isa), strict=True)
            for a, b in names:
                if forth.setdefault(a, b) != b or back.setdefault(b, a) != a:
                    return False
    return True


def _names(instruction: Instruction, isa: str) -> tuple[str, ...]:
    return shape(_text(instruction, isa), isa)[1]
