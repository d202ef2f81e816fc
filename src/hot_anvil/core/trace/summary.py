"""What a call did, counted: by source line, loop, branch and function."""

from collections import Counter
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from hot_anvil.core.trace.code_map import CodeMap, CodePlace
from hot_anvil.core.trace.moments import Moment

_DEEPEST = 1 << 20  # bytes below the stack's start that count as the stack


class LineCount(NamedTuple):
    """A source line."""

    function: str
    file: str  # "" for code without a line
    line: int
    executed: int  # instructions


class LoopCount(NamedTuple):
    """A loop."""

    function: str
    file: str
    line: int  # where it begins
    depth: int
    entered: int
    passes: int  # whole ones, of all times that it was entered


class BranchCount(NamedTuple):
    """A conditional branch."""

    function: str
    file: str
    line: int
    address: int
    text: str
    taken: int
    not_taken: int


class CallCount(NamedTuple):
    """A function that was called."""

    function: str
    times: int
    stepped: bool  # through it as well


class Summary(NamedTuple):
    """What one call did."""

    executed: int  # instructions of the code under study
    lines: tuple[LineCount, ...]  # in the order of the source
    loops: tuple[LoopCount, ...]
    branches: tuple[BranchCount, ...]
    calls: tuple[CallCount, ...]
    loads: int  # accesses
    stores: int
    stack: int  # bytes below where the call found the stack, of the code under study
    beyond: int  # steps after which other code ran


def summarise(
    moments: Iterable[Moment], code: CodeMap, stack: int, first: Sequence[int]
) -> Summary:
    """Count a call; ``stack`` is the number of the stack's register, ``first`` all at the start."""
    found = _Counting(code, stack, first[stack])
    for moment in moments:
        found.add(moment)
    return found.summary()


def _in_source(loop: LoopCount) -> tuple[str, int, int]:
    return loop.file, loop.line, loop.depth


class _Counting:
    def __init__(self, code: CodeMap, stack: int, first: int) -> None:
        self.code, self.stack, self.first, self.lowest = code, stack, first, first
        self.lines: Counter[tuple[str, str, int]] = Counter()
        self.arrivals: Counter[tuple[str, int]] = Counter()
        self.entered: Counter[tuple[str, int]] = Counter()
        self.branches: dict[int, list[int]] = {}
        self.calls: Counter[tuple[str, bool]] = Counter()
        self.loads = self.stores = self.beyond = self.executed = 0
        self.last: dict[int, CodePlace] = {}  # of each call, where it was

    def add(self, moment: Moment) -> None:
        place, step = moment.place, moment.step
        self.executed += 1
        self.lines[place.function, place.file, place.line] += 1
        for access in step.accesses if not step.beyond else ():
            if access.stored:
                self.stores += 1
                if self.first - _DEEPEST < access.address < self.lowest:
                    self.lowest = access.address
            else:
                self.loads += 1
        for change in step.changes:
            if change.register == self.stack and change.after < self.lowest:
                self.lowest = change.after
        self._loops(moment)
        if moment.taken is not None:
            self.branches.setdefault(step.address, [0, 0])[moment.taken] += 1
        going = moment.going
        if going.calls and going.calls != going.enters:
            self.calls[going.calls, False] += 1
        if going.enters:
            self.calls[going.enters, True] += 1
        self.beyond += going.comes_back or step.beyond

    def _loops(self, moment: Moment) -> None:
        place = moment.place
        before = self.last.get(moment.frame)
        self.last[moment.frame] = place
        if before and before.loops:
            for number in before.loops:
                loop = self.code.loops[place.function][number]
                # What only asks whether to go on is no pass.
                if number not in place.loops and before.block == loop.header and loop.blocks > 1:
                    self.arrivals[place.function, number] -= 1
        if place.begins >= 0:
            again = before is not None and place.begins in before.loops
            self.arrivals[place.function, place.begins] += 1
            self.entered[place.function, place.begins] += not again

    def summary(self) -> Summary:
        code = self.code
        lines = tuple(
            LineCount(code.title(function), file, line, count)
            for (function, file, line), count in sorted(self.lines.items(), key=lambda i: i[0][1:])
        )
        loops = []
        for (function, number), arrivals in self.arrivals.items():
            loop = code.loops[function][number]
            loops.append(
                LoopCount(
                    code.title(function), loop.file, loop.line, loop.depth,
                    self.entered[function, number], arrivals,
                )
            )  # fmt: skip
        branches = []
        for address, (not_taken, taken) in sorted(self.branches.items()):
            place = code.places[address]
            branches.append(
                BranchCount(
                    code.title(place.function), place.file, place.line, address,
                    place.instruction.text, taken, not_taken,
                )
            )  # fmt: skip
        calls = tuple(CallCount(name, n, stepped) for (name, stepped), n in self.calls.items())
        return Summary(
            self.executed, lines, tuple(sorted(loops, key=_in_source)), tuple(branches), calls,
            self.loads, self.stores, self.first - self.lowest, self.beyond,
        )  # fmt: skip
