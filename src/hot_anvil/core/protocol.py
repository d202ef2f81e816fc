"""The talk with a worker: requests to bytes, answers to records.

The layout is described at the head of ``native/worker.c``.
"""

import struct
from typing import NamedTuple

from hot_anvil.core.inputs import InputSet

HEAD = struct.Struct("<cI")
ANSWER_HEAD = struct.Struct("<BI")
_KINDS = {"scalar": 0, "buffer": 1, "alias": 2}


class Output(NamedTuple):
    """What one call left behind: the result's 16 bytes and the buffers it could write."""

    result: bytes
    buffers: tuple[tuple[str, bytes], ...]  # (parameter, contents)


class Visit(NamedTuple):
    """Samples of one visit to a candidate."""

    cpu_seconds: float
    switched: int  # times the process was put off the CPU against its will
    samples: tuple[float, ...]  # seconds of each batch of calls


def request(op: str, payload: bytes = b"") -> bytes:
    """Return a request in the worker's form."""
    return HEAD.pack(op.encode(), len(payload)) + payload


def prepare(slot: int, entry: int, inputs: InputSet, tight: bool) -> bytes:
    """Return the request that lays out one input set for an entry."""
    parts = [struct.pack("<HHHB", slot, entry, len(inputs.arguments), tight)]
    for a in inputs.arguments:
        size = a.target if a.kind == "alias" else len(a.data)
        parts.append(struct.pack("<BBHQ", _KINDS[a.kind], a.writable, a.align, size) + a.data)
    return request("P", b"".join(parts))


def call(slot: int) -> bytes:
    """Return the request for one call that gives back everything written."""
    return request("C", struct.pack("<H", slot))


def calibrate(slot: int, seconds: float) -> bytes:
    """Return the request for how many calls fill ``seconds``."""
    return request("K", struct.pack("<HQ", slot, int(seconds * 1e9)))


def visit(slot: int, calls: int, samples: int) -> bytes:
    """Return the request for ``samples`` timed batches of ``calls`` calls."""
    return request("V", struct.pack("<HQI", slot, calls, samples))


def read_output(payload: bytes, inputs: InputSet) -> Output:
    """Read the answer to ``call``."""
    buffers = []
    at = 16
    for a in inputs.arguments:
        if a.kind == "buffer" and a.writable:
            buffers.append((a.name, payload[at : at + len(a.data)]))
            at += len(a.data)
    return Output(payload[:16], tuple(buffers))


def read_calibration(payload: bytes) -> tuple[int, float]:
    """Read the answer to ``calibrate``: calls a batch, seconds the last batch took."""
    calls, took = struct.unpack("<QQ", payload)
    return calls, took / 1e9


def read_visit(payload: bytes) -> Visit:
    """Read the answer to ``visit``."""
    cpu, switched, *samples = struct.unpack(f"<{len(payload) // 8}Q", payload)
    return Visit(cpu / 1e9, switched, tuple(sample / 1e9 for sample in samples))


def read_probe(payload: bytes) -> float:
    """Read the answer to a probe, in seconds."""
    took: int = struct.unpack("<Q", payload)[0]
    return took / 1e9
