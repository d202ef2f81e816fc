"""The talk with a worker about timing: what is asked, and what was seen.

The layouts are described at the heads of ``native/worker.c`` and ``timing.c``.
"""

import struct
from collections.abc import Sequence
from typing import NamedTuple

from hot_anvil.core.calling.protocol import ON_LINE, Request, lay_out, request
from hot_anvil.core.inputs.input_sets import InputSet

_BATCH = struct.Struct("<HHBQ")


class Asked(NamedTuple):
    """One batch to make."""

    slot: int
    samples: int
    alone: bool  # each call from the first values, timed by itself
    calls: int  # of a sample
    cold: bool = False  # one call, after what it would find warm was displaced


class Sample(NamedTuple):
    """Some calls in a row, or one at a time."""

    wall: float  # seconds of all its calls
    cpu: float  # seconds of processor time; the same as ``wall`` where calls were timed alone
    away: float  # seconds that the process was off the CPU meanwhile


class Batch(NamedTuple):
    """What one batch saw."""

    probe: float  # seconds of a fixed piece of work just before
    restoring: float  # seconds to put the first values back once
    waits: int  # times the process waited of its own accord
    samples: tuple[Sample, ...]


class Calibration(NamedTuple):
    """How many calls make a sample."""

    calls: int
    seconds: float  # that the best batch of them took
    copies: int  # of the values, called in a row between two looks at the clock; 0: one at a time


class First(NamedTuple):
    """The first call of an entry in a fresh process."""

    seconds: float
    pages: int  # that had to be fetched meanwhile


class Samples(NamedTuple):
    """Where the processor was while an entry was called."""

    start: int  # address of the program's first byte
    calls: int
    seconds: float  # that they took
    places: tuple[int, ...]  # address of each look


class Launch(NamedTuple):
    """One run of a whole program to make."""

    arguments: tuple[str, ...]  # the program first
    variables: tuple[str, ...]  # NAME=VALUE
    folder: str
    stdin: str  # path
    stdout: str  # path
    memory: int  # bytes of address space, 0 for no limit
    file_size: int  # bytes of a file it may write


class Launched(NamedTuple):
    """What a run took."""

    wall: float  # seconds until it had ended
    cpu: float  # seconds of processor time, user and system
    peak: int  # bytes of memory at its most
    status: int  # as wait tells it


def launch(wanted: Launch) -> Request:
    """Return the request that runs a program."""
    texts = (wanted.folder, wanted.stdin, wanted.stdout, *wanted.arguments, *wanted.variables)
    head = struct.pack(
        "<HHQQ", len(wanted.arguments), len(wanted.variables), wanted.memory, wanted.file_size
    )
    return (request("X", head + b"".join(t.encode() + b"\0" for t in texts)),)


def read_launched(payload: bytes) -> Launched:
    """Read the answer to ``launch``."""
    wall, cpu, peak, status = struct.unpack("<QQQQ", payload)
    return Launched(wall / 1e9, cpu / 1e9, peak, status)


def sample(slot: int, calls: int, seconds: float, between: float) -> Request:
    """Return the request to look for ``seconds``, every ``between`` seconds on average."""
    head = struct.pack("<HQQQ", slot, calls, int(seconds * 1e9), int(between * 1e9))
    return (request("H", head),)


def read_samples(payload: bytes) -> Samples:
    """Read the answer to ``sample``."""
    start, calls, took, *places = struct.unpack(f"<{len(payload) // 8}Q", payload)
    return Samples(start, calls, took / 1e9, tuple(places))


def load(library: int, path: str) -> Request:
    """Return the request that loads a build's library; the worker's own entries are number 0."""
    return (request("L", struct.pack("<H", library) + path.encode()),)


def prepare(slot: int, library: int, entry: int, inputs: InputSet) -> Request:
    """Return the request that lays out one input set, to be called many times."""
    layout = lay_out(entry, inputs)
    head = struct.pack("<HH", slot, library) + layout.head(ON_LINE, 0)
    return request("P", head, layout.size), *layout.parts


def join(slot: int, library: int, entry: int, owner: int) -> Request:
    """Return the request for a slot that finds its values where another slot has them."""
    return (request("J", struct.pack("<HHHH", slot, library, entry, owner)),)


def thread_group(slot: int, threads: int) -> Request:
    """Return the request to have a slot called by several threads at once."""
    return (request("W", struct.pack("<HH", slot, threads)),)


def first(slot: int) -> Request:
    """Return the request for one timed call."""
    return (request("F", struct.pack("<H", slot)),)


def state(slot: int) -> Request:
    """Return the request for whether calls read what earlier ones wrote."""
    return (request("S", struct.pack("<H", slot)),)


def calibrate(slot: int, seconds: float, alone: bool) -> Request:
    """Return the request for how many calls fill ``seconds``."""
    return (request("K", struct.pack("<HQB", slot, int(seconds * 1e9), alone)),)


def batches(wanted: Sequence[Asked]) -> Request:
    """Return the request for batches, one after the other."""
    parts = b"".join(
        _BATCH.pack(one.slot, one.samples, one.alone | one.cold << 1, one.calls) for one in wanted
    )
    return (request("V", struct.pack("<I", len(wanted)) + parts),)


def read_probe(payload: bytes) -> float:
    """Read the answer to a probe, in seconds."""
    took: int = struct.unpack("<Q", payload)[0]
    return took / 1e9


def read_first(payload: bytes) -> First:
    """Read the answer to ``first``."""
    took, pages = struct.unpack("<QQ", payload)
    return First(took / 1e9, pages)


def read_calibration(payload: bytes) -> Calibration:
    """Read the answer to ``calibrate``."""
    calls, took, copies = struct.unpack("<QQQ", payload)
    return Calibration(calls, took / 1e9, copies)


def read_batches(payload: bytes, wanted: Sequence[Asked]) -> list[Batch]:
    """Read the answer to ``batches``."""
    numbers = struct.unpack(f"<{len(payload) // 8}Q", payload)
    out, at = [], 0
    for asked in wanted:
        probe, restoring, waits = numbers[at : at + 3]
        end = at + 3 + 3 * asked.samples
        samples = tuple(
            Sample(*(number / 1e9 for number in numbers[k : k + 3])) for k in range(at + 3, end, 3)
        )
        out.append(Batch(probe / 1e9, restoring / 1e9, waits, samples))
        at = end
    return out
