"""What holds the code under study: the launcher that starts it, and the means it uses.

native/confine.c says what each means does; docs/security.md what that is worth.
"""

import os
import signal
from collections.abc import Sequence
from contextlib import suppress
from typing import NamedTuple

from hot_anvil.errors import MissingError

NAMESPACES, FILES, OWN_TMP, OWN_PROC, LANDLOCK = "nmtpl"
FULL = NAMESPACES + FILES + OWN_TMP + OWN_PROC
_TELL_FD = 3
_BY_NOTHING = ("reach the network", "see other processes of yours and end them")
_BY_LANDLOCK = (
    "reach the network by other ways than TCP (by all before Linux 6.7)",
    "see other processes of yours (and end them before Linux 6.12)",
)


class Confinement(NamedTuple):
    """How code under study is held here."""

    launcher: str  # path of the program that starts it
    means: str  # letters of the means that are used
    lacking: tuple[tuple[str, str], ...] = ()  # means that cannot be had here, and why
    hidden: tuple[str, ...] = ()  # files that it cannot read where there are views

    @property
    def ends_all(self) -> bool:
        """True where what the code started cannot outlive it."""
        return NAMESPACES in self.means

    @property
    def loose(self) -> tuple[str, ...]:
        """What the code could still do, in words."""
        files = FILES in self.means or LANDLOCK in self.means
        could = [] if files else ["write your files"]
        if files and OWN_TMP not in self.means:
            could.append("write to /tmp")
        if NAMESPACES not in self.means:
            could += _BY_LANDLOCK if LANDLOCK in self.means else _BY_NOTHING
        return tuple(could)

    def end(self, pid: int) -> None:
        """End what ``command`` started, with all that it started: wait for ``pid`` after this."""
        with suppress(ProcessLookupError, PermissionError):
            if self.launcher:
                os.kill(pid, signal.SIGTERM)
            else:
                os.killpg(pid, signal.SIGKILL)

    def end_rest(self, pid: int) -> None:
        """End what was left behind in the group of a process that has ended."""
        if not self.ends_all:
            with suppress(ProcessLookupError, PermissionError):
                os.killpg(pid, signal.SIGKILL)

    def command(
        self, tell: int, folder: str, argv: Sequence[str], memory: int = 0, file_size: int = 0
    ) -> list[str]:
        """Return what starts a program, by its path, in a folder that it may write to.

        ``tell`` is the descriptor, which the launcher inherits, that ``Told`` reads; the limits
        are bytes, 0 for none.
        """
        limits = (str(len(self.hidden)), *self.hidden, str(memory), str(file_size))
        if not self.launcher:
            return [*argv]
        return [self.launcher, str(tell), self.means, folder, *limits, *argv]


class Told:
    """The memory in which a launcher tells what came of it."""

    def __init__(self) -> None:
        self.descriptor = os.memfd_create("told")

    def _lines(self) -> list[str]:
        return os.pread(self.descriptor, 1024, 0).decode(errors="replace").splitlines()

    @property
    def pid(self) -> int:
        """The process of the program itself, 0 while there is none."""
        return next((int(line[1:]) for line in self._lines() if line[0] == "+"), 0)

    @property
    def refusal(self) -> tuple[str, str]:
        """The means that could not be had, or "x" for the program, and why; ("", "") if none."""
        return next(((line[0], line[1:]) for line in self._lines() if line[0] != "+"), ("", ""))

    def raise_refusal(self) -> None:
        """Raise MissingError where the launcher could not start the program, or not hold it."""
        if why := self.refusal[1]:
            raise MissingError(
                f"the code could not be started and held ({why}). This is the machine's trouble, "
                "not the code's; --free runs the code without holding it."
            )

    def signal(self, number: int, starter: int) -> None:
        """Send a signal to the program itself, where no launcher started it to its starter."""
        with suppress(ProcessLookupError, PermissionError):
            os.kill(self.pid or starter, number)

    def close(self) -> None:
        """Give the memory back."""
        os.close(self.descriptor)


def find_means(launcher: str, folder: str) -> Confinement:
    """Try what can be had here: all means, or as many as this system allows.

    ``folder`` is where the programs that will be started lie, so that it is known whether they
    can be reached.
    """
    means = FULL
    lacking: list[tuple[str, str]] = []
    while True:
        refused, why = _try(launcher, folder, means)
        if not refused:
            return Confinement(launcher, means, tuple(lacking))
        lacking.append((refused, why))
        means = _without(means, refused)


def _without(means: str, refused: str) -> str:
    """Return the means to try next: what cannot be written to is Landlock's where views fail."""
    if refused in (OWN_TMP, OWN_PROC):
        return means.replace(refused, "")
    if refused == FILES:
        return NAMESPACES + LANDLOCK + (OWN_PROC if OWN_PROC in means else "")
    if refused == LANDLOCK:
        return means.replace(LANDLOCK, "")
    return LANDLOCK if LANDLOCK not in means else ""


def _try(launcher: str, folder: str, means: str) -> tuple[str, str]:
    """Start the launcher by itself, with nothing to do; return what was refused, and why."""
    told = Told()
    try:
        argv = Confinement(launcher, means).command(_TELL_FD, folder, [launcher])
        ours = [(os.POSIX_SPAWN_DUP2, told.descriptor, _TELL_FD)]
        os.waitpid(os.posix_spawn(launcher, argv, {}, file_actions=ours), 0)
        refused, why = told.refusal
        if not refused and told.pid:
            return "", ""
        if not means:
            raise MissingError(
                f"the launcher of the code does not start ({why or 'without a word'}). This is the "
                "machine's trouble."
            )
        return refused or NAMESPACES, why
    finally:
        told.close()
