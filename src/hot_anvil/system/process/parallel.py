"""Spread pure work over the cores: processes that share what is in memory."""

import gc
import os
import pickle
from collections.abc import Callable, Sequence
from typing import Any

from hot_anvil.errors import FaultError

_WORTH = 1_500  # instructions below which starting processes costs more than it saves


def over_cores(work: Callable[[int], Any], sizes: Sequence[int]) -> Sequence[Any]:
    """Return ``work(k)`` for each of ``sizes``, the instructions that each piece is about.

    Children are forked, so they see all that ``work`` refers to; what they
    return comes back through a pipe.
    """
    cores = min(len(os.sched_getaffinity(0)), len(sizes))
    if sum(sizes) < _WORTH or cores < 2:
        return [work(k) for k in range(len(sizes))]
    gc.freeze()  # collecting would write to all that the children share
    own, *others = _shares(sizes, cores)
    children = [(share, *_start(work, share)) for share in others]
    out: list[Any] = [None] * len(sizes)
    for k in own:
        out[k] = work(k)
    for share, child, reading in children:
        with os.fdopen(reading, "rb") as pipe:
            told = pipe.read()
        _, status = os.waitpid(child, 0)
        if status or not told:
            raise FaultError(f"a process that compares functions ended with {status}.")
        for k, piece in zip(share, pickle.loads(told), strict=True):  # from our own child
            out[k] = piece
    return out


def _shares(sizes: Sequence[int], cores: int) -> list[list[int]]:
    """Deal the pieces out, the largest first, each to whoever has least so far."""
    shares: list[list[int]] = [[] for _ in range(cores)]
    load = [0] * cores
    for k in sorted(range(len(sizes)), key=lambda k: -sizes[k]):
        least = load.index(min(load))
        shares[least].append(k)
        load[least] += sizes[k] + 1
    return shares


def _start(work: Callable[[int], Any], pieces: Sequence[int]) -> tuple[int, int]:
    """Fork a process for some pieces; return its number and the pipe to read from."""
    reading, writing = os.pipe()
    child = os.fork()
    if child:
        os.close(writing)
        return child, reading
    code = 1
    try:
        os.close(reading)
        with os.fdopen(writing, "wb") as pipe:
            pickle.dump([work(k) for k in pieces], pipe, pickle.HIGHEST_PROTOCOL)
        code = 0
    finally:
        os._exit(code)  # nothing of the parent's is to be flushed or cleaned up here
