"""Where in a compiler's work something appears, changes and goes: counted in each of its forms."""

import re
from collections.abc import Collection, Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.stages.records import (
    ALLOCATION,
    CALL,
    COPY,
    DIVISION,
    LOAD,
    MARKER,
    NO_VECTORS,
    STORE,
    VECTOR,
    Body,
    FunctionStages,
    Stage,
    Statement,
    loops_of,
)
from hot_anvil.errors import RequestError

LOOP, VARIABLE = "loop", "variable"
# What can be followed -> what that is.
KINDS: Mapping[str, str] = {
    CALL: "calls, or those of one function: 'call checksum'",
    ALLOCATION: "calls that allocate memory",
    COPY: "calls that copy memory",
    LOOP: "loops",
    VARIABLE: "statements that name a variable: 'variable low'",
    DIVISION: "divisions and remainders",
    VECTOR: "operations on several elements at once",
    LOAD: "loads from memory",
    STORE: "stores to memory",
}
_NO_NAMES = ("RTL", "machine IR")  # forms in which variables have no names any more


class Sought(NamedTuple):
    """What is followed."""

    kind: str  # one of KINDS
    name: str = ""  # of a function or a variable

    @property
    def words(self) -> str:
        """It, as it was asked for."""
        return f"{self.kind} {self.name}".rstrip()


class Step(NamedTuple):
    """A stage at which the number changed."""

    at: int  # index of the stage
    before: int
    after: int


class Followed(NamedTuple):
    """Something through the stages of a function.

    A pass of the whole program leaves no form behind: what it did stands in that of the next pass.
    """

    sought: Sought
    counts: tuple[int | None, ...]  # by stage; None where the form does not tell
    steps: tuple[Step, ...]

    @property
    def word(self) -> str:
        """What became of it: "gone", "appears", "stays" or "never there"."""
        known = [n for n in self.counts if n is not None]
        if not any(known):
            return "never there"
        if not known[-1]:
            return "gone"
        return "appears" if not known[0] else "stays"

    @property
    def step(self) -> Step | None:
        """The step that tells most: at which it goes, or appears; None for what stays."""
        if self.word == "gone":
            return next((s for s in reversed(self.steps) if not s.after), None)
        if self.word == "appears":
            return next((s for s in self.steps if not s.before), None)
        return None


def read_sought(text: str) -> Sought:
    """Return what ``--follow`` asks for; raises RequestError for what cannot be followed."""
    kind, _, name = text.strip().partition(" ")
    kind = kind.removesuffix("s") if kind.removesuffix("s") in KINDS else kind
    name = name.strip()
    if kind not in KINDS:
        raise RequestError(
            f"'{text}': that cannot be followed.{did_you_mean(kind, KINDS)} What can be: "
            f"{listed(KINDS)}; 'call NAME' and 'variable NAME' follow one.",
            about="follow",
        )
    if kind == VARIABLE and not name:
        raise RequestError("say which variable, such as --follow 'variable low'.", about="follow")
    if name and kind not in (CALL, VARIABLE):
        raise RequestError(f"'{text}': leave '{name}' out: only calls and variables have names.",
                           about="follow")  # fmt: skip
    return Sought(kind, name)


def follow(
    stages: Sequence[Stage],
    sought: Sought,
    names: Mapping[str, Collection[str]],
    lines: tuple[int, int] = (0, 0),
) -> Followed:
    """Return how often something stands in each stage.

    ``names`` gives for a symbol what its function is called; ``lines`` limits it to source lines.
    """
    counts: list[int | None] = []
    steps = []
    last: int | None = None
    for index, stage in enumerate(stages):
        count = _count(stage.body, sought, names, lines)
        if count is not None and last and count < last and _may_be_unnamed(stage.body, sought):
            count = None
        counts.append(count)
        if count is None:
            continue
        if last is not None and count != last:
            steps.append(Step(index, last, count))
        last = count
    return Followed(sought, tuple(counts), tuple(steps))


def _may_be_unnamed(body: Body, sought: Sought) -> bool:
    """Tell whether a call may be there though nothing names it: its address is in a register."""
    return (
        sought.kind == CALL
        and bool(sought.name)
        and body.form in _NO_NAMES
        and any(CALL in s.traits and not s.callees for s in body.statements)
    )


def _count(
    body: Body, sought: Sought, names: Mapping[str, Collection[str]], lines: tuple[int, int]
) -> int | None:
    if sought.kind == VARIABLE and body.form in _NO_NAMES:
        return None
    if sought.kind == VECTOR and body.form in NO_VECTORS:
        return None
    if sought.kind == LOOP and not lines[1]:
        return loops_of(body.blocks)
    if lines[1] and not any(s.line for s in body.statements):
        return None
    if sought.kind == LOOP:
        return _loops_on(body, lines)
    return sum(
        stands_for(statement, sought, names)
        for statement in body.statements
        if not lines[1] or lines[0] <= statement.line <= lines[1]
    )


# Passes of the whole program that change functions.
_WHOLE = ("ipa-cp", "ipa-sra", "ipa-icf", "ipa-inline", "ipa-simdclone", "ipa-modref")


def passes_of(one: FunctionStages, followed: Followed, step: Step) -> tuple[str, ...]:
    """Return the pass that made a step; several where it is one of them and not known which."""
    stage = one.stages[step.at]
    last = max((k for k, n in enumerate(stage.passed) if not n.startswith("ipa-")), default=-1)
    hidden = [name for name in stage.passed[last + 1 :] if name in _WHOLE]
    called = followed.sought.kind == CALL
    if "ipa-inline" in hidden and called and step.after < step.before and one.inlined:
        name = followed.sought.name
        if not name or any(_is_called(s, name, one.names) for s in one.inlined):
            return ("ipa-inline",)
    return (*hidden, stage.name)


def stands_for(statement: Statement, sought: Sought, names: Mapping[str, Collection[str]]) -> bool:
    """Tell whether a statement is what is followed."""
    if MARKER in statement.traits:
        return False
    if sought.kind == VARIABLE:
        return bool(re.search(rf"(?<![\w.]){re.escape(sought.name)}(?![A-Za-z])", statement.text))
    if sought.kind == CALL and sought.name:
        return any(_is_called(symbol, sought.name, names) for symbol in statement.callees)
    return sought.kind in statement.traits


def _is_called(symbol: str, name: str, names: Mapping[str, Collection[str]]) -> bool:
    plain = re.sub(r"\.(?:part|constprop|isra|cold)\.\d+.*", "", symbol)
    if name in (symbol, plain, plain.partition("(")[0], plain.rpartition("::")[2]):
        return True
    return name in names.get(plain, ())


def _loops_on(body: Body, lines: tuple[int, int]) -> int:
    """Return how many loops have a statement on these lines at their head or in it."""
    kept = tuple(
        block
        for block, statements in body.parts()
        if not statements or any(lines[0] <= s.line <= lines[1] or not s.line for s in statements)
    )
    return loops_of(kept)
