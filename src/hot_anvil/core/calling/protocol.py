"""The talk with a worker: requests to bytes, answers to records.

The layouts are described at the heads of ``native/worker.c`` and ``slots.c``;
core/timing.py has what timing asks.
"""

import struct
from collections.abc import Sequence
from typing import NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.binary.variables import Placed, Variable
from hot_anvil.core.inputs.input_sets import InputSet

HEAD = struct.Struct("<cI")
ANSWER_HEAD = struct.Struct("<BI")
NO_ROOM = 2  # status: the values do not fit a chip's memory
ON_LINE, TIGHT_END, TIGHT_START = 0, 1, 2  # where buffers lie
_KINDS = {"scalar": 0, "buffer": 1, "alias": 2}
_OUTPUT_HEAD = struct.Struct("<iqI")
_PLACE = 16  # bytes that say where a returned pointer points


class Damage(NamedTuple):
    """A byte beside a buffer that a call wrote to."""

    parameter: str
    offset: int  # bytes from the buffer's start
    size: int  # bytes of the buffer


class Output(NamedTuple):
    """What one call left behind."""

    result: bytes
    buffers: tuple[tuple[str, bytes], ...]  # (parameter, contents) of those it could write
    damage: Damage | None = None
    variables: tuple[tuple[Variable, bytes], ...] = ()  # of the program, that are watched
    left: int = 0  # bits of what else the call left changed: ``native/surroundings.c``


def request(op: str, payload: bytes = b"", more: int = 0) -> bytes:
    """Return a request in the worker's form, or its start where ``more`` bytes follow."""
    return HEAD.pack(op.encode(), len(payload) + more) + payload


class Layout(NamedTuple):
    """An input set as the worker reads it, in pieces: large buffers are never copied."""

    entry: int
    arguments: int  # how many
    parts: tuple[bytes, ...]

    def head(self, where: int, pattern: int) -> bytes:
        """Return what comes before the parts.

        ``where`` is ON_LINE, TIGHT_END or TIGHT_START; ``pattern`` the byte
        that fills what lies around buffers and below the stack, 0 for none.
        """
        return struct.pack("<HHBB", self.entry, self.arguments, where, pattern)

    @property
    def size(self) -> int:
        """Bytes of the parts."""
        return sum(map(len, self.parts))


Request = Sequence[bytes]  # pieces, to be sent one after the other


def lay_out(entry: int, inputs: InputSet) -> Layout:
    """Return an input set as the worker reads it."""
    parts = []
    for a in inputs.arguments:
        data = struct.pack("<qq", a.target, a.offset) if a.kind == "alias" else a.data
        head = struct.pack("<BBBHQ", _KINDS[a.kind], a.writable, a.exact, a.align, len(data))
        parts += [head, data]
    return Layout(entry, len(inputs.arguments), tuple(parts))


def try_once(layout: Layout, where: int, pattern: int) -> Request:
    """Return the request for one call on an input set, laid out for it alone."""
    return request("T", layout.head(where, pattern), layout.size), *layout.parts


def repeat(layout: Layout, where: int, pattern: int, calls: int) -> Request:
    """Return the request for many calls on one input set, and the tally of their outputs."""
    head = struct.pack("<I", calls) + layout.head(where, pattern)
    return request("R", head, layout.size), *layout.parts


def watch(placed: Sequence[Placed], put_back: bool = False) -> Request:
    """Return the request that makes outputs hold these variables of the program.

    ``put_back``: every call finds their first values, not what earlier calls left.
    """
    parts = b"".join(struct.pack("<QQ", one.offset, one.variable.type.size) for one in placed)
    return (request("G", struct.pack("<BI", put_back, len(placed)) + parts),)


def read_output(
    payload: bytes, inputs: InputSet, signature: Signature, placed: Sequence[Placed] = ()
) -> Output:
    """Read the answer to ``try_once``; ``placed`` are the variables that are watched."""
    where, offset, left = _OUTPUT_HEAD.unpack_from(payload)
    damage = None
    if where >= 0:
        hurt = inputs.arguments[where]
        damage = Damage(hurt.name, offset, len(hurt.data))
    at = _OUTPUT_HEAD.size
    returns = signature.returns
    size = _PLACE if returns.kind == "pointer" else returns.size
    result = payload[at : at + size]
    at += size
    buffers = []
    for a in inputs.arguments:
        if a.kind == "buffer" and a.writable:
            buffers.append((a.name, payload[at : at + len(a.data)]))
            at += len(a.data)
    variables = []
    for one in placed:
        size = one.variable.type.size
        variables.append((one.variable, payload[at : at + size]))
        at += size
    return Output(result, tuple(buffers), damage, tuple(variables), left)


def read_repeat(payload: bytes, inputs: InputSet, signature: Signature) -> list[tuple[int, Output]]:
    """Read the answer to ``repeat``: how often each distinct output came."""
    kinds: int = struct.unpack_from("<I", payload)[0]
    counts = struct.unpack_from(f"<{kinds}I", payload, 4)
    at = 4 + 4 * kinds
    size = (len(payload) - at) // max(kinds, 1)
    parts = [payload[at + size * k : at + size * (k + 1)] for k in range(kinds)]
    outputs = [read_output(part, inputs, signature) for part in parts]
    return list(zip(counts, outputs, strict=True))
