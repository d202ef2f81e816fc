"""Tell a mere change of order from one that changes what is computed."""

from collections.abc import Iterable, Mapping, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.diff.records import Pair
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.matching import one_to_one
from hot_anvil.core.model.registers import read_and_written

_LIMIT = 200  # instructions of a line up to which all pairs are looked at
_READS_FLAGS = frozenset((b.BRANCH, b.SET, b.SELECT))


def blocks_of(left: Body, right: Body, found: Iterable[tuple[int, int]]) -> dict[int, int]:
    """Return block of the left side -> the one of the right that most of it stands for."""
    return one_to_one((left.block_of[i], right.block_of[j]) for i, j in found if i >= 0 and j >= 0)


def only_reordered(
    left: Body, right: Body, pairs: Sequence[Pair], blocks: Mapping[int, int]
) -> bool:
    """Tell whether both sides hold the same instructions, none before one it depends on.

    Only what stands in one straight run of code on a side must keep its
    order where one writes what the other uses; ``blocks`` (left -> right, see ``blocks_of``) may
    stand anywhere, but each instruction in its own.
    """
    a = [pair.place[0] for pair in pairs if pair.place[0] >= 0]
    c = [pair.place[1] for pair in pairs if pair.place[1] >= 0]
    if len(a) != len(c) or sorted(left.texts[i] for i in a) != sorted(right.texts[j] for j in c):
        return False
    if len(a) > _LIMIT:
        return False  # not looked at, so not known
    places: dict[str, list[int]] = {}
    for j in sorted(c, reverse=True):
        places.setdefault(right.texts[j], []).append(j)
    goal = {i: places[left.texts[i]].pop() for i in sorted(a)}  # equal ones keep their order
    if not _in_their_blocks(left, right, goal, blocks):
        return False
    order = sorted(goal)
    for k, first in enumerate(order):
        for second in order[k + 1 :]:
            if goal[first] > goal[second] and _depend(left, right, first, second, goal):
                return False
    return True


def _in_their_blocks(
    left: Body, right: Body, goal: Mapping[int, int], blocks: Mapping[int, int]
) -> bool:
    return all(
        blocks.get(left.block_of[i], -1) == right.block_of[j] or left.block_of[i] not in blocks
        for i, j in goal.items()
    )


def _depend(left: Body, right: Body, first: int, second: int, goal: dict[int, int]) -> bool:
    one_run = left.block_of[first] == left.block_of[second]
    if not one_run and right.block_of[goal[first]] != right.block_of[goal[second]]:
        return False
    reads, writes = _registers(left, first)
    more_reads, more_writes = _registers(left, second)
    if writes & (more_reads | more_writes) or reads & more_writes:
        return True
    one, other = left.effects[first], left.effects[second]
    barrier = (b.CALL, b.ATOMIC, b.FENCE)
    if one.kind in barrier and other.kind in barrier:
        return True
    flags = {one.kind == b.COMPARE, other.kind == b.COMPARE}
    return flags == {True, False} and bool({one.kind, other.kind} & _READS_FLAGS)


def _registers(body: Body, place: int) -> tuple[frozenset[str], frozenset[str]]:
    """Return the register families that an instruction reads and writes."""
    item = body.items[place]
    return read_and_written(item.mnemonic, item.operands, body.isa)
