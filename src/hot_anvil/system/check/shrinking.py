"""Make a failing input set small, by calling again and again."""

from collections.abc import Callable
from contextlib import suppress
from typing import Literal, NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.binary.variables import Variable
from hot_anvil.core.calling.protocol import Output, lay_out, read_output, try_once, watch
from hot_anvil.core.config.records import Tolerance
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.inputs.shrinking import shrink
from hot_anvil.core.verify.agreement import first_difference
from hot_anvil.core.verify.crash_report import NOWHERE, Place
from hot_anvil.core.verify.verdicts import CRASHED, HUNG, WRONG, Word
from hot_anvil.errors import RequestError
from hot_anvil.system.execute.calls import LAYOUTS, explain, memory_limit, placed_in
from hot_anvil.system.execute.workers import Worker, WorkerEnded

NO_ROOM = "the values do not fit the chip's memory"


class Side(NamedTuple):
    """A program and its entry."""

    path: str
    entry: int
    signature: Signature
    layout: int = 0  # of laying out input sets
    variables: tuple[Variable, ...] = ()  # of the source, that outputs are to hold


class Called(NamedTuple):
    """What came of one call."""

    output: Output | None
    ending: Word | Literal[""]  # "", CRASHED or HUNG
    why: str
    place: Place = NOWHERE


class Caller:
    """Calls one entry on one input set after another; a process that ends is started anew."""

    def __init__(self, side: Side, root: str, seconds: float) -> None:
        self.side = side
        self._root = root
        self._seconds = seconds
        self._worker: Worker | None = None

    def call(self, inputs: InputSet) -> Called:
        """Return what one call leaves behind, or how it ended."""
        path, entry, signature, number, variables = self.side
        placed = placed_in(path, variables)
        layout = LAYOUTS[number]
        try:
            if self._worker is None:
                self._worker = Worker(path, memory=memory_limit(path))
                if placed:
                    self._worker.ask(watch(placed, put_back=True), self._seconds)
            asked = try_once(lay_out(entry, inputs), layout.where, layout.pattern)
            (payload,) = self._worker.answers([asked], self._seconds)
        except WorkerEnded as ended:
            self.close()
            why, place = explain(path, ended, self._root, inputs, signature)
            return Called(None, HUNG if ended.kind == "hung" else CRASHED, why, place)
        if not payload:
            return Called(None, "", NO_ROOM)
        return Called(read_output(payload, inputs, signature, placed), "", "")

    def close(self) -> None:
        """End the process."""
        if self._worker:
            self._worker.close()
        self._worker = None


def difference(
    reference: Caller, candidate: Caller, inputs: InputSet, tolerance: Tolerance
) -> tuple[Word | Literal[""], str, Place]:
    """Return (verdict, why, place) of one call of a candidate; ("", "", …) when it agrees."""
    got = candidate.call(inputs)
    if got.output is None:
        return got.ending, got.why, got.place
    other = for_rival(inputs, candidate.side.signature, reference.side.signature)
    if other is None:
        return "", "", NOWHERE
    expected = reference.call(other)
    if expected.output is None:
        return "", "", NOWHERE
    said, _ = first_difference(
        reference.side.signature, expected.output, candidate.side.signature, got.output, inputs,
        tolerance,
    )  # fmt: skip
    return (WRONG if said else ""), said, NOWHERE


def for_rival(inputs: InputSet, own: Signature, rival: Signature) -> InputSet | None:
    """Return the same values for a rival, None where it takes other types."""
    if own.parameters == rival.parameters:
        return inputs
    types = {p.name: p.type for p in own.parameters}
    mine = {a.name: a for a in inputs.arguments}
    order = [p.name for p in rival.parameters]
    arguments = []
    for parameter in rival.parameters:
        known, kind = mine.get(parameter.name), types.get(parameter.name)
        if known is None or kind is None or kind.size != parameter.type.size:
            return None
        if kind.to and parameter.type.to and kind.to.size != parameter.type.to.size:
            return None
        target = known.target
        if known.kind == "alias":
            aimed = inputs.arguments[target].name
            if aimed not in order:
                return None
            target = order.index(aimed)
        writable = known.writable or parameter.writable
        arguments.append(known._replace(writable=writable, target=target))
    return inputs._replace(arguments=tuple(arguments))


def smallest_failing(
    inputs: InputSet,
    verdict: Word,
    reference: Caller,
    candidate: Caller,
    make: Callable[[str, int], InputSet],
    sizes: list[tuple[str, int]],
    tolerance: Tolerance,
) -> tuple[InputSet, str]:
    """Return (input set, why) of the smallest found that still gives the verdict."""
    said = inputs, ""

    def fails(tried: InputSet) -> bool:
        nonlocal said
        got, why, _ = difference(reference, candidate, tried, tolerance)
        if got == verdict:
            said = tried, why
        return got == verdict

    def resize(name: str, size: int) -> InputSet | None:
        with suppress(RequestError):
            return make(name, size)
        return None

    try:
        if fails(inputs):
            shrink(inputs, candidate.side.signature, fails, resize, sizes)
    finally:
        reference.close()
        candidate.close()
    return said
