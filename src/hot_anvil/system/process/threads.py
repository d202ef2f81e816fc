"""Threads for work side by side that ends at once when a person interrupts it.

The system may give a signal to any thread, and only the main one acts on it, once it runs: so
whoever waits wakes up now and then.
"""

import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import contextmanager, suppress
from contextvars import copy_context
from queue import Empty, SimpleQueue
from typing import Any, TypeVar

from hot_anvil.system.process.scope import AWAKE, Scope, current_scope

Made = TypeVar("Made")


class _Pool(ThreadPoolExecutor):
    """Threads that work in a scope of their own, inside that of whoever asks them to."""

    def __init__(self, at_once: int, scope: Scope) -> None:
        super().__init__(at_once)
        self._scope = scope

    def map(
        self,
        fn: Callable[..., Made],
        *iterables: Iterable[Any],
        timeout: float | None = None,
        chunksize: int = 1,
    ) -> "Iterator[Made]":
        """Give what ``fn`` makes of each row, in order; after an error the rest is dropped.

        The last two are not used here.
        """
        futures = [self.submit(fn, *row) for row in zip(*iterables, strict=False)]

        def results() -> Iterator[Made]:
            try:
                for future in futures:
                    yield _result(future)
            finally:
                for future in futures:
                    future.cancel()

        return results()

    def submit(self, work: Callable[..., Made], /, *arguments: Any, **named: Any) -> "Future[Made]":
        def inside() -> Made:
            with self._scope.entered():
                return work(*arguments, **named)

        return super().submit(copy_context().run, inside)


def _result(future: "Future[Made]") -> Made:
    while not future.done():
        wait([future], AWAKE)
    return future.result()


def finished(futures: "Iterable[Future[Made]]") -> "Iterator[Future[Made]]":
    """Give each future when it is done."""
    every = list(futures)
    done: SimpleQueue[Future[Made]] = SimpleQueue()
    for future in every:
        future.add_done_callback(done.put)
    for _ in every:
        found = None
        while found is None:
            with suppress(Empty):
                found = done.get(timeout=AWAKE)
        yield found


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
