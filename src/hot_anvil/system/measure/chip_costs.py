"""What calls cost on a simulated chip: cycles and stack, exact."""

import struct
from collections import Counter
from collections.abc import Sequence
from typing import NamedTuple

from hot_anvil.core.calling.protocol import ON_LINE, lay_out, request
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.measure.elsewhere import ChipCost
from hot_anvil.core.measure.measurements import Count
from hot_anvil.system.build.linking import Program
from hot_anvil.system.execute.workers import Worker, WorkerEnded

_COST = struct.Struct("<QQI")
_PLACE = struct.Struct("<IIQ")
_SECONDS = 12.0  # for one call, before the simulator's patience


def chip_costs(program: Program, entry: int, sets: Sequence[InputSet]) -> list[ChipCost]:
    """Return what a call costs on each input set."""
    return [_cost(program.path, entry, inputs) for inputs in sets]


class ChipPlaces(NamedTuple):
    """What one call did, by the address of the instruction."""

    cycles: Counter[int]
    times: dict[int, int]  # how often it was executed


def chip_places(path: str, entry: int, inputs: InputSet) -> ChipPlaces:
    """Return all that one call did.

    Raises WorkerEnded for a call that does not come back.
    """
    laid = lay_out(entry, inputs)
    with Worker(path, memory=0) as worker:
        head = request("H", laid.head(ON_LINE, 0), laid.size)
        answer = worker.ask((head, *laid.parts), _SECONDS)
    rows = list(_PLACE.iter_unpack(answer))
    return ChipPlaces(Counter({at: cycles for at, _, cycles in rows}), {at: n for at, n, _ in rows})


def _cost(path: str, entry: int, inputs: InputSet) -> ChipCost:
    laid = lay_out(entry, inputs)
    head = request("C", laid.head(ON_LINE, 0), laid.size)
    try:
        with Worker(path, memory=0) as worker:
            answer = worker.ask((head, *laid.parts), _SECONDS)
    except WorkerEnded as ended:
        return ChipCost(Count(None, ended.why), 0)
    if not answer:
        return ChipCost(Count(None, "the values do not fit the chip's memory"), 0)
    cycles, _, stack = _COST.unpack(answer)
    return ChipCost(Count(cycles, ""), stack)
