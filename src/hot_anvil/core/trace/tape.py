"""The record of a call that was stepped through: written once, read forwards, sought in.

The layout of a record is described at the head of ``native/tape.h``.
"""

import struct
from collections.abc import Iterator, Sequence
from typing import BinaryIO, NamedTuple

from hot_anvil.core.arch.state import Register

LOADED, STORED, OVERWRITTEN = 0, 1, 2
BEYOND, FULL = 1, 2
_HEAD = struct.Struct("<QBBI")
_ACCESS = struct.Struct("<BBQ")
_KEPT_EVERY = 1024  # steps from one state that is kept, to seek from, to the next


class Access(NamedTuple):
    """Memory that an instruction read or wrote."""

    stored: bool
    address: int
    data: bytes  # as it is after the instruction
    before: bytes | None = None  # of a store; None where it is not known


class Change(NamedTuple):
    """A register that an instruction changed."""

    register: int  # its number
    before: int
    after: int


class Step(NamedTuple):
    """One executed instruction of the code under study."""

    number: int  # from 1
    address: int  # in the program's file
    changes: tuple[Change, ...]
    accesses: tuple[Access, ...]
    beyond: bool  # other code ran before the next step; what it changed is among these


def pack(
    address: int, changes: Sequence[tuple[int, bytes]], accesses: Sequence[Access], flags: int = 0
) -> bytes:
    """Return one record; ``changes`` are numbers of registers with their new values."""
    parts = [_HEAD.pack(address, len(changes), flags, len(accesses))]
    for one in accesses:
        kind = LOADED if not one.stored else STORED if one.before is None else OVERWRITTEN
        parts += (_ACCESS.pack(kind, len(one.data), one.address), one.before or b"", one.data)
    for number, value in changes:
        parts += (bytes((number,)), value)
    return b"".join(parts)


class Tape:
    """A record in a file; its registers as integers, by number."""

    def __init__(self, file: BinaryIO, registers: Sequence[Register]) -> None:
        """Open a record; an end that is missing is left out."""
        import mmap

        self.registers = tuple(registers)
        self._sizes = tuple(-(-register.bits // 8) for register in registers)
        file.seek(0, 2)
        self._data: mmap.mmap | bytes = b""
        if file.tell():
            self._data = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
        # For each step to seek from: where it lies, and the registers before it.
        self._kept: list[tuple[int, tuple[int, ...]]] = []
        self.full = False  # there were more steps than were asked for
        self.first = [0] * len(registers)  # the state at the start
        self.base = 0  # what addresses of data in the program's file count from
        self._begin = self._read_first()
        self.count = self._index()

    def _read_first(self) -> int:
        if len(self._data) < _HEAD.size:
            return 0
        self.base, count, _, _ = _HEAD.unpack_from(self._data)
        at = _HEAD.size
        for _ in range(count):
            number = self._data[at]
            size = self._sizes[number]
            self.first[number] = int.from_bytes(self._data[at + 1 : at + 1 + size], "little")
            at += 1 + size
        return at

    def _index(self) -> int:
        """Return how many steps there are, and keep what they can be sought from."""
        data, at, count = self._data, self._begin, 0
        state = list(self.first)
        end = len(data)
        while at + _HEAD.size <= end:
            if count % _KEPT_EVERY == 0:
                self._kept.append((at, tuple(state)))
            _, registers, flags, accesses = _HEAD.unpack_from(data, at)
            if flags & FULL:
                self.full = True
                break
            at += _HEAD.size
            try:
                for _ in range(accesses):
                    kind, size = data[at], data[at + 1]
                    at += _ACCESS.size + size * (2 if kind == OVERWRITTEN else 1)
                for _ in range(registers):
                    number = data[at]
                    size = self._sizes[number]
                    state[number] = int.from_bytes(data[at + 1 : at + 1 + size], "little")
                    at += 1 + size
            except IndexError:
                break
            if at > end:
                break
            count += 1
        return count

    def steps(self, start: int = 1) -> Iterator[tuple[Step, list[int]]]:
        """Give the steps from one on, each with the registers after it: a list that goes on living.

        The list is changed by the next step.
        """
        if not self._kept or start > self.count:
            return
        block = (start - 1) // _KEPT_EVERY
        at, kept = self._kept[block]
        state = list(kept)
        for number in range(block * _KEPT_EVERY + 1, self.count + 1):
            step, at = self._step(number, at, state)
            if number >= start:
                yield step, state

    def state_before(self, number: int) -> list[int]:
        """Return the registers before a step."""
        if number <= 1:
            return list(self.first)
        for _, state in self.steps(number - 1):
            return state
        return list(self.first)

    def _step(self, number: int, at: int, state: list[int]) -> tuple[Step, int]:
        data = self._data
        address, registers, flags, accesses = _HEAD.unpack_from(data, at)
        at += _HEAD.size
        touched = []
        for _ in range(accesses):
            kind, size, where = _ACCESS.unpack_from(data, at)
            at += _ACCESS.size
            before = None
            if kind == OVERWRITTEN:
                before = bytes(data[at : at + size])
                at += size
            touched.append(Access(kind != LOADED, where, bytes(data[at : at + size]), before))
            at += size
        changes = []
        for _ in range(registers):
            which = data[at]
            size = self._sizes[which]
            value = int.from_bytes(data[at + 1 : at + 1 + size], "little")
            changes.append(Change(which, state[which], value))
            state[which] = value
            at += 1 + size
        return Step(number, address, tuple(changes), tuple(touched), bool(flags & BEYOND)), at
