"""Which branches decide whether an instruction of a function is executed.

A block depends on a branch where one of the branch's ways always comes to it, and the branch itself
need not (Ferrante, Ottenstein, Warren 1987).
"""

from collections.abc import Mapping, Sequence

from hot_anvil.core.model.control_flow import Body

_END = -1
_MOST_BLOCKS = 2000  # of a function that is looked at


def deciders(body: Body) -> Mapping[int, frozenset[int]]:
    """Return for each block those that end with a branch which decides over it."""
    after = body.next_blocks
    if len(after) > _MOST_BLOCKS:
        return {}
    above = _postdominators(after)
    out: dict[int, set[int]] = {}
    for block, goals in enumerate(after):
        if len(set(goals)) < 2:
            continue
        for goal in goals:
            for reached in above[goal]:
                if reached != _END and (reached == block or reached not in above[block]):
                    out.setdefault(reached, set()).add(block)
    return {block: frozenset(found) for block, found in out.items()}


def _postdominators(after: Sequence[tuple[int, ...]]) -> list[frozenset[int]]:
    """Return for each block the blocks that every way from it comes to, itself too."""
    every = frozenset(range(len(after))) | {_END}
    found = [every] * len(after)
    changed = True
    while changed:
        changed = False
        for block in range(len(after) - 1, -1, -1):
            goals = [found[goal] for goal in after[block]] or [frozenset((_END,))]
            made = frozenset.intersection(*goals) | {block}
            if made != found[block]:
                found[block] = made
                changed = True
    return found
