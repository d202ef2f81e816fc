"""What some threads of one block do, instruction by instruction, while a launch runs."""

import re
from collections.abc import Callable, Iterator, Sequence
from typing import Any, NamedTuple

import numpy as np

from hot_anvil.core.arch.ptx.device.decode import Step
from hot_anvil.core.arch.ptx.device.lanes import Array, Lanes, Mask
from hot_anvil.core.arch.ptx.device.memory import BASE, Buffer

_NAME = re.compile(r"[%\w$]+")
_OF_FUNCTION = re.compile(r"^_ZZ.*E\d*([A-Za-z]\w*?)(?:_\d+)?$")


class Set(NamedTuple):
    """A register that an instruction set."""

    name: str
    type: str  # as it is declared: "b32", "pred"
    threads: tuple[int, ...]  # that it was set for
    before: tuple[bytes, ...]  # of each of them
    after: tuple[bytes, ...]


class Touched(NamedTuple):
    """What one thread read or wrote in memory."""

    thread: int
    space: str  # "global", "shared", "local"
    name: str  # of the buffer or variable, "" where that is not known
    offset: int  # bytes from its start
    type: str  # of the instruction
    stored: bool
    before: bytes
    after: bytes  # the same where it was read


class Moment(NamedTuple):
    """One instruction that a watched thread came to."""

    place: int  # number of the instruction in the kernel
    threads: tuple[int, ...]  # watched ones that came to it
    does: tuple[int, ...]  # those that it is for: its predicate holds for them
    sets: tuple[Set, ...]
    touched: tuple[Touched, ...]


class Watch:
    """Records some threads of one block; of more than ``most`` instructions only that."""

    def __init__(self, block: int, threads: Sequence[int], most: int) -> None:
        self.block, self.threads, self.most = block, tuple(threads), most
        self.moments: list[Moment] = []
        self.full = False
        self.buffers: tuple[tuple[str, int, int], ...] = ()  # name, address, bytes
        self._touched: list[tuple[Any, ...]] = []
        self._mask: Mask | None = None

    def around(
        self, lanes: Lanes, step: Step, number: int, mask: Mask, run: Callable[[], None]
    ) -> None:
        """Run one instruction of some lanes, and record what it does to the watched ones."""
        own = self._watched(lanes, mask)
        if own is None or not len(own):
            run()
            return
        if len(self.moments) >= self.most:
            self.full = True
            run()
            return
        does = own if step.guard is None else own[np.asarray(step.guard(lanes))[own]]
        before = {name: register[does] for name, register in lanes.registers.items()}
        self._touched = []
        self._mask = np.zeros(lanes.count, np.bool_)
        self._mask[does] = True
        try:
            run()
        finally:
            self._mask = None
            sets = tuple(self._sets(lanes, does, before, _written(lanes, number)))
            self.moments.append(
                Moment(number, _numbers(lanes, own), _numbers(lanes, does), sets,
                       tuple(self._memory(lanes)))
            )  # fmt: skip

    def _watched(self, lanes: Lanes, mask: Mask) -> Array | None:
        """Return the watched lanes among those of a mask."""
        found = np.flatnonzero(lanes.blocks == self.block)
        if not len(found):
            return None
        if not self.buffers:
            self.buffers = tuple((b.name, BASE + b.low, b.size) for b in lanes.memory.buffers)
        every = int(found[0]) * lanes.padded + np.asarray(self.threads)
        return np.asarray(every[mask[every]])

    def touch(
        self,
        space: str,
        kind: str,
        stores: bool,
        active: Array,
        offsets: Array,
        data: Array,
        found: Array,
    ) -> None:
        """Take note of an access while it is made: ``found`` of ``data`` are what lanes touch."""
        if self._mask is None:
            return
        chosen = self._mask[active]
        if chosen.any():
            index = found[chosen]
            held = data[index].copy()
            self._touched.append((space, kind, stores, active[chosen], offsets[chosen], data,
                                  index, held))  # fmt: skip

    def _sets(
        self, lanes: Lanes, does: Array, before: dict[str, Array], written: frozenset[str]
    ) -> Iterator[Set]:
        for name, register in lanes.registers.items():
            now = register[does]
            old = before.get(name)
            old = np.zeros_like(now) if old is None else old
            rows = np.flatnonzero((_bytes(now) != _bytes(old)).any(1))  # a NaN equals itself
            if name in written:  # be it with what it held before
                rows = np.arange(len(now))
            if not len(rows):
                continue
            kind = lanes.kernel.register_type(name)
            yield Set(
                name, kind, _numbers(lanes, does[rows]),
                tuple(old[row].tobytes() for row in rows),
                tuple(now[row].tobytes() for row in rows),
            )  # fmt: skip

    def _memory(self, lanes: Lanes) -> Iterator[Touched]:
        for space, kind, stores, own, offsets, data, index, held in self._touched:
            after = data[index] if stores else held
            for lane, offset, old, new in zip(own, offsets, held, after, strict=True):
                name, away = _named(lanes, space, int(offset))
                yield Touched(
                    int(lanes.thread[lane]), space, name, away, kind, stores, old.tobytes(),
                    new.tobytes(),
                )  # fmt: skip


def _written(lanes: Lanes, number: int) -> frozenset[str]:
    """Return the registers that an instruction names as what it sets."""
    item = lanes.kernel.instructions[number]
    word = item.mnemonic.rpartition(" ")[2].partition(".")[0]
    if word in ("st", "red", "bra", "bar", "barrier") or not item.operands:
        return frozenset()
    return frozenset(_NAME.findall(item.operands[0])) & lanes.registers.keys()


def _bytes(values: Array) -> Array:
    return np.asarray(values.view(np.uint8)).reshape(len(values), values.dtype.itemsize)


def _numbers(lanes: Lanes, which: Array) -> tuple[int, ...]:
    return tuple(int(n) for n in lanes.thread[which])


def _named(lanes: Lanes, space: str, offset: int) -> tuple[str, int]:
    """Return the buffer or variable at an offset of a space, and how far into it that is."""
    if space == "global":
        near = [b for b in lanes.memory.buffers if b.low <= offset]
        last = max(near, key=lambda b: b.low, default=Buffer("", 0, 0, False))
        return plain_name(last.name), offset - last.low
    own = {v.name for v in lanes.kernel.variables if v.space == space} | lanes.shared_names
    names = [(at, name) for name, at in lanes.addresses.items() if name in own and at <= offset]
    at, name = max(names, default=(0, ""))
    return plain_name(name), offset - at


def plain_name(name: str) -> str:
    """Return a variable's name as its source has it, where that can be told."""
    found = _OF_FUNCTION.match(name)
    return found[1] if found else name
