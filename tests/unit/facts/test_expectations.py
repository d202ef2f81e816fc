"""Expectations: what holds, what does not, and what cannot be told, which is neither."""

import pytest

from hot_anvil.core.facts.expectation import Expectation, Wanted, check_names
from hot_anvil.core.facts.expectations import holds, judge
from hot_anvil.core.facts.records import Fact, FunctionFacts, LoopFacts, Value

UNKNOWN = Fact("unrolled", None)


@pytest.mark.parametrize(
    ("value", "wanted", "state"),
    [
        (0, 0, "held"),
        (3, 0, "failed"),
        (12, "<= 12", "held"),
        (13, "<= 12", "failed"),
        (3, "!= 3", "failed"),
        (3, True, "held"),
        (0, True, "failed"),
        (("ebb", "flow"), 2, "held"),
        (("ebb", "flow"), "< 2", "failed"),
        (("ebb", "flow"), ("flow", "ebb"), "held"),
        (("ebb", "flow"), ("ebb",), "failed"),
        (("ebb", "flow"), "ebb", "held"),
        (("ebb",), "flow", "failed"),
        ((), False, "held"),
        ("at its end", "at its end", "held"),
    ],
)
def test_a_fact_holds_or_fails(value: Value, wanted: Wanted, state: str) -> None:
    assert holds(Fact("calls", value), wanted) == state


@pytest.mark.parametrize("wanted", [True, False, 0, 4, "<= 4", "!= 4", ("ebb",), "4"])
def test_what_is_not_known_never_holds_and_never_fails(wanted: Wanted) -> None:
    assert holds(UNKNOWN, wanted) == "not known"


def test_no_constant_is_known_to_be_none_and_a_scalar_is_no_vector() -> None:
    assert holds(Fact("constant", None, (), "-"), False) == "held"
    assert holds(Fact("constant", None, (), "-"), "= 4") == "failed"
    assert holds(Fact("vector", 1, (), "scalar"), False) == "held"
    assert holds(Fact("vector", None, (), "vector of a length the code does not say"), True) == (
        "held"
    )
    assert holds(Fact("unrolled", 1), True) == "failed"


def expectation(facts: dict[str, Wanted], loop: int | str | None = None) -> Expectation:
    return Expectation("surge", (), loop, facts, "why", ("snippet", 0, "expect", 0))


def loop(first: int, last: int, part: str, **facts: Value) -> LoopFacts:
    own = tuple(Fact(name, value) for name, value in facts.items())
    return LoopFacts(1, 1, 0, "surge.c", first, last, 0, part, own)


SURGE = FunctionFacts(
    "surge", "surge", "surge.c", 3, (Fact("calls", ()),),
    (loop(5, 7, "main", loads=1), loop(5, 7, "rest", loads=9), loop(10, 12, "main", loads=4)),
)  # fmt: skip


@pytest.mark.parametrize(
    ("where", "wanted", "state"),
    [
        (6, "<= 2", "held"),  # the line is inside; what is left over does not count
        (11, "<= 2", "failed"),
        ("any", "<= 2", "held"),
        ("all", "<= 2", "failed"),
        (30, "<= 2", "failed"),  # there is no such loop
    ],
)
def test_loops_are_meant_by_a_line_any_or_all(where: int | str, wanted: str, state: str) -> None:
    builds = [("gcc:fast", (SURGE,), "")]
    (outcome,) = judge(expectation({"loads": wanted}, where), builds, {"surge"})
    assert outcome.state == state
    assert outcome.told == (where != 30)


def test_a_refused_build_and_a_function_without_code_fail_and_say_why() -> None:
    builds = [("gcc:fast", None, "no such flag"), ("gcc:lean", (), "")]
    refused, absent = judge(expectation({"calls": 0}), builds, {"surge"})
    assert (refused.state, refused.found) == ("failed", "refused: no such flag")
    assert (absent.state, absent.found) == ("failed", "no code of its own for surge")


@pytest.mark.parametrize(
    ("facts", "where", "told"),
    [
        ({"calls": 0}, None, ""),
        ({"loads": 0}, None, "is a fact of loops"),
        ({"calls": 0}, "any", ""),
        ({"recursion": True}, 5, "is a fact of functions"),
        ({"call": 0}, None, "'calls'"),
    ],
)
def test_wrong_names_of_facts_are_told(
    facts: dict[str, Wanted], where: int | str | None, told: str
) -> None:
    said = check_names(expectation(facts, where))
    assert told in said and bool(said) == bool(told)
