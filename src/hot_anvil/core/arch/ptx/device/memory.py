"""Memory of the simulated device: who may touch what, transactions, bank conflicts, races.

Global memory is one array with gaps between buffers, shared memory one a block, local memory one a
thread. Addresses of shared and local memory count from 0, and from a window of their own where they
are generic.
"""

from collections import Counter
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from hot_anvil.core.arch.ptx.device.schedule import WARP

BASE = 1 << 40  # of global memory
SHARED_WINDOW, LOCAL_WINDOW = 1 << 48, 1 << 49
SECTOR = 32  # bytes that global memory moves at once
BANKS, BANK_BYTES = 32, 4
_GAP = 4096  # bytes around buffers that are nobody's
_ALIGN = 256
Array = NDArray[Any]


class Buffer(NamedTuple):
    """A stretch of global memory."""

    name: str
    low: int  # offset from BASE
    size: int
    writable: bool


class Fault(NamedTuple):
    """An access that is not allowed, or two that race."""

    kind: str  # "outside", "read-only", "misaligned", "null", "race", "window"
    place: int  # number of the instruction
    thread: int  # in its block
    block: int  # number of the block
    address: int
    size: int
    stores: bool
    buffer: str = ""  # the nearest, "" for none
    offset: int = 0  # from its start
    other: int = -1  # of a race: number of the other instruction, -1 where that is not known
    other_thread: int = -1


class FaultError(Exception):
    """The launch ends by a fault."""

    def __init__(self, fault: Fault) -> None:
        super().__init__(fault.kind)
        self.fault = fault


class Memory:
    """Global memory, and what is counted of all."""

    def __init__(self, processors: int) -> None:
        """Start without buffers, on a device with so many multiprocessors."""
        self.processors = processors
        self.data = np.zeros(0, np.uint8)
        self.buffers: list[Buffer] = []
        self.sectors: Counter[int] = Counter()  # by instruction
        self.least: Counter[int] = Counter()  # sectors that the bytes alone would take
        self.conflicts: Counter[int] = Counter()  # further rounds that banks take
        self.races: dict[tuple[int, int], Fault] = {}
        self._lows = np.zeros(0, np.int64)
        self._highs = np.zeros(0, np.int64)
        self._writable = np.zeros(0, np.bool_)

    def allocate(self, name: str, data: bytes, writable: bool) -> int:
        """Return the address of a new buffer."""
        low = -(-(len(self.data) + _GAP) // _ALIGN) * _ALIGN
        size = -(-(low + len(data) + _GAP) // 16) * 16
        grown = np.zeros(size, np.uint8)
        grown[: len(self.data)] = self.data
        grown[low : low + len(data)] = np.frombuffer(data, np.uint8)
        self.data = grown
        self.buffers.append(Buffer(name, low, len(data), writable))
        self._lows = np.array([b.low for b in self.buffers], np.int64)
        self._highs = np.array([b.low + b.size for b in self.buffers], np.int64)
        self._writable = np.array([b.writable for b in self.buffers], np.bool_)
        return BASE + low

    def contents(self, name: str) -> bytes:
        """Return what a buffer holds."""
        found = next(buffer for buffer in self.buffers if buffer.name == name)
        return self.data[found.low : found.low + found.size].tobytes()

    def indices(self, address: Array, size: int, stores: bool, where: "Access") -> Array:
        """Return offsets of global addresses, each of which is checked; raises FaultError."""
        at = address.view(np.int64) - BASE
        if not self.buffers:
            self._fail(address, at, 0, size, stores, where)
        own = np.searchsorted(self._lows, at, "right") - 1
        inside = (own >= 0) & (at + size <= self._highs[own])
        bad = ~inside
        if stores:
            bad |= ~self._writable[own]
        bad |= at % size != 0
        if bad.any():
            self._fail(address, at, int(np.flatnonzero(bad)[0]), size, stores, where)
        self._count_sectors(at, size, where)
        return at

    def _fail(
        self, address: Array, at: Array, first: int, size: int, stores: bool, where: "Access"
    ) -> None:
        offset = int(at[first])
        near = min(
            self.buffers,
            key=lambda b: max(b.low - offset, offset - b.low - b.size, 0),
            default=Buffer("", 0, 0, True),
        )
        inside = near.low <= offset and offset + size <= near.low + near.size
        kind = "outside"
        if inside:
            kind = "misaligned" if offset % size else "read-only"
        if not int(address[first]):
            kind = "null"
        lane = int(where.lanes[first])
        raise FaultError(
            Fault(kind, where.place, int(where.thread[lane]), int(where.block[lane]),
                  int(address[first]), size, stores, near.name, offset - near.low)
        )  # fmt: skip

    def _count_sectors(self, at: Array, size: int, where: "Access") -> None:
        warps = where.lanes // WARP
        first, last = at // SECTOR, (at + size - 1) // SECTOR
        keys = np.unique((warps << 40) | first)
        total = len(keys)
        if (first != last).any():
            total = len(np.unique(np.concatenate((keys, (warps << 40) | last))))
        self.sectors[where.place] += total
        starts = np.unique((warps << 40) | at)
        own = (
            np.bincount((starts >> 40) - int(warps[0] if len(warps) else 0)) if len(starts) else ()
        )
        self.least[where.place] += int(sum(-(-int(n) * size // SECTOR) for n in own if n))


class Access(NamedTuple):
    """Which lanes touch memory, at which instruction."""

    place: int
    lanes: Array  # numbers of lanes
    thread: Array  # of every lane, in its block
    block: Array  # of every lane, its number


class Shared:
    """Shared memory of the blocks that run at once, and who touched it since the last barrier."""

    def __init__(self, memory: Memory, blocks: int, size: int, padded: int, watched: bool) -> None:
        """Make it: ``size`` bytes a block, zero at first; ``watched``: races are looked for."""
        self.memory, self.padded, self.watched = memory, padded, watched
        self.size = -(-max(size, 16) // 16) * 16
        self.asked = size
        self.data = np.zeros(blocks * self.size, np.uint8)
        self.epoch = np.zeros(blocks, np.int64)  # barriers that a block has passed
        words = blocks * self.size if watched else 0
        self._wrote = np.full(words, -1, np.int64)  # epoch
        self._read = np.full(words, -1, np.int64)
        self._writer = np.zeros(words, np.int64)  # lane
        self._reader = np.zeros(words, np.int64)
        self._write_place = np.zeros(words, np.int64)
        self._read_place = np.zeros(words, np.int64)

    def indices(
        self, address: Array, size: int, stores: bool, where: Access, value: Array | None = None
    ) -> Array:
        """Return offsets into ``data``, checked, counted and watched; raises FaultError."""
        at = address.astype(np.int64)
        bad = (at < 0) | (at + size > self.asked) | (at % size != 0)
        if bad.any():
            first = int(np.flatnonzero(bad)[0])
            lane = int(where.lanes[first])
            kind = "misaligned" if at[first] % size else "outside"
            raise FaultError(
                Fault(kind, where.place, int(where.thread[lane]), int(where.block[lane]),
                      int(at[first]), size, stores, "shared memory", int(at[first]))
            )  # fmt: skip
        self._count_conflicts(at, size, where)
        block = where.lanes // self.padded
        found = block * self.size + at
        if self.watched:
            self._watch(found, size, stores, block, where, value)
        return found

    def _count_conflicts(self, at: Array, size: int, where: Access) -> None:
        """Count the rounds that a warp's access takes beyond the first.

        Wider accesses go in halves and quarters of a warp.
        """
        group = where.lanes // (WARP * BANK_BYTES // max(size, BANK_BYTES))
        word = np.unique((group << 32) | (at // BANK_BYTES))
        banks = ((word >> 32) * BANKS) + (word & 0xFFFFFFFF) % BANKS
        keys, counts = np.unique(banks, return_counts=True)
        if len(keys) and counts.max() > 1:
            groups = keys // BANKS
            starts = np.flatnonzero(np.r_[True, groups[1:] != groups[:-1]])
            worst = np.maximum.reduceat(counts, starts)
            self.memory.conflicts[where.place] += int((worst - 1).sum())

    def _watch(
        self, found: Array, size: int, stores: bool, block: Array, where: Access,
        value: Array | None,
    ) -> None:  # fmt: skip
        """Tell of two threads that touch a byte with no barrier between, one of them writing."""
        epoch, lanes = self.epoch[block], where.lanes
        for byte in range(size):
            at = found + byte
            clash = (self._wrote[at] == epoch) & (self._apart(self._writer[at], lanes))
            if clash.any():
                self._tell(int(np.flatnonzero(clash)[0]), at, where, stores, self._write_place,
                           self._writer)  # fmt: skip
            if stores:
                clash = (self._read[at] == epoch) & (self._apart(self._reader[at], lanes))
                if clash.any():
                    self._tell(int(np.flatnonzero(clash)[0]), at, where, stores, self._read_place,
                               self._reader)  # fmt: skip
                if value is not None:
                    self._same_place(at, where, value)
                self._wrote[at], self._writer[at] = epoch, lanes
                self._write_place[at] = where.place
            else:
                self._read[at], self._reader[at] = epoch, lanes
                self._read_place[at] = where.place

    @staticmethod
    def _apart(one: Array, other: Array) -> Array:
        """Tell which lanes are of different warps: those of one go together here."""
        return np.asarray(one // WARP != other // WARP)

    def _same_place(self, at: Array, where: Access, value: Array) -> None:
        order = np.argsort(at, kind="stable")
        places, values = at[order], value[order]
        clash = (places[1:] == places[:-1]) & (values[1:] != values[:-1])
        if clash.any():
            first = int(np.flatnonzero(clash)[0])
            one, other = int(order[first + 1]), int(order[first])
            self._race(where, int(where.lanes[one]), where.place, int(where.lanes[other]),
                       int(at[one]), True)  # fmt: skip

    def _tell(
        self, first: int, at: Array, where: Access, stores: bool, places: Array, lanes: Array
    ) -> None:
        index = int(at[first])
        self._race(where, int(where.lanes[first]), int(places[index]), int(lanes[index]), index,
                   stores)  # fmt: skip

    def _race(
        self, where: Access, lane: int, other: int, other_lane: int, index: int, stores: bool
    ) -> None:
        key = min(where.place, other), max(where.place, other)
        if key in self.memory.races:
            return
        self.memory.races[key] = Fault(
            "race", where.place, int(where.thread[lane]), int(where.block[lane]),
            index % self.size, 1, stores, "shared memory", index % self.size, other,
            int(where.thread[other_lane]),
        )  # fmt: skip


def addresses_of(variables: Sequence[tuple[str, int, int]]) -> tuple[dict[str, int], int]:
    """Return offsets of variables (name, size, align) laid out in their order, and their bytes."""
    at, found = 0, {}
    for name, size, align in variables:
        at = -(-at // align) * align
        found[name] = at
        at += size
    return found, at
