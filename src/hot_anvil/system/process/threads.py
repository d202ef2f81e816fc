"""Threads for work side by side that ends at once when a person interrupts it."""

import os
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from contextvars import copy_context
from typing import Any, TypeVar

from hot_anvil.system.process.scope import Scope, current_scope

Made = TypeVar("Made")


class _Pool(ThreadPoolExecutor):
    """Threads that work in a scope of their own, inside that of whoever asks them to."""

    def __init__(self, at_once: int, scope: Scope) -> None:
        super().__init__(at_once)
        self._scope = scope

    def submit(self, work: Callable[..., Made], /, *arguments: Any, **named: Any) -> "Future[Made]":
        def inside() -> Made:
            with self._scope.entered():
                return work(*arguments, **named)

        return super().submit(copy_context().run, inside)


@contextmanager
def thread_pool(at_once: int = 0) -> Iterator[ThreadPoolExecutor]:
    """Give threads, as many as there are cores by default.

    On an error or Ctrl-C the programs that these threads wait for are ended, and what was not
    begun is dropped.
    """
    with current_scope().inner() as scope:
        pool = _Pool(at_once or os.cpu_count() or 1, scope)
        try:
            yield pool
        except BaseException:
            pool.shutdown(wait=False, cancel_futures=True)
            scope.end_all()
            raise
        finally:
            pool.shutdown(wait=True, cancel_futures=True)
