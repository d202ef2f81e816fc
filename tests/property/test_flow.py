"""Loops, dominance and sums over names against what the definitions say, worked out plainly."""

from collections.abc import Sequence

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from hot_anvil.core.config.expressions import evaluate, names_in
from hot_anvil.core.model.cycles import find_loops
from hot_anvil.errors import RequestError

Graph = Sequence[tuple[int, ...]]
graphs = st.integers(1, 7).flatmap(
    lambda n: st.lists(
        st.lists(st.integers(0, n - 1), max_size=2, unique=True).map(tuple), min_size=n, max_size=n
    )
)


def reachable(graph: Graph, start: int, without: int = -1) -> set[int]:
    """Return what can be come to from ``start`` by ways that avoid a block."""
    seen: set[int] = set()
    todo = [start] if start != without else []
    while todo:
        block = todo.pop()
        if block not in seen:
            seen.add(block)
            todo += [goal for goal in graph[block] if goal != without]
    return seen


def dominates(graph: Graph, block: int, other: int) -> bool:
    """Tell whether every way from the entry to ``other`` leads through ``block``."""
    return block == other or other not in reachable(graph, 0, block)


@given(graphs)
@example([(1, 2), (2,), (1,)])  # a cycle that is entered in two places
@example([(1,), (2, 3), (3,), (2, 1)])  # and one inside a natural loop
def test_loops_are_those_of_the_definition(graph: Graph) -> None:
    """A back edge goes to a block that dominates it; its loop is all that comes back to it."""
    live = reachable(graph, 0)
    wanted: dict[int, set[int]] = {}
    for block in live:
        for header in graph[block]:
            if dominates(graph, header, block):
                inside = {
                    b
                    for b in live
                    if b != header
                    and dominates(graph, header, b)
                    and (b == block or block in reachable(graph, b, header))
                }
                wanted.setdefault(header, {header}).update(inside)
    found = find_loops(graph)
    natural = {loop.header: set(loop.blocks) for loop in found if loop.header in wanted}
    assert natural == wanted
    for loop in found:
        if loop.header not in wanted:  # a cycle that no one block is always entered by
            assert all(loop.blocks <= reachable(graph, block) for block in loop.blocks)
            assert not all(dominates(graph, loop.header, block) for block in loop.blocks)
        assert loop.depth == sum(loop.header in other.blocks for other in found)
        assert all(loop.header in graph[latch] for latch in loop.latches)


numbers = st.integers(-99, 99)
sums = st.recursive(
    numbers.map(str) | st.sampled_from(["n", "rows"]),
    lambda inner: st.builds("({} {} {})".format, inner, st.sampled_from("+-*"), inner),
    max_leaves=6,
)


@given(sums, numbers, numbers)
def test_a_sum_over_names_has_the_value_that_arithmetic_gives(text: str, n: int, rows: int) -> None:
    known = {"n": n, "rows": rows}
    assert evaluate(text, known, "inputs") == eval(text, {}, dict(known))
    assert set(names_in(text)) == {name for name in known if name in text}


@pytest.mark.parametrize("text", ["n.real", "len(n)", "n ** 99", "n if n else 1", "[n]", "'n'"])
def test_nothing_but_sums_is_worked_out(text: str) -> None:
    with pytest.raises(RequestError, match=r"inputs: .* is no value"):
        evaluate(text, {"n": 2}, "inputs")
