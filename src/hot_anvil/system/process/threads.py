"""Threads for work side by side that ends at once when a person interrupts it."""

import os
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager

from hot_anvil.system.process.running import end_all, resume

_active: list[ThreadPoolExecutor] = []


@contextmanager
def thread_pool(at_once: int = 0) -> Iterator[ThreadPoolExecutor]:
    """Give threads, as many as there are cores by default.

    On an error or Ctrl-C the programs that threads wait for are ended, and
    what was not begun is dropped.
    """
    if not _active:
        resume()
    pool = ThreadPoolExecutor(at_once or os.cpu_count() or 1)
    _active.append(pool)
    try:
        yield pool
    except BaseException:
        pool.shutdown(wait=False, cancel_futures=True)
        end_all()
        raise
    finally:
        pool.shutdown(wait=True, cancel_futures=True)
        _active.remove(pool)
