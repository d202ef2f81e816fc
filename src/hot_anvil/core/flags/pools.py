"""What may make up the difference between two builds' flags, the finest taken apart first."""

from collections.abc import Iterator
from typing import NamedTuple

from hot_anvil.core.flags.case import Case, Flags, is_untold
from hot_anvil.core.flags.records import GIVEN, LEVEL, Change, with_changes
from hot_anvil.core.flags.reducing import Set
from hot_anvil.core.flags.told import changes
from hot_anvil.core.flags.words import Flag, is_level, level_of, parted

# Levels from the least on, by the style of the compiler; what another level stands for is found
# from the one before it.
_LADDERS = {
    "cc": ("-O0", "-O1", "-O2", "-O3"),
    "rustc": ("-Copt-level=0", "-Copt-level=1", "-Copt-level=2", "-Copt-level=3"),
}
_LIKE = {"-O": "-O1", "-Ofast": "-O3", "-O4": "-O3"}
_SMALL = dict.fromkeys(("-Os", "-Oz", "-Og"), "-O1")  # where one of these is what is started from


class Pool(NamedTuple):
    """Changes that together may make the right build's code of the left build."""

    fixed: Set  # that stay: the level to start from
    free: Set  # to be reduced


def pools(case: Case) -> Iterator[Pool]:
    """Give what may make up the whole difference, the finest taken apart first."""
    given = tuple(_given(case))
    yield Pool((), (*_told(case, case.left), *(c for c in given if is_untold(case, c))))
    here, there = level_of(parted(case.left, case.style)), level_of(parted(case.right, case.style))
    for level in _levels_between(case, here, there):
        change = Change(LEVEL, level, here or (), here or (), there or ())
        free = (*_told(case, with_changes(case.left, [change])), *given)
        free = tuple(c for c in free if c.kind != LEVEL)
        last = level == there
        told = [c for c in free if is_untold(case, c) or c.kind != GIVEN]
        yield Pool((change,), tuple(told))
        if last:
            yield Pool((change,), free)
    yield Pool((), given)


def _told(case: Case, flags: Flags) -> tuple[Change, ...]:
    if not case.tells:
        return ()
    return tuple(changes(case.question.told(flags), case.question.told(case.right)))


def _given(case: Case) -> Iterator[Change]:
    """Give the flags that only one build has, as they were given, the level last."""
    mine, theirs = parted(case.left, case.style), parted(case.right, case.style)
    here, there = level_of(mine), level_of(theirs)
    for flag in theirs:
        if flag not in mine and not is_level(flag):
            yield Change(GIVEN, flag, (), (), flag)
    for flag in mine:
        if flag not in theirs and not is_level(flag):
            yield Change(GIVEN, (), flag, flag, ())
    if here != there and there:
        yield Change(LEVEL, there, here or (), here or (), there)
    elif here != there:
        yield Change(LEVEL, (), here or (), here or (), ())


def _levels_between(case: Case, here: Flag | None, there: Flag | None) -> list[Flag]:
    """Return the levels above the left build's up to the right build's, the right one's last."""
    if there is None or here == there:
        return []
    ladder = _LADDERS.get(case.style, ())
    if not ladder:
        return [there]
    first = (_LIKE | _SMALL).get(here[0], here[0]) if here else ladder[0]
    last = _LIKE.get(there[0], there[0])
    between: list[Flag] = []
    if first in ladder and last in ladder:
        between += [(level,) for level in ladder[ladder.index(first) + 1 : ladder.index(last)]]
        between.reverse()
        if there[0] != last and first != last:
            between.insert(0, (last,))
    return [*between, there]
