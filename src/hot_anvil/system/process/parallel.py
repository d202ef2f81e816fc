"""Spread pure work over the cores: processes that share what is in memory."""

import gc
import os
import pickle
from collections.abc import Callable, Sequence
from typing import Any

from hot_anvil.errors import FaultError

_WORTH = 20_000  # instructions below which starting processes costs more than it saves


def over_cores(work: Callable[[int], Any], count: int, size: int) -> Sequence[Any]:
    """Return ``work(k)`` for each k below ``count``; ``size`` says how much it is in all.

    Children are forked, so they see all that ``work`` refers to; what they
    return comes back through a pipe.
    """
    cores = min(len(os.sched_getaffinity(0)), count)
    if size < _WORTH or cores < 2:
        return [work(k) for k in range(count)]
    gc.freeze()  # collecting would write to all that the children share
    children = [_start(work, range(part, count, cores)) for part in range(1, cores)]
    out: list[Any] = [None] * count
    for k in range(0, count, cores):
        out[k] = work(k)
    for part, (child, reading) in enumerate(children, 1):
        with os.fdopen(reading, "rb") as pipe:
            told = pipe.read()
        _, status = os.waitpid(child, 0)
        if status or not told:
            raise FaultError(f"a process that compares functions ended with {status}.")
        out[part::cores] = pickle.loads(told)  # from our own child
    return out


def _start(work: Callable[[int], Any], pieces: range) -> tuple[int, int]:
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
