"""Which instructions a set of flags asks for, and the oldest processors that will do."""

import re
from collections.abc import Iterator, Sequence

from hot_anvil.core.flags.case import Case, Flags, is_cpu
from hot_anvil.core.flags.pools import Pool
from hot_anvil.core.flags.records import TARGET, Change, with_changes
from hot_anvil.core.flags.reducing import Set, reduce_set
from hot_anvil.core.flags.told import ON, changes

_MACRO = re.compile(r"__([A-Z][A-Z0-9_]*[A-Z0-9])__")


def on_oldest_level(case: Case, pool: Pool) -> Set:
    """Return a pool with just the instructions of the oldest standard level that will do."""
    targets = [c for c in pool.free if c.kind == TARGET or is_cpu(c)]
    if not targets or not case.levels:
        return pool.free
    rest = tuple(c for c in pool.free if c not in targets)
    base = with_changes(case.left, pool.fixed)
    own = [_of_level(case, base, level.flag) for level in case.levels]

    def enough(chosen: Set) -> bool:
        return case.same((*pool.fixed, *rest, *chosen))

    names = {change.name for change in targets}
    within = [level for level in own if level and {change.name for change in level} <= names]
    if within and not enough(within[-1]):
        levels: Sequence[int] = ()  # nor will what is less than that
    elif enough(()):
        return rest
    else:
        levels = range(len(own))
    for number in levels:
        flag = case.levels[number].flag
        parts = own[number]
        if _refused(case, (*pool.fixed, *rest, *parts)) or not any(own):
            parts = (Change(TARGET, (flag,)),)  # the level as a whole
        if parts and enough(parts):
            below = case.levels[number - 1].flag if number else ""
            finer = _finer(case, base, parts, below, flag)
            return (*rest, *next(filter(enough, finer), parts))
    known = {change.name for level in own for change in level}
    leveled = tuple(c for c in targets if c.name in known)
    beyond = reduce_set(
        [c for c in targets if c.name not in known], lambda chosen: enough((*leveled, *chosen))
    )
    return (*rest, *beyond, *_not_brought(case, with_changes(base, beyond), leveled))


def _refused(case: Case, chosen: Set) -> bool:
    return case.question.same(with_changes(case.left, chosen)) is None


def _not_brought(case: Case, flags: Flags, changes_made: Set) -> Set:
    """Return the changes that flags do not make already: -mavx512vl brings -mavx2."""
    brought = case.question.told(flags)
    return tuple(c for c in changes_made if not all(brought.get(flag) == ON for flag in c.add))


def _of_level(case: Case, base: Flags, flag: str) -> Set:
    """Return the instructions that a level's flag is told to stand for."""
    told = changes(case.question.told(base), case.question.told((*base, flag)))
    return tuple(change for change in told if change.kind == TARGET)


def _finer(case: Case, base: Flags, whole: Set, below: str, flag: str) -> Iterator[Set]:
    """Give finer sets that may do in place of a level's.

    The newest instructions first: they bring many of the older ones, which need not be named.
    """
    of_flag = _of_level(case, base, flag) or tuple(_by_macros(case, base, flag))
    older = (_of_level(case, base, below) or tuple(_by_macros(case, base, below))) if below else ()
    newer = tuple(change for change in of_flag if change not in older)
    others = _not_brought(case, with_changes(base, newer), of_flag)
    for finer in (newer, (*newer, *others), of_flag):
        if finer and finer != whole:
            yield finer


def _by_macros(case: Case, base: Flags, flag: str) -> Iterator[Change]:
    """Give the flags named as the macros that a level sets, where each sets its own: -mavx2."""
    before = case.question.macros(base)
    for macro in sorted(case.question.macros((*base, flag)) - before):
        found = _MACRO.fullmatch(macro)
        name = found[1].lower().replace("_", ".") if found else ""
        if name and macro in case.question.macros((*base, f"-m{name}")):
            yield Change(TARGET, (f"-m{name}",), (f"-mno-{name}",))


def level_needed(case: Case, asking: Set) -> tuple[str, tuple[str, ...]]:
    """Return the oldest level whose processors have all that is asked for, and what none has."""
    if not asking or not case.levels:
        return "", ()
    macros = case.question.macros
    before = macros(case.left)
    of_level = [(level.name, macros((*case.left, level.flag))) for level in case.levels]
    wanted = macros(with_changes(case.left, asking)) - before
    oldest = next((name for name, has in of_level if wanted <= has), "")
    beyond = tuple(
        change.name
        for change in asking
        if not any(macros(with_changes(case.left, [change])) - before <= has for _, has in of_level)
    )
    return oldest, beyond
