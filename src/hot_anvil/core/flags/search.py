"""Search for the flags that make the right build's code of the left build's.

First what two builds' flags stand for is taken apart, as far as the compiler tells; then the set is
reduced. Whether a set makes the code is asked of a ``Question``, which compiles.
"""

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple, Protocol

from hot_anvil.core.flags.records import GIVEN, LEVEL, TARGET, TUNING, Change, with_changes
from hot_anvil.core.flags.reducing import Set, reduce_set, without_needless
from hot_anvil.core.flags.told import ON, Told, changes
from hot_anvil.core.flags.words import Flag, is_level, level_of, parted

Flags = tuple[str, ...]
_REFUSALS = 12  # times that a pool is tried without what the compiler refuses
# Levels from the least on, by the style of the compiler; what another level stands for is found
# from the one before it.
_LADDERS = {
    "cc": ("-O0", "-O1", "-O2", "-O3"),
    "rustc": ("-Copt-level=0", "-Copt-level=1", "-Copt-level=2", "-Copt-level=3"),
}
_LIKE = {"-O": "-O1", "-Ofast": "-O3", "-O4": "-O3"}
_SMALL = dict.fromkeys(("-Os", "-Oz", "-Og"), "-O1")  # where one of these is what is started from
_CPU = re.compile(r"-m(?:arch|cpu|mcu)=|-Ctarget-cpu=")
_MACRO = re.compile(r"__([A-Z][A-Z0-9_]*[A-Z0-9])__")


class Level(NamedTuple):
    """A standard level of processors."""

    name: str
    flag: str  # that asks for it


class Question(Protocol):
    """What is asked about flags: of the compiler, and of the code that it makes."""

    def told(self, flags: Flags) -> Told:
        """Return option -> state under some flags, nothing where the compiler does not tell."""

    def macros(self, flags: Flags) -> frozenset[str]:
        """Return names for what the processor has under some flags."""

    def same(self, flags: Flags) -> bool | None:
        """Tell whether flags make the right build's code, None where they are refused."""

    def complaint(self, flags: Flags) -> str:
        """Return what the compiler says where it refuses flags."""


class Pool(NamedTuple):
    """Changes that together may make the right build's code of the left build."""

    fixed: Set  # that stay: the level to start from
    free: Set  # to be reduced


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


class Case(NamedTuple):
    """Two builds' flags, and whom to ask about them."""

    question: Question
    style: str
    left: Flags
    right: Flags
    levels: tuple[Level, ...]  # the oldest first

    def same(self, chosen: Sequence[Change]) -> bool:
        """Tell whether the left build with some changes makes the right build's code."""
        return self.question.same(with_changes(self.left, chosen)) is True

    @property
    def tells(self) -> bool:
        """Whether the compiler says what flags stand for."""
        return bool(self.question.told(()))


def search(case: Case) -> FlagsFound:
    """Return a set of changes that makes the code, no one of which can be left out."""
    pool, refused = _enough(case)
    if pool is None:
        return FlagsFound(None, 0, "", refused)
    free = _on_oldest_level(case, pool)
    targets = sorted((c for c in free if _is_of_target(c)), key=lambda c: c.kind == TUNING)
    others = tuple(c for c in free if c not in targets)
    others = reduce_set(others, case.same, (*pool.fixed, *targets))
    asked = reduce_set(targets, case.same, (*pool.fixed, *others))
    chosen = without_needless((*pool.fixed, *others, *asked), case.same)
    asking = tuple(c for c in chosen if c.kind == TARGET or _is_cpu(c))
    made_for = tuple(c.name for c in chosen if c.kind == GIVEN and _is_cpu(c))
    level, beyond = ("", ()) if made_for else _level_needed(case, asking)
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
        or (change.kind == GIVEN and change.add and not _is_untold(case, change))
    ]
    if not whole or not case.tells:
        return ""
    verb = "does" if len(whole) == 1 else "do"
    return f"{' and '.join(whole)} {verb} more than what is told to stand for it"


def _is_of_target(change: Change) -> bool:
    return change.kind in (TARGET, TUNING) or _is_cpu(change)


def _is_cpu(change: Change) -> bool:
    return any(_CPU.match(flag) for flag in (*change.add, *change.drop))


def _enough(case: Case) -> tuple[Pool | None, tuple[str, ...]]:
    """Return the first pool that makes the code, with the flags refused on the way."""
    refused: dict[str, None] = {}
    for pool in _pools(case):
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


def _pools(case: Case) -> Iterator[Pool]:
    """Give what may make up the whole difference, the finest taken apart first."""
    given = tuple(_given(case))
    yield Pool((), (*_told(case, case.left), *(c for c in given if _is_untold(case, c))))
    here, there = level_of(parted(case.left, case.style)), level_of(parted(case.right, case.style))
    for level in _levels_between(case, here, there):
        change = Change(LEVEL, level, here or (), here or (), there or ())
        free = (*_told(case, with_changes(case.left, [change])), *given)
        free = tuple(c for c in free if c.kind != LEVEL)
        last = level == there
        told = [c for c in free if _is_untold(case, c) or c.kind != GIVEN]
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


def _is_untold(case: Case, change: Change) -> bool:
    """Tell whether what a flag does is not among what the compiler tells of flags."""
    if change.kind == LEVEL:
        return False
    if not case.tells:
        return True
    told = case.question.told
    found = list(changes(told(case.left), told(with_changes(case.left, [change]))))
    return not (any(c.kind == TARGET for c in found) if _is_cpu(change) else found)


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


def _on_oldest_level(case: Case, pool: Pool) -> Set:
    """Return a pool with just the instructions of the oldest standard level that will do."""
    targets = [c for c in pool.free if c.kind == TARGET or _is_cpu(c)]
    if not targets or not case.levels:
        return pool.free
    rest = tuple(c for c in pool.free if c not in targets)
    base = with_changes(case.left, pool.fixed)
    own = [_of_level(case, base, level.flag) for level in case.levels]
    wholes: Sequence[Set] = own
    if not any(own):  # it does not tell: the flags of the levels stand for what they bring
        wholes = [(Change(TARGET, (level.flag,)),) for level in case.levels]

    def enough(chosen: Set) -> bool:
        return case.same((*pool.fixed, *rest, *chosen))

    names = {change.name for change in targets}
    within = [level for level in own if level and {change.name for change in level} <= names]
    if any(own) and within and not enough(within[-1]):
        wholes = ()  # nor will what is less than that
    elif enough(()):
        return rest
    for number, whole in enumerate(wholes):
        if not whole or not enough(whole):
            continue
        below = case.levels[number - 1].flag if number else ""
        for finer in _finer(case, base, whole, below, case.levels[number].flag):
            if enough(finer):
                return (*rest, *finer)
        return (*rest, *whole)
    known = {change.name for level in own for change in level}
    leveled = tuple(c for c in targets if c.name in known)
    beyond = reduce_set(
        [c for c in targets if c.name not in known], lambda chosen: enough((*leveled, *chosen))
    )
    return (*rest, *beyond, *_not_brought(case, with_changes(base, beyond), leveled))


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


def _level_needed(case: Case, asking: Set) -> tuple[str, tuple[str, ...]]:
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
