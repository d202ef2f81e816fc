"""Threads for work side by side that ends at once when a person interrupts it."""

import os
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from contextvars import copy_context
from typing import Any, TypeVar

from hot_anvil.system.process.scope import current_scope

Made = TypeVar("Made")


class _Pool(ThreadPoolExecutor):
    """Threads that work in the scope of whoever asks them to."""

    def submit(self, work: Callable[..., Made], /, *arguments: Any, **named: Any) -> "Future[Made]":
        return super().submit(copy_context().run, work, *arguments, **named)


@contextmanager
def thread_pool(at_once: int = 0) -> Iterator[ThreadPoolExecutor]:
    """Give threads, as many as there are cores by default.

    On an error or Ctrl-C the programs that threads of this scope wait for are ended, and what
    was not begun is dropped.
    """
    scope = current_scope()
    if not scope.pools:
        scope.resume()
    pool = _Pool(at_once or os.cpu_count() or 1)
    scope.pools += 1
    try:
        yield pool
    except BaseException:
        pool.shutdown(wait=False, cancel_futures=True)
        scope.end_all()
        raise
    finally:
        pool.shutdown(wait=True, cancel_futures=True)
        scope.pools -= 1
