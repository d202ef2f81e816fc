"""Which block runs on which multiprocessor of the simulated device.

A multiprocessor holds as many blocks at once as its threads, its shared memory and its places
allow. Blocks start in their order; once all places are taken, the next waits until those that run
are done, and goes to the place that has executed least.
"""

from collections.abc import Sequence
from math import prod
from typing import Literal, NamedTuple

WARP = 32
Scheduler = Literal["spread", "packed"]
SPREAD: Scheduler = "spread"  # one block a multiprocessor, then a second one each ...
PACKED: Scheduler = "packed"  # the first multiprocessor is filled, then the next ...
SCHEDULERS = (SPREAD, PACKED)


class Device(NamedTuple):
    """What the simulated device has: the limits of sm_80, on few multiprocessors."""

    processors: int = 4
    threads: int = 2048  # of a multiprocessor
    blocks: int = 32
    shared: int = 164 << 10  # bytes
    registers: int = 65536


class Placement(NamedTuple):
    """Where a block ran."""

    block: int
    processor: int
    wave: int
    start: int  # instructions of warps that its place had executed before
    end: int


def resident(device: Device, block: Sequence[int], shared: int) -> int:
    """Return how many blocks a multiprocessor holds at once, by threads, places and memory."""
    warps = -(-prod(block) // WARP)
    most = min(device.blocks, device.threads // (warps * WARP))
    return min(most, device.shared // shared) if shared else most


def slots_of(device: Device, block: Sequence[int], shared: int, scheduler: Scheduler) -> list[int]:
    """Return the multiprocessor of each place for a block, in the order in which they are taken."""
    many = max(resident(device, block, shared), 1)
    if scheduler == PACKED:
        return [processor for processor in range(device.processors) for _ in range(many)]
    return [processor for _ in range(many) for processor in range(device.processors)]
