"""Launches on the simulated device: blocks on multiprocessors, warps, barriers, counts.

The lanes of a warp that stand at the lowest instruction go first, so that ways that parted join
where they meet. All warps of the blocks that run at once go on in this way, side by side.
"""

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np

from hot_anvil.core.arch.ptx.device.decode import Step, decode
from hot_anvil.core.arch.ptx.device.lanes import Lanes, Mask, UnknownInstructionError
from hot_anvil.core.arch.ptx.device.memory import (
    BASE,
    Fault,
    FaultError,
    Memory,
    Shared,
    addresses_of,
)
from hot_anvil.core.arch.ptx.device.schedule import WARP, Device, Placement, Scheduler, slots_of
from hot_anvil.core.arch.ptx.device.watching import Watch
from hot_anvil.core.arch.ptx.module import Kernel, Module

MOST_INSTRUCTIONS = 200_000_000  # of warps; a launch that takes more counts as hung
_MOST_LANES = 8192  # that go side by side
_FAR = np.int64(1 << 60)
Three = tuple[int, int, int]


class Shape(NamedTuple):
    """How a kernel is launched."""

    grid: Three  # blocks, x first
    block: Three  # threads
    shared: int = 0  # bytes of shared memory beside what the kernel declares


class Counts(NamedTuple):
    """What a launch did, by number of the instruction."""

    threads: Counter[int]  # instructions of threads
    warps: Counter[int]  # instructions of warps
    diverged: Counter[int]  # branches of a warp whose threads went both ways
    sectors: Counter[int]  # of 32 bytes, of global memory
    least: Counter[int]  # sectors that the bytes alone would take
    conflicts: Counter[int]  # further rounds that banks of shared memory take
    barriers: int  # of blocks


class Launched(NamedTuple):
    """What came of a launch."""

    fault: Fault | None
    hung: bool
    counts: Counts
    races: tuple[Fault, ...]
    placements: tuple[Placement, ...]  # of blocks, in their order
    shared: int  # bytes of shared memory of a block
    unknown: str = ""  # what the device does not know and came to, it ends the launch


class Launch:
    """One kernel of a module, ready to be launched; it is understood once."""

    def __init__(self, module: Module, name: str) -> None:
        """Understand a kernel; raises UnknownInstructionError for what the device does not know."""
        self.module, self.kernel = module, module.kernels[name]
        self.steps = decode(self.kernel)
        self._leaders = _leaders(self.kernel, self.steps)

    def run(
        self,
        memory: Memory,
        shape: Shape,
        parameters: Sequence[bytes],
        device: Device,
        scheduler: Scheduler,
        watched: bool = True,
        watch: Watch | None = None,
    ) -> Launched:
        """Launch it; ``parameters`` are their bytes, ``watched``: races are looked for.

        ``watch`` records what some threads do.
        """
        running = _Running(self, memory, shape, parameters, device, scheduler, watched)
        running.watch = watch
        return running.run()

    def segment(self, place: int) -> tuple[list[Step], int]:
        """Return the instructions from one to the next that others may come to, and its number."""
        end = place + 1
        while end < len(self.steps) and end not in self._leaders:
            end += 1
        return self.steps[place:end], end


def _leaders(kernel: Kernel, steps: Sequence[Step]) -> frozenset[int]:
    found = set(kernel.labels.values())
    found.update(n + 1 for n, step in enumerate(steps) if step.kind != "plain")
    return frozenset(found)


class _Running:
    def __init__(
        self,
        launch: Launch,
        memory: Memory,
        shape: Shape,
        parameters: Sequence[bytes],
        device: Device,
        scheduler: Scheduler,
        watched: bool,
    ) -> None:
        self.launch, self.memory, self.shape = launch, memory, shape
        self.device, self.scheduler, self.watched = device, scheduler, watched
        kernel = launch.kernel
        names = (parameter.name for parameter in kernel.parameters)
        self.parameters = dict(zip(names, parameters, strict=True))
        own = (*launch.module.variables, *kernel.variables)
        self.addresses: dict[str, int] = {}
        shared = [(v.name, v.size, v.align) for v in own if v.space == "shared"]
        shared.sort(key=lambda one: one[1] == 0)  # what the launch sizes comes last
        places, self.shared = addresses_of(shared)
        local, self.local = addresses_of(
            [(v.name, v.size, v.align) for v in own if v.space == "local"]
        )
        self.addresses |= places | local
        self.shared += shape.shared
        self.addresses |= _place_globals(launch.module, memory)
        self.threads: Counter[int] = Counter()
        self.warps: Counter[int] = Counter()
        self.diverged: Counter[int] = Counter()
        self.barriers = self.executed = 0
        self.watch: Watch | None = None
        self.segments: dict[int, tuple[list[Step], int]] = {}

    def run(self) -> Launched:
        total = int(np.prod(self.shape.grid))
        slots = slots_of(self.device, self.shape.block, self.shared, self.scheduler)
        busy = [0] * len(slots)  # instructions of warps that a slot has had
        order = list(range(len(slots)))
        placements: list[Placement] = []
        fault, hung, block, wave, unknown = None, False, 0, 0, ""
        with np.errstate(all="ignore"):
            while block < total and not fault and not hung and not unknown:
                taken = order[: total - block]
                blocks = list(range(block, block + len(taken)))
                where = [slots[slot] for slot in taken]
                try:
                    fault, hung, cost = self._wave(blocks, where)
                except UnknownInstructionError as error:
                    unknown = str(error)
                    break
                for one, slot in zip(blocks, taken, strict=True):
                    started = busy[slot]
                    busy[slot] += cost[one]
                    placements.append(Placement(one, slots[slot], wave, started, busy[slot]))
                # Whoever is done first takes the next block.
                order.sort(key=lambda slot: busy[slot])
                block += len(taken)
                wave += 1
        memory = self.memory
        counts = Counts(
            self.threads, self.warps, self.diverged, memory.sectors, memory.least,
            memory.conflicts, self.barriers,
        )  # fmt: skip
        return Launched(
            fault,
            hung,
            counts,
            tuple(memory.races.values()),
            tuple(placements),
            self.shared,
            unknown,
        )

    def _wave(
        self, blocks: Sequence[int], where: Sequence[int]
    ) -> tuple[Fault | None, bool, Mapping[int, int]]:
        """Run blocks that are there at once; return what each cost in instructions of warps."""
        padded = -(-int(np.prod(self.shape.block)) // WARP) * WARP
        many = max(_MOST_LANES // padded, 1)
        cost: dict[int, int] = dict.fromkeys(blocks, 0)
        for first in range(0, len(blocks), many):
            lanes = self._lanes(blocks[first : first + many], where[first : first + many])
            try:
                spent = self._go(lanes)
            except FaultError as error:
                return error.fault, False, cost
            cost.update(zip(blocks[first : first + many], spent, strict=True))
            if self.executed > MOST_INSTRUCTIONS:
                return None, True, cost
        return None, False, cost

    def _lanes(self, blocks: Sequence[int], where: Sequence[int]) -> Lanes:
        shape = self.shape
        lanes = Lanes(
            self.launch.kernel, (shape.grid, shape.block), blocks, where, self.memory,
            self.addresses,
        )  # fmt: skip
        lanes.parameters = self.parameters
        lanes.heard = self.watch.touch if self.watch else None
        lanes.shared_names = frozenset(
            v.name for v in self.launch.module.variables if v.space == "shared"
        )
        lanes.shared = Shared(self.memory, len(blocks), self.shared, lanes.padded, self.watched)
        lanes.local_size, lanes.local_stride = self.local, -(-self.local // 16) * 16
        lanes.local = np.zeros(lanes.count * lanes.local_stride, np.uint8)
        return lanes

    def _go(self, lanes: Lanes) -> list[int]:
        """Run until all lanes are done; return the instructions of warps that each block took."""
        spent = np.zeros(len(lanes.blocks), np.int64)
        warps_of = lanes.padded // WARP
        while self.executed <= MOST_INSTRUCTIONS:
            ready = np.where(lanes.done | lanes.waiting, _FAR, lanes.pc)
            place = int(ready.min())
            if place == _FAR:
                if not self._release(lanes):
                    break
                continue
            if place >= len(self.launch.steps):
                lanes.done |= ready == place
                continue
            mask = ready == place
            if place not in self.segments:
                self.segments[place] = self.launch.segment(place)
            steps, end = self.segments[place]
            active = mask.reshape(-1, WARP).any(1)
            self._count(place, end, int(np.count_nonzero(mask)), int(np.count_nonzero(active)))
            spent += active.reshape(-1, warps_of).sum(1) * (end - place)
            lanes.pc[mask] = end
            everybody = bool((mask | lanes.done).all())
            for number, step in enumerate(steps, place):
                self._one(lanes, step, number, mask, everybody)
        return [int(n) for n in spent]

    def _one(self, lanes: Lanes, step: Step, number: int, mask: Mask, everybody: bool) -> None:
        if self.watch is None:
            self._step(lanes, step, number, mask, everybody)
            return
        self.watch.around(
            lanes, step, number, mask, lambda: self._step(lanes, step, number, mask, everybody)
        )

    def _count(self, place: int, end: int, threads: int, warps: int) -> None:
        self.executed += warps * (end - place)
        for number in range(place, end):
            self.threads[number] += threads
            self.warps[number] += warps

    def _step(self, lanes: Lanes, step: Step, number: int, mask: Mask, everybody: bool) -> None:
        own = mask
        if step.guard is not None:
            own = mask & step.guard(lanes)
        lanes.free = everybody and step.guard is None
        if step.kind == "plain":
            if step.guard is None or own.any():
                step.run(lanes, own)
            return
        if step.kind == "branch":
            if step.guard is not None:
                self._diverge(number, mask, own)
            lanes.pc[own] = step.target
        elif step.kind == "leave":
            lanes.done |= own
        elif step.kind == "barrier":
            lanes.waiting |= own
        elif own.any():
            lane = int(np.flatnonzero(own)[0])
            block = int(lanes.blocks[lanes.block_of[lane]])
            raise FaultError(Fault("trap", number, int(lanes.thread[lane]), block, 0, 0, False))

    def _diverge(self, number: int, mask: Mask, own: Mask) -> None:
        taken = own.reshape(-1, WARP).any(1)
        other = (mask & ~own).reshape(-1, WARP).any(1)
        self.diverged[number] += int(np.count_nonzero(taken & other))

    def _release(self, lanes: Lanes) -> bool:
        """Let blocks go on whose threads have all come to the barrier; tell whether any did."""
        waiting = lanes.waiting.reshape(-1, lanes.padded)
        done = lanes.done.reshape(-1, lanes.padded)
        come = (waiting | done).all(1) & waiting.any(1)
        if not come.any():
            return False
        lanes.waiting &= ~np.repeat(come, lanes.padded)
        lanes.shared.epoch += come
        self.barriers += int(np.count_nonzero(come))
        return True


def _place_globals(module: Module, memory: Memory) -> dict[str, int]:
    """Place the variables of a module; what points to others is filled in once all have a place."""
    known = {buffer.name for buffer in memory.buffers}
    own = [v for v in module.variables if v.space in ("global", "const")]
    for variable in own:
        if variable.name not in known:
            data = variable.data or bytes(variable.size)
            memory.allocate(variable.name, data, variable.space == "global")
    places = {buffer.name: BASE + buffer.low for buffer in memory.buffers}
    for variable in own:
        for offset, name in variable.pointers:
            if name in places:
                at = places[variable.name] - BASE + offset
                memory.data[at : at + 8] = np.frombuffer(
                    places[name].to_bytes(8, "little"), np.uint8
                )
    return {variable.name: places[variable.name] for variable in own}
