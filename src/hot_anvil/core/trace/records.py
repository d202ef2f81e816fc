"""A call that was stepped through, with all that is needed to tell it."""

from collections.abc import Iterator
from typing import NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.calling.protocol import Output
from hot_anvil.core.code.records import Code
from hot_anvil.core.config.records import Tolerance
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.trace.code_map import CodeMap
from hot_anvil.core.trace.moments import Known, Moment
from hot_anvil.core.trace.narrow import settled
from hot_anvil.core.trace.selection import LAST, Choice, Shown, choose, last_passes
from hot_anvil.core.trace.summary import Summary, summarise
from hot_anvil.core.trace.tape import Tape
from hot_anvil.core.trace.values import number_text
from hot_anvil.core.trace.walk import Walk
from hot_anvil.core.verify.crash_report import Place

_NARROW = 4  # bytes of a register from which on variables change at once


class Stepped(NamedTuple):
    """One call of a candidate, recorded."""

    snippet: str
    candidate: str
    entry: str
    build: str
    label: str  # of the input set
    inputs: tuple[tuple[str, str], ...]  # parameter and value in words
    by: str  # what stepped
    ending: str  # "returned", "crashed" or "hung"
    why: str  # of an ending that is none
    place: Place
    output: str  # in words, "" where it did not return
    result: Output | None  # all that it left behind
    values: InputSet
    tolerance: Tolerance
    path: str  # of the program
    number: int  # of the entry in it
    signature: Signature
    code: Code
    map: CodeMap
    known: Known
    tape: Tape
    nameless: tuple[str, ...]  # functions whose variables have no names here, and why

    @property
    def returned(self) -> str:
        """The number that it returned, in words; "" for none."""
        kind = self.signature.returns
        if self.result is None or not kind.scalar:
            return ""
        return number_text(kind, self.result.result[: kind.size])

    def walk(self, named: bool = True) -> Walk:
        """Return what goes through it from the start."""
        return Walk(self.tape, self.map, self.known, named)

    def moments(self, walk: Walk | None = None) -> Iterator[Moment]:
        """Give the steps from the start, told; ``walk`` is one that goes through it."""
        word = self.tape.registers[0].bits // 8
        found = (walk or self.walk()).moments()
        return settled(found, word) if word < _NARROW else found


class ShownCall(NamedTuple):
    """A recorded call with what is shown of it."""

    stepped: Stepped
    summary: Summary
    shown: Shown
    walk: Walk  # that has gone through it: what has a name is known


def summary_of(stepped: Stepped) -> Summary:
    """Return what a recorded call did in all."""
    walk = stepped.walk(named=False)
    return summarise(walk.moments(), stepped.map, walk.stack, stepped.tape.first)


def tell(stepped: Stepped, choice: Choice) -> ShownCall:
    """Return what is shown of a recorded call."""
    summary = summary_of(stepped)
    last = {}
    if LAST in choice.passes:
        last = last_passes(stepped.walk(named=False).moments())
    walk = stepped.walk()
    return ShownCall(stepped, summary, choose(stepped.moments(walk), choice, last), walk)
