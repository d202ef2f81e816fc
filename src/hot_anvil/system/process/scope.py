"""What the programs that one workspace starts have in common: limits, and being ended together.

The use cases of a workspace run inside its scope; whatever starts a program asks for the scope it
is in, so that two workspaces in one process share neither limits nor an interrupt. Each pool of
threads is a scope inside that of whoever opened it: an error in it ends what its own threads wait
for, and nothing of the pools around it.
"""

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from threading import Event
from typing import NamedTuple

from hot_anvil.system.process.confinement import Confinement

AWAKE = 0.2  # seconds after which whoever waits looks whether a signal came
COMPILE_SECONDS = 300.0  # that a compiler may usually run


class Limits(NamedTuple):
    """Limits of compiling, and of what the code may do."""

    at_once: int = 0  # compilers at once, 0 for as many as there are cores
    seconds: float = 0.0  # that one may run, 0 for the usual
    memory: int = 0  # bytes of address space for each, 0 for no limit
    free: bool = False  # the code may write files and reach the network


_NOTHING_HOLDS = Confinement("", "")


class Scope:
    """The limits of one workspace, its live programs, and what holds the code that it runs."""

    def __init__(
        self,
        limits: Limits = Limits(),  # noqa: B008 - immutable
        around: "Scope | None" = None,
        confinement: Callable[[], Confinement] = lambda: _NOTHING_HOLDS,
    ) -> None:
        self.limits = limits
        self.confinement = confinement
        self._around = around
        self._inner: set[Scope] = set()
        # Leaders of process groups, with what ends each with all that it started.
        self._live: dict[int, Callable[[int], None]] = {}
        self._ending = Event()

    @contextmanager
    def inner(self) -> "Iterator[Scope]":
        """Give a scope inside this one, with its limits."""
        made = Scope(self.limits, self, self.confinement)
        self._inner.add(made)
        try:
            yield made
        finally:
            self._inner.discard(made)

    def _is_inside(self, other: "Scope") -> bool:
        return self is other or bool(self._around and self._around._is_inside(other))

    @contextmanager
    def entered(self) -> Iterator[None]:
        """Run what follows inside this scope, or inside that within it which is entered already.

        What a pool's thread does is so ended with the pool, whichever use case it calls.
        """
        now = _current.get()
        token = _current.set(now if now and now._is_inside(self) else self)
        try:
            yield
        finally:
            _current.reset(token)

    def live(self, pid: int, end: "Callable[[int], None] | None" = None) -> None:
        """Note the leader of a process group that may have to be ended, by ``end`` or a kill."""
        self._live[pid] = end or _kill_group
        if self.is_ending:  # it was being started meanwhile
            self._live[pid](pid)

    @property
    def is_ending(self) -> bool:
        """True once ``end_all`` was called here or around: nothing is to be begun any more."""
        return self._ending.is_set() or bool(self._around and self._around.is_ending)

    def ended(self, pid: int) -> None:
        """Forget a process that has ended."""
        self._live.pop(pid, None)

    def end_all(self) -> None:
        """Kill every program that some thread is waiting for, and those about to be.

        Those of the scopes inside it too.
        """
        self._ending.set()
        for pid, end in list(self._live.items()):
            end(pid)
        for scope in list(self._inner):
            scope.end_all()


_current: ContextVar[Scope | None] = ContextVar("scope", default=None)
_outside = Scope(Limits(seconds=COMPILE_SECONDS))  # of what runs for no workspace


def current_scope() -> Scope:
    """Return the scope that this runs in."""
    return _current.get() or _outside


def _kill_group(pid: int) -> None:
    import signal

    with suppress(ProcessLookupError, PermissionError):
        os.killpg(pid, signal.SIGKILL)
