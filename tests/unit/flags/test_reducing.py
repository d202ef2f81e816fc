"""The fewest changes that do: enough together, and none of them to spare."""

from itertools import combinations

from hypothesis import given
from hypothesis import strategies as st

from hot_anvil.core.flags.records import OPTIMISER, Change, with_changes, without_change
from hot_anvil.core.flags.reducing import Set, reduce_set

POOL = tuple(Change(OPTIMISER, (f"-f{n}",), (f"-fno-{n}",)) for n in "abcdefghij")


def set_of(names: str) -> Set:
    return tuple(change for change in POOL if change.add[0][2:] in names)


@given(st.lists(st.sets(st.sampled_from("abcdefghij"), min_size=1), min_size=1, max_size=4))
def test_what_is_found_does_and_nothing_less_does(ways: list[set[str]]) -> None:
    """Each of ``ways`` is a set of changes that does, with whatever stands beside."""
    asked: list[Set] = []

    def enough(chosen: Set) -> bool:
        asked.append(chosen)
        return any(set(set_of("".join(way))) <= set(chosen) for way in ways)

    found = reduce_set(POOL, enough)
    assert enough(found)
    assert not any(enough(less) for less in combinations(found, len(found) - 1))
    assert len(asked) < 60


@given(st.sets(st.integers(0, 2**10 - 1)))
def test_more_may_also_undo(other: set[int]) -> None:
    """Where a larger set need not do what a smaller does, the result still does and needs all."""

    def enough(chosen: Set) -> bool:
        number = sum(1 << POOL.index(change) for change in chosen)
        return number in other or len(chosen) == len(POOL)

    found = reduce_set(POOL, enough)
    assert enough(found)
    assert not any(enough(tuple(c for c in found if c is not out)) for out in found)


def test_flags_are_put_together_and_taken_back() -> None:
    level = Change("level", ("-O3",), ("-O2",), ("-O2",), ("-O3",))
    macro = Change("given", (), ("-DX",), ("-DX",))
    assert with_changes(("-O2", "-DX", "-g"), (level, macro, POOL[0])) == ("-g", "-O3", "-fa")
    assert without_change(("-g", "-O3"), level) == ("-g", "-O2")
    assert without_change(("-g", "-O3"), POOL[0]) == ("-g", "-O3", "-fno-a")
