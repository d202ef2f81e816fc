"""Search for the flags that make the right build's code of the left build's.

First what two builds' flags stand for is taken apart, as far as the compiler tells; then the set is
reduced. Whether a set makes the code is asked of a ``Question``, which compiles.
"""

import re
from typing import NamedTuple

from hot_anvil.core.flags.case import Case, is_cpu, is_untold
from hot_anvil.core.flags.pools import Pool, pools
from hot_anvil.core.flags.processors import level_needed, on_oldest_level
from hot_anvil.core.flags.records import GIVEN, LEVEL, TARGET, TUNING, Change, with_changes
from hot_anvil.core.flags.reducing import Set, reduce_set, without_needless
from hot_anvil.core.flags.words import level_of, parted

_REFUSALS = 12  # times that a pool is tried without what the compiler refuses


class FlagsFound(NamedTuple):
    """What a search gave."""

    chosen: Set | None  # None where nothing told of makes the code
    pool: int  # differences that were tried
    unexplained: str = ""
    refused: tuple[str, ...] = ()  # flags told that the compiler does not take
    checked: int = 0  # single removals of the set, each of which makes other code
    level: str = ""  # oldest standard level that has all it asks for
    beyond: tuple[str, ...] = ()  # flags that no standard level has
    made_for: tuple[str, ...] = ()  # flags of the set that name a processor
    asks_for_more: bool = False  # it asks for instructions that the left build does not


def search(case: Case) -> FlagsFound:
    """Return a set of changes that makes the code, no one of which can be left out."""
    pool, refused = _enough(case)
    if pool is None:
        return FlagsFound(None, 0, "", refused)
    free = on_oldest_level(case, pool)
    targets = sorted((c for c in free if _is_of_target(c)), key=lambda c: c.kind == TUNING)
    others = tuple(c for c in free if c not in targets)
    others = reduce_set(others, case.same, (*pool.fixed, *targets))
    asked = reduce_set(targets, case.same, (*pool.fixed, *others))
    chosen = without_needless((*pool.fixed, *others, *asked), case.same)
    asking = tuple(c for c in chosen if c.kind == TARGET or is_cpu(c))
    made_for = tuple(c.name for c in chosen if c.kind == GIVEN and is_cpu(c))
    level, beyond = ("", ()) if made_for else level_needed(case, asking)
    number = len(pool.fixed) + len(pool.free)
    return FlagsFound(
        chosen, number, _unexplained(case, chosen), refused, len(chosen), level, beyond, made_for,
        bool(asking),
    )  # fmt: skip


def _unexplained(case: Case, chosen: Set) -> str:
    """Return which flags do more than what they are told to stand for, "" for none."""
    there = level_of(parted(case.right, case.style))
    whole = [
        change.name
        for change in chosen
        if (
            change.kind == LEVEL and change.add == there and level_of(parted(case.left, case.style))
        )
        or (change.kind == GIVEN and change.add and not is_untold(case, change))
    ]
    if not whole or not case.tells:
        return ""
    verb = "does" if len(whole) == 1 else "do"
    return f"{' and '.join(whole)} {verb} more than what is told to stand for it"


def _is_of_target(change: Change) -> bool:
    return change.kind in (TARGET, TUNING) or is_cpu(change)


def _enough(case: Case) -> tuple[Pool | None, tuple[str, ...]]:
    """Return the first pool that makes the code, with the flags refused on the way."""
    refused: dict[str, None] = {}
    for pool in pools(case):
        for _ in range(_REFUSALS):
            flags = with_changes(case.left, (*pool.fixed, *pool.free))
            same = case.question.same(flags)
            if same:
                return pool, tuple(refused)
            blamed = _blamed(case.question.complaint(flags), pool.free) if same is None else []
            if not blamed:
                break
            refused |= dict.fromkeys(change.name for change in blamed)
            pool = pool._replace(free=tuple(c for c in pool.free if c not in blamed))
    return None, tuple(refused)


def _blamed(complaint: str, free: Set) -> list[Change]:
    """Return the changes whose flags a compiler's complaint names."""
    words = set(re.findall(r"-[\w.=+:-]+", complaint))
    return [c for c in free if any(flag in words or flag.split("=")[0] in words for flag in c.add)]
