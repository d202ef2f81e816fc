"""A call that was stepped through, with all that is needed to tell it."""

from collections.abc import Iterator
from typing import NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.code.records import Code
from hot_anvil.core.trace.code_map import CodeMap
from hot_anvil.core.trace.narrow import settled
from hot_anvil.core.trace.tape import Tape
from hot_anvil.core.trace.walk import Known, Moment, Walk
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
    signature: Signature
    code: Code
    map: CodeMap
    known: Known
    tape: Tape
    nameless: tuple[str, ...]  # functions whose variables have no names here, and why

    def walk(self) -> Walk:
        """Return what goes through it from the start."""
        return Walk(self.tape, self.map, self.known)

    def moments(self) -> Iterator[Moment]:
        """Give the steps from the start, told."""
        word = self.tape.registers[0].bits // 8
        found = self.walk().moments()
        return settled(found, word) if word < _NARROW else found
