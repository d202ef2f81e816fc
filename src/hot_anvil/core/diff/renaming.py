"""Prove that two functions differ in the names of registers and labels only.

Registers are compared value by value (see ``core.model.webs``). A renaming holds if values
correspond one to one, and those that callers set or read are in the same registers. Labels
correspond one to one over the function.
"""

from collections.abc import Sequence

from hot_anvil.core.arch.spelling import shape, split_names
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.webs import agreed, webs_of

_LIMIT = 4000  # instructions of a function up to which webs are worked out


def consistent(left: Body, right: Body, pairs: Sequence[tuple[int, int]]) -> list[bool]:
    """Return for each pair of places whether one renaming of the function covers it.

    The instructions of each pair have one shape. Where names contradict each
    other, the correspondence that more of the pairs share holds.
    """
    names = [
        (shape(left.texts[i], left.isa)[1], shape(right.texts[j], right.isa)[1]) for i, j in pairs
    ]
    if _one_to_one([two for a, c in names for two in zip(a, c, strict=True)]) and _own_choice(
        left, right, pairs
    ):
        return [True] * len(pairs)
    if max(len(left.items), len(right.items)) > _LIMIT:
        return [a == c for a, c in names]
    first, second = webs_of(left), webs_of(right)
    used = [list(zip(first.names(i), second.names(j), strict=True)) for i, j in pairs]
    kept = agreed([two for row in used for two in row], first, second)
    return [all(kept.get(a) == c for a, c in row) for row in used]


def _one_to_one(names: Sequence[tuple[str, str]]) -> bool:
    forth: dict[str, str] = {}
    back: dict[str, str] = {}
    return all(forth.setdefault(a, c) == c and back.setdefault(c, a) == a for a, c in names)


def _own_choice(left: Body, right: Body, pairs: Sequence[tuple[int, int]]) -> bool:
    """Tell whether all registers renamed are such that a function may choose them as it likes."""
    abi = left.arch.abi
    fixed = abi.parameters | abi.results
    for i, j in pairs:
        mine, theirs = (split_names(s.texts[k], s.isa)[2] for s, k in ((left, i), (right, j)))
        if any(a != c and (a in fixed or c in fixed) for a, c in zip(mine, theirs, strict=True)):
            return False
    return True
