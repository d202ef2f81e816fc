"""Align two runs of instructions: which of them correspond, at the least cost.

The cost knows what differs between two instructions: nothing, registers and
labels only, other operands, or another operation of the same kind. What has
no counterpart stands alone. The result for swapped sides is the mirror image.
"""

from collections.abc import Sequence
from difflib import SequenceMatcher
from typing import NamedTuple

from hot_anvil.core.arch import semantics_of
from hot_anvil.core.arch.spelling import shape
from hot_anvil.core.code.records import Instruction
from hot_anvil.core.diff.records import CHANGED, RENAMED, SAME, State

# Pairing two instructions of one kind costs less than leaving both alone.
_RENAMED, _ALONE, _OPERAND, _MNEMONIC, _KIND = 2, 6, 1, 5, 11
_LIMIT = 60_000  # cells that the exact method may fill; longer runs are cut at what they share


class Token(NamedTuple):
    """What the alignment compares of an instruction."""

    text: str
    shape: str
    mnemonic: str
    operands: tuple[str, ...]  # without names
    kind: str


def state_of_two(left: str, right: str, isa: str) -> State:
    """Return SAME, RENAMED or CHANGED for two canonical texts."""
    if left == right:
        return SAME
    return RENAMED if shape(left, isa)[0] == shape(right, isa)[0] else CHANGED


def align_texts(
    a: Sequence[str],
    b: Sequence[str],
    left: Sequence[Instruction],
    right: Sequence[Instruction],
    isa: str,
) -> list[tuple[int, int]]:
    """Return the pairs of places, -1 for none, in an order that keeps both sides' own.

    ``a`` and ``b`` are the canonical texts of ``left`` and ``right``.
    """
    if a == b or _same_shapes(a, b, isa):
        return [(k, k) for k in range(len(a))]
    if not a or not b:
        return [(i, -1) for i in range(len(a))] + [(-1, j) for j in range(len(b))]
    swapped = list(b) < list(a)  # one of the two orders, whichever side is which
    if swapped:
        a, b, left, right = b, a, right, left
    start = 0
    while start < min(len(a), len(b)) and a[start] == b[start]:
        start += 1
    end = 0
    while end < min(len(a), len(b)) - start and a[-1 - end] == b[-1 - end]:
        end += 1
    i_end, j_end = len(a) - end, len(b) - end
    middle = _between(
        _tokens(a[start:i_end], left[start:i_end], isa),
        _tokens(b[start:j_end], right[start:j_end], isa),
    )
    found = [(k, k) for k in range(start)]
    found += [(i + start if i >= 0 else -1, j + start if j >= 0 else -1) for i, j in middle]
    found += [(i_end + k, j_end + k) for k in range(end)]
    if swapped:
        found = [(j, i) for i, j in found]
    return _left_first(found)


def _same_shapes(a: Sequence[str], b: Sequence[str], isa: str) -> bool:
    """Tell whether one renaming of registers and labels makes the runs equal."""
    if len(a) != len(b):
        return False
    forth: dict[str, str] = {}
    back: dict[str, str] = {}
    for x, y in zip(a, b, strict=True):
        (first, names), (second, others) = shape(x, isa), shape(y, isa)
        if first != second:
            return False
        for p, q in zip(names, others, strict=True):
            if forth.setdefault(p, q) != q or back.setdefault(q, p) != p:
                return False
    return True


def _tokens(texts: Sequence[str], items: Sequence[Instruction], isa: str) -> list[Token]:
    out = []
    for text, item in zip(texts, items, strict=True):
        plain = shape(text, isa)[0]
        mnemonic, _, operands = plain.partition(" ")
        kind = semantics_of(isa).effect(item.mnemonic, item.operands).kind
        out.append(Token(text, plain, mnemonic, tuple(operands.split(",")), kind))
    return out


def _cost(a: Token, b: Token) -> int:
    if a.text == b.text:
        return 0
    if a.shape == b.shape:
        return _RENAMED
    if a.mnemonic == b.mnemonic:
        if len(a.operands) != len(b.operands):
            return _MNEMONIC + 3 * _OPERAND
        differ = sum(x != y for x, y in zip(a.operands, b.operands, strict=True))
        return _MNEMONIC + differ * _OPERAND
    return _KIND if a.kind == b.kind else 2 * _ALONE + 1


def _between(a: list[Token], b: list[Token]) -> list[tuple[int, int]]:
    """Align two runs; very long ones only between the pieces that they share."""
    if len(a) * len(b) <= _LIMIT:
        return _optimal(a, b)
    shapes = SequenceMatcher(None, [t.shape for t in a], [t.shape for t in b], False)
    found: list[tuple[int, int]] = []
    at = (0, 0)
    for block in shapes.get_matching_blocks():
        if block.size < 3 and block.size:
            continue  # too little to say that it is the same place
        i, j = block.a, block.b
        if (i - at[0]) * (j - at[1]) <= _LIMIT:
            inner = _optimal(a[at[0] : i], b[at[1] : j])
        else:
            inner = [(k, -1) for k in range(i - at[0])] + [(-1, k) for k in range(j - at[1])]
        found += [(x + at[0] if x >= 0 else -1, y + at[1] if y >= 0 else -1) for x, y in inner]
        found += [(i + k, j + k) for k in range(block.size)]
        at = (i + block.size, j + block.size)
    return found


def _optimal(a: list[Token], b: list[Token]) -> list[tuple[int, int]]:
    """Return the pairs of least total cost (Needleman and Wunsch 1970)."""
    width = len(b) + 1
    costs: dict[tuple[int, int], int] = {}
    number: dict[Token, int] = {}
    x = [number.setdefault(t, len(number)) for t in a]
    y = [number.setdefault(t, len(number)) for t in b]
    before = [j * _ALONE for j in range(width)]
    choices = []
    for i, left in enumerate(x):
        row = [before[0] + _ALONE] + [0] * len(b)
        chosen = bytearray(width)
        for j, right in enumerate(y):
            cost = costs.get((left, right))
            if cost is None:
                cost = costs[left, right] = _cost(a[i], b[j])
            best, choice = before[j] + cost, 0
            up, over = before[j + 1] + _ALONE, row[j] + _ALONE
            if up < best:
                best, choice = up, 1
            if over < best:
                best, choice = over, 2
            row[j + 1] = best
            chosen[j + 1] = choice
        choices.append(chosen)
        before = row
    found = []
    i, j = len(a), len(b)
    while i and j:
        choice = choices[i - 1][j]
        i, j = i - (choice != 2), j - (choice != 1)
        found.append((i if choice != 2 else -1, j if choice != 1 else -1))
    found += [(k, -1) for k in reversed(range(i))] + [(-1, k) for k in reversed(range(j))]
    return found[::-1]


def _left_first(found: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Return the pairs with what stands alone on the left before what does on the right."""
    out: list[tuple[int, int]] = []
    alone: list[tuple[int, int]] = []
    for pair in found:
        if pair[0] < 0:
            alone.append(pair)
        elif pair[1] < 0:
            out.append(pair)
        else:
            out += [*alone, pair]
            alone = []
    return out + alone
