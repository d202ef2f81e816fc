"""Whether two pieces of straight code compute the same: found by running both on many states.

A piece is a run of instructions of one block that can all be evaluated. Equal means that no
difference was found: the same values in what is read later, the same memory, the same branch, the
same faults. Values that the manuals leave open decide nothing.
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import Literal, NamedTuple

import numpy as np

from hot_anvil.core.arch.operations import BRANCH, Expr, Step
from hot_anvil.core.evaluate.liveness import Needs, pruned
from hot_anvil.core.evaluate.operators import Values, low
from hot_anvil.core.evaluate.running import Run
from hot_anvil.core.evaluate.states import States

Answer = Literal["equal", "differ", "open"]
EQUAL: Answer = "equal"
DIFFER: Answer = "differ"
OPEN: Answer = "open"  # it depends on what is undefined, or on what corresponds to what
_MOST = 64  # steps of a piece, beyond which it is not tried


class Machine(NamedTuple):
    """What running needs to know of an instruction set."""

    width: int
    flags: frozenset[str]
    stack: frozenset[str]


class Piece(NamedTuple):
    """Straight code, and what of its outcome is read later: register -> low bits."""

    steps: Sequence[Step]
    after: Mapping[str, int]


class Found(NamedTuple):
    """What comparing two pieces gave."""

    answer: Answer
    outputs: Mapping[str, str] = {}  # register of the left piece -> of the right


def compare(
    left: Piece,
    right: Piece,
    related: Mapping[str, str],
    known_after: Mapping[str, str],
    machine: Machine,
    turned: bool = False,
) -> Found:
    """Compare two pieces.

    ``related``: registers of the left piece that hold before what some of the right piece do;
    flags and the stack pointer stand for themselves. ``known_after``: the same for outputs, as
    far as it is known; the others go together by their values. ``turned``: the right branch goes
    where the left one does not.
    """
    mine, needs = pruned(left.steps, left.after)
    theirs, other_needs = pruned(right.steps, right.after)
    if max(len(mine), len(theirs)) > _MOST:
        return Found(OPEN)
    names = _inputs(needs, other_needs, related, machine)
    if names is None:
        return Found(OPEN)
    numbers = set(_constants([*mine, *theirs]))
    states = States(machine.width, machine.flags, machine.stack, numbers)
    one = _both(states, mine, {})
    two = _both(states, theirs, names)
    sound = _sound(one, two)
    if sound is None:
        return Found(DIFFER)
    answers = [
        _memory(one, two, sound),
        _branch(one, two, sound, mine, theirs, turned),
    ]
    if DIFFER in answers:
        return Found(DIFFER)
    outputs, answer = _outputs(one, two, sound, left, right, known_after, machine)
    answers.append(answer)
    worst = DIFFER if DIFFER in answers else OPEN if OPEN in answers else EQUAL
    return Found(worst, outputs)


def _inputs(
    needs: Needs, other: Needs, related: Mapping[str, str], machine: Machine
) -> dict[str, str] | None:
    """Return register of the right piece -> of the left; None where it is not known."""
    fixed = machine.flags | machine.stack
    back = {r: name for name, r in related.items()}
    mine = {n for n in needs if n not in fixed and n not in related}
    out: dict[str, str] = {}
    loose = []
    for name in other:
        if name in fixed:
            continue
        if name in back:
            out[name] = back[name]
        elif name in mine:
            out[name] = name
        else:
            loose.append(name)
    rest = sorted(mine - set(out.values()))
    if len(loose) == 1 and len(rest) == 1:
        out[loose[0]] = rest[0]
    elif loose:
        return None  # which is which would be a guess
    return out


def _constants(steps: Sequence[Step]) -> Iterator[int]:
    for step in steps:
        for part in step[1:]:
            if isinstance(part, tuple):
                yield from _constants_in(part)


def _constants_in(e: Expr) -> Iterator[int]:
    if e[0] == "const":
        yield e[1]
    shifts = e[0] in ("left", "right", "arithmetic right")  # their counts are no values
    for part in e[1 : 2 if shifts else None]:
        if isinstance(part, tuple):
            yield from _constants_in(part)


class _Two(NamedTuple):
    """A piece run twice: with undefined bits 0, and 1."""

    run: Run
    again: Run

    def value(self, name: str, bits: int) -> Values:
        """Return the low bits that are read of a register."""
        return self.run.full(low(bits, self.run.register(name)))

    def is_open(self, name: str, bits: int) -> Values:
        """Return where a register hangs on what is undefined."""
        other = self.run.full(low(bits, self.again.register(name)))
        found: Values = self.value(name, bits) != other
        return found


def _both(states: States, steps: Sequence[Step], names: Mapping[str, str]) -> _Two:
    run = Run(states, names).run(steps)
    return _Two(run, Run(states, names, 1).run(steps) if run.met_undefined else run)


def _sound(one: _Two, two: _Two) -> Values | None:
    """Return the states in which neither faults, None where only one does in some state."""
    faults = [t.run.full(t.run.faults) != 0 for t in (one, two)]
    return None if (faults[0] != faults[1]).any() else ~faults[0]


def _memory(one: _Two, two: _Two, sound: Values) -> Answer:
    with np.errstate(all="ignore"):
        for at, count, _ in (*one.run.stored, *two.run.stored):
            values = [t.run.full(t.run.load(count, at)) for t in (one, two)]
            again = [t.run.full(t.again.load(count, at)) for t in (one, two)]
            settled = (values[0] == again[0]) & (values[1] == again[1])
            if (sound & settled & (values[0] != values[1])).any():
                return DIFFER
            if (sound & ~settled).any():
                return OPEN
    return EQUAL


def _branch(
    one: _Two, two: _Two, sound: Values, mine: Sequence[Step], theirs: Sequence[Step], turned: bool
) -> Answer:
    branches = [any(s[:2] == ("set", BRANCH) for s in steps) for steps in (mine, theirs)]
    if branches == [False, False]:
        return EQUAL
    if not all(branches):
        return DIFFER
    taken = [t.value(BRANCH, 1) for t in (one, two)]
    unsettled = one.is_open(BRANCH, 1) | two.is_open(BRANCH, 1)
    other = taken[1] ^ np.uint64(1) if turned else taken[1]
    if (sound & ~unsettled & (taken[0] != other)).any():
        return DIFFER
    return OPEN if (sound & unsettled).any() else EQUAL


def _outputs(
    one: _Two, two: _Two, sound: Values, left: Piece, right: Piece,
    known: Mapping[str, str], machine: Machine,
) -> tuple[dict[str, str], Answer]:  # fmt: skip
    """Match what both leave for later: by what is known, then by value."""
    mine = {n: b for n, b in left.after.items() if _set(left.steps, n)}
    theirs = {n: b for n, b in right.after.items() if _set(right.steps, n)}
    fixed = machine.flags | machine.stack
    out: dict[str, str] = {}
    open_ = False
    for name in sorted(mine, key=lambda n: (n not in fixed, n not in known, n)):
        goals = [name] if name in fixed else [known[name]] if name in known else []
        goals = goals or sorted((n for n in theirs if n not in fixed), key=lambda n: n != name)
        for goal in goals:
            if goal not in theirs or goal in out.values():
                continue
            bits = max(mine[name], theirs[goal])
            unsettled = one.is_open(name, bits) | two.is_open(goal, bits)
            if not (sound & ~unsettled & (one.value(name, bits) != two.value(goal, bits))).any():
                out[name] = goal
                open_ = open_ or bool((sound & unsettled).any())
                break
        else:
            return out, DIFFER
    if len(out) != len(theirs):
        return out, DIFFER
    return out, OPEN if open_ else EQUAL


def _set(steps: Sequence[Step], name: str) -> bool:
    return any(step[0] == "set" and step[1] == name for step in steps)
