"""Expectations: statements about facts that must hold, and whether they do."""

import re
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from fnmatch import fnmatchcase
from typing import Literal, NamedTuple

from hot_anvil.core.code.records import Code, Instruction, parts_by_owner
from hot_anvil.core.facts.expectation import Expectation, Wanted
from hot_anvil.core.facts.records import (
    ALL,
    CALL_FACTS,
    MAIN,
    Fact,
    FunctionFacts,
    LoopFacts,
    find,
)  # fmt: skip
from hot_anvil.core.facts.table import instructions_of

State = Literal["held", "failed", "not known"]
HELD: State = "held"
FAILED: State = "failed"
UNKNOWN: State = "not known"
_MOST_INPUTS = 4  # of a sweep that are shown of a count
ANY, EVERY = "any", "all"  # in place of a loop's line
_COMPARED = re.compile(r"(<=|>=|<|>|=|!=)\s*(-?\d+)")
_COMPARE: dict[str, Callable[[int, int], bool]] = {
    "<=": lambda a, b: a <= b, ">=": lambda a, b: a >= b, "<": lambda a, b: a < b,
    ">": lambda a, b: a > b, "=": lambda a, b: a == b, "!=": lambda a, b: a != b,
}  # fmt: skip


class Outcome(NamedTuple):
    """Whether one statement holds in one build."""

    expectation: Expectation
    fact: str
    build: str
    state: State
    found: str  # the fact as it is, or why it cannot be told
    loop: str = ""  # source lines of the loop it is about
    places: tuple[int, ...] = ()  # instructions that show it
    told: bool = True  # false: there is no such code, and ``found`` says why


class Expected(NamedTuple):
    """The outcomes of one snippet's expectations."""

    snippet: str
    outcomes: tuple[Outcome, ...]
    codes: Mapping[str, Code]  # build -> the code that evidence stands in
    symbols: Mapping[str, str]  # entry -> symbol


def judge(
    expectation: Expectation,
    builds: Iterable[tuple[str, tuple[FunctionFacts, ...] | None, str]],
    symbols: Collection[str],
) -> tuple[Outcome, ...]:
    """Return the outcome of every statement in every build it is about.

    ``builds`` are (name, facts or None where refused, why it was refused),
    ``symbols`` those that the entry goes by (``code.find_functions``).
    """
    out = []
    for build, functions, why in builds:
        function = next((f for f in functions or () if f.name in symbols), None)
        for name, wanted in expectation.facts.items():
            if expectation.of_calls and name in CALL_FACTS:
                continue
            if functions is None:
                out.append(_absent(expectation, name, build, f"refused: {why}"))
            elif function is None:
                text = f"no code of its own for {expectation.entry}"
                out.append(_absent(expectation, name, build, text))
            else:
                out.append(_outcome(expectation, name, wanted, build, function))
    return tuple(out)


# (entry, build) -> fact -> (inputs, the number or None, why it is not known)
Called = Mapping[tuple[str, str], Mapping[str, Sequence[tuple[str, int | None, str]]]]


def judge_calls(
    expectation: Expectation, builds: Iterable[str], called: Called
) -> tuple[Outcome, ...]:
    """Return the outcomes of what is said of calls; it holds with all inputs it is about."""
    out = []
    for build in builds:
        facts = called.get((expectation.entry, build), {})
        for name, wanted in expectation.facts.items():
            if name not in CALL_FACTS:
                continue
            rows = [r for r in facts.get(name, ()) if not r[0] or expectation.at in ("", r[0])]
            if not rows:
                text = "it was not counted: it does not run, or is not correct, on such a machine"
                out.append(Outcome(expectation, name, build, UNKNOWN, text, told=False))
                continue
            judged = [(_of_call(name, row[1], wanted), row) for row in rows]
            state = max((one for one, _ in judged), key=[HELD, UNKNOWN, FAILED].index)
            told = [_call_words(row) for one, row in judged if one == state]
            found = ", ".join(told[:_MOST_INPUTS]) + (" ..." if len(told) > _MOST_INPUTS else "")
            out.append(Outcome(expectation, name, build, state, found))
    return tuple(out)


def _of_call(name: str, value: int | None, wanted: Wanted) -> State:
    return holds(Fact(name, value), wanted)


def _call_words(row: tuple[str, int | None, str]) -> str:
    inputs, value, why = row
    number = why if value is None else f"{value:,}"
    return f"{number} ({inputs})" if inputs else number


def _absent(expectation: Expectation, name: str, build: str, why: str) -> Outcome:
    return Outcome(expectation, name, build, FAILED, why, told=False)


def _outcome(
    expectation: Expectation, name: str, wanted: Wanted, build: str, function: FunctionFacts
) -> Outcome:
    if expectation.loop is None:
        fact = find(function.facts, name) or Fact(name, 0 if name != "recursion" else "")
        state = holds(fact, wanted)
        return Outcome(expectation, name, build, state, fact.words, "", fact.places)
    loops = [loop for loop in function.loops if _meant(expectation.loop, loop)]
    if not loops:
        where = "" if isinstance(expectation.loop, str) else f" at line {expectation.loop}"
        return _absent(expectation, name, build, f"there is no loop{where}")
    found = []
    for loop in loops:
        fact = find(loop.facts, name) or Fact(name, 0, (), "-")
        state = holds(fact, wanted)
        found.append(Outcome(expectation, name, build, state, fact.words, loop.lines, fact.places))
    order = [HELD, UNKNOWN, FAILED]
    if expectation.loop != ANY:
        order.reverse()
    return min(found, key=lambda outcome: order.index(outcome.state))


def _meant(wanted: int | str, loop: LoopFacts) -> bool:
    if loop.part != MAIN:
        return False
    return isinstance(wanted, str) or loop.first <= wanted <= loop.last


def holds(fact: Fact, wanted: Wanted) -> State:
    """Return HELD, FAILED, or UNKNOWN where the fact is not known.

    True and False ask whether there is any of it; a whole number for so many;
    a text such as "<= 12" for a number in that range; a list for exactly
    these; another text for just this, or for a list that has it.
    """
    if not fact.known:
        return UNKNOWN
    value = fact.value
    number = len(value) if isinstance(value, tuple) else value
    if isinstance(wanted, bool):
        return _state(_is_there(fact) == wanted)
    if isinstance(wanted, tuple):
        return _state(isinstance(value, tuple) and sorted(value) == sorted(wanted))
    compared = _COMPARED.fullmatch(wanted.strip()) if isinstance(wanted, str) else None
    if compared or isinstance(wanted, int):
        if not isinstance(number, int):
            text = str(number)
            if isinstance(number, str) and re.fullmatch(r"-?\d+", text):
                number = int(text)
            else:
                return FAILED if fact.name == "constant" else UNKNOWN
        if compared:
            return _state(_COMPARE[compared[1]](number, int(compared[2])))
        return _state(number == wanted)
    if isinstance(value, tuple):
        return _state(wanted in value)
    return _state(wanted in (value, fact.words))


def _state(held: bool) -> State:
    return HELD if held else FAILED


def _is_there(fact: Fact) -> bool:
    if fact.name == "vector":
        return not fact.words.startswith("scalar")
    if fact.name in ("unrolled", "constant"):
        return fact.value is not None and (fact.name == "constant" or fact.value != 1)
    return bool(fact.value)


def is_about(expectation: Expectation, names: Collection[str]) -> bool:
    """Tell whether an expectation is about a build, given all names of that."""
    return not expectation.builds or any(
        fnmatchcase(name, pattern) or fnmatchcase(name.rpartition(":")[2], pattern)
        for pattern in expectation.builds
        for name in names
    )


def evidence(one: Expected, outcome: Outcome) -> list[tuple[int, Instruction]]:
    """Return the instructions that show an outcome, with their places; none for all of them."""
    code = one.codes.get(outcome.build)
    symbol = one.symbols.get(outcome.expectation.entry, "")
    if code is None or outcome.places == ALL:
        return []
    items = instructions_of(parts_by_owner(code.functions), symbol)
    return [(k, items[k]) for k in outcome.places if k < len(items)]
