"""Two tallies beside each other: told apart where they differ, and not where they do not."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from hot_anvil.core.measure.compile_times import compile_time, once
from hot_anvil.core.verify.distributions import LEVEL, compare_tallies, in_one_order
from hot_anvil.core.verify.promises import in_words, promises_in, without_promise


def test_equal_chances_are_rarely_told_apart_and_others_mostly() -> None:
    random = np.random.default_rng(7)
    tries = 150

    def told(left: float, right: float) -> int:
        rows = [[random.binomial(60, p) for p in (left, right)] for _ in range(tries)]
        return sum(compare_tallies([a, 60 - a], [b, 60 - b]).differ for a, b in rows)

    assert told(0.3, 0.3) <= 5  # at a level of 1 % more than 5 of 150 come once in 300
    assert told(0.3, 0.7) >= 0.95 * tries


def test_an_output_that_comes_on_one_side_only_is_no_proof_by_itself() -> None:
    assert not compare_tallies([59, 1], [60, 0]).differ
    assert compare_tallies([40, 20], [60, 0]).differ
    strict = compare_tallies([50, 10], [60, 0], candidates=100)
    assert strict.level == LEVEL / 100 and f"level {strict.level:.2g}" in strict.text


@given(st.lists(st.tuples(st.integers(1, 9), st.sampled_from("abc")), max_size=6))
def test_tallies_over_the_same_outputs_keep_their_counts(tally: list[tuple[int, str]]) -> None:
    left, right = in_one_order(tally, tally[::-1], str.__eq__)
    assert left == right and sum(left) == sum(count for count, _ in tally)


def test_compile_times_are_told_apart_by_their_ranges_only() -> None:
    quick, slow = compile_time([0.10, 0.12, 0.11]), compile_time([0.20, 0.13, 0.21])
    assert slow.more_than(quick) and not quick.more_than(slow)
    assert not compile_time([0.10, 0.30]).more_than(quick) and not once(9.0).more_than(quick)


PROMISES = """// restrict, in words only
int32_t f(int *restrict a, const char *text) { /* ivdep
#pragma GCC ivdep
*/ g("restrict");
#pragma GCC ivdep
    if (n & 3) __builtin_unreachable();
__attribute__((const, noinline)) int h(int x);
int k(void) noexcept(false); int m(void) noexcept;
""".split("\n")


def test_promises_are_read_where_they_are_none_of_comments_and_texts() -> None:
    found = promises_in("f.c", PROMISES)
    assert [(p.place.line, p.word) for p in found] == [
        (2, "restrict"), (5, "ivdep"), (6, "unreachable"), (7, "const function"), (8, "noexcept"),
    ]  # fmt: skip
    assert "ivdep (no pass" in in_words(found) and "f.c:5" in in_words(found)
    changed = without_promise(PROMISES, found[0]).split("\n")
    assert changed[1].startswith("int32_t f(int * a") and len(changed) == len(PROMISES)
    assert without_promise(PROMISES, found[1]).split("\n")[4] == ""
    assert "((, noinline))" in without_promise(PROMISES, found[3])


FORTRAN = ["!DIR$ IVDEP", "  do i = 1, n", "! ivdep is not promised here"]


def test_directives_of_fortran_are_promises_too() -> None:
    assert [p.place.line for p in promises_in("f.f90", FORTRAN)] == [1]
