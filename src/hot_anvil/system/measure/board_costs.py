"""How deep calls on an emulated board use its stack."""

import struct
from collections.abc import Sequence

from hot_anvil.core.calling.protocol import ON_LINE, Request, lay_out, request
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.system.execute.workers import Worker, WorkerEnded

_BYTES = struct.Struct("<I")
_SECONDS = 12.0  # for one call, before the emulator's patience


def deepest_stack(path: str, entry: int, sets: Sequence[InputSet]) -> int | None:
    """Return the bytes of stack that the deepest of some calls wrote to, itself and what it calls.

    None where a call does not come back, or its values do not fit the board.
    """
    try:
        with Worker(path, memory=0) as worker:
            requests = [_cost(entry, inputs) for inputs in sets]
            answers = list(worker.answers(requests, _SECONDS))
    except WorkerEnded:
        return None
    if not all(answers):
        return None
    return max((_BYTES.unpack(answer)[0] for answer in answers), default=None)


def _cost(entry: int, inputs: InputSet) -> Request:
    laid = lay_out(entry, inputs)
    return (request("C", laid.head(ON_LINE, 0), laid.size), *laid.parts)
