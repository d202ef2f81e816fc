"""The smallest set of changes that still makes what all of them make.

QuickXplain (Junker, "QuickXplain: Preferred Explanations and Relaxations for Over-Constrained
Problems", AAAI 2004) where fewer changes never do what more do not; what it finds is proved by
trying each removal, and where that fails the set is reduced one by one.
"""

from collections.abc import Callable, Sequence

from hot_anvil.core.flags.records import Change

Set = tuple[Change, ...]
Enough = Callable[[Set], bool]


def reduce_set(pool: Sequence[Change], enough: Enough, fixed: Sequence[Change] = ()) -> Set:
    """Return a smallest part of ``pool`` that is enough together with ``fixed``.

    ``pool`` as a whole is enough. What stands first in it is kept rather than what stands last. No
    single one of the result can be left out; another part of the pool may do as well.
    """
    found = _explained(tuple(fixed), (), tuple(pool), enough)
    if not enough((*fixed, *found)):
        found = tuple(pool)  # one of those left out is needed only beside others: one by one
    return without_needless(found, enough, fixed)


def without_needless(found: Set, enough: Enough, fixed: Sequence[Change] = ()) -> Set:
    """Return a set without what it can do without, one after the other, from the last on.

    What was needed beside others may not be without them: it goes on until each is needed.
    """
    for change in reversed(found):
        rest = tuple(other for other in found if other != change)
        if enough((*fixed, *rest)):
            return without_needless(rest, enough, fixed)
    return found


def _explained(background: Set, added: Set, pool: Set, enough: Enough) -> Set:
    if added and enough(background):
        return ()
    if len(pool) <= 1:
        return pool if pool and (added or not enough(background)) else ()
    half = len(pool) // 2
    first, second = pool[:half], pool[half:]
    late = _explained((*background, *first), first, second, enough)
    early = _explained((*background, *late), late, first, enough)
    return (*early, *late)
