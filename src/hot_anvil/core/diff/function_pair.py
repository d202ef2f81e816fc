"""A function on both sides of a comparison."""

from typing import NamedTuple

from hot_anvil.core.arch.spelling import split_names
from hot_anvil.core.model.control_flow import Body


class FunctionPair(NamedTuple):
    """One function on both sides, None where a side has not got it."""

    name: str
    title: str
    left: Body | None
    right: Body | None


def is_identical(both: FunctionPair) -> bool:
    """Tell whether both sides have the same instructions, which go to the same places."""
    left, right = both.left, both.right
    if left is None or right is None or left.isa != right.isa:
        return False
    if left.texts == right.texts:
        return True
    if len(left.texts) != len(right.texts) or left.goals != right.goals:
        return False
    outside: dict[str, str] = {}  # labels of data: each must stand for one
    for k, (a, c) in enumerate(zip(left.texts, right.texts, strict=True)):
        if a == c:
            continue
        (shape, names, registers), (other, others, more) = (
            split_names(text, left.isa) for text in (a, c)
        )
        if (shape, registers) != (other, more):
            return False
        if left.goals[k] < 0 and any(
            outside.setdefault(p, q) != q for p, q in zip(names, others, strict=True)
        ):
            return False
    return not outside or _local(outside)


def _local(names: dict[str, str]) -> bool:
    """Tell whether labels are such as compilers number, of which the contents are compared."""
    return all(a.partition(".")[0] == c.partition(".")[0] for a, c in names.items())
