"""Run other programs with limits; a failing one is a value, not an exception."""

import os
import signal
import subprocess
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from threading import Thread
from typing import IO, Any, NamedTuple

from hot_anvil.errors import OF_THE_MACHINE, MissingError, machine_trouble
from hot_anvil.system.process.scope import AWAKE, current_scope

OUTPUT_LIMIT = 4 << 20  # bytes kept of each stream


class Outcome(NamedTuple):
    """How a program ended."""

    code: int  # exit code, negative for a signal
    stdout: str
    stderr: str
    seconds: float
    timed_out: bool

    @property
    def failed(self) -> bool:
        """True unless the program ended by itself with exit code 0."""
        return self.timed_out or self.code != 0

    @property
    def ending(self) -> str:
        """How it ended, in words."""
        if self.timed_out:
            return f"stopped after {self.seconds:.0f} s"
        if self.code < 0:
            return f"killed by {signal_name(-self.code)}"
        return f"exit code {self.code}"


def signal_name(number: int) -> str:
    """Return the usual name of a signal, such as SIGSEGV."""
    try:
        return signal.Signals(number).name
    except ValueError:
        return f"signal {number}"


def tool_environment() -> dict[str, str]:
    """Return the environment for compilers: the person's own, in the C locale."""
    return {**os.environ, "LC_ALL": "C", "LANG": "C"}


def within(argv: Sequence[str], memory: int) -> Sequence[str]:
    """Return the command that runs ``argv``, and all that it starts, in so many bytes of memory.

    0 for no limit.
    """
    if not memory:
        return argv
    return ["sh", "-c", 'ulimit -v "$0"; exec "$@"', str(memory >> 10), *argv]


def run(
    argv: Sequence[str],
    cwd: str | Path,
    seconds: float = 120.0,
    env: Mapping[str, str] | None = None,
    memory: int = 0,
    into: Path | None = None,
    limit: int = OUTPUT_LIMIT,
) -> Outcome:
    """Run ``argv`` in ``cwd`` with no input and a time limit.

    Standard output and error are kept up to ``limit`` bytes each; ``into``
    is a file that takes all of the output instead. Raises
    MissingError when the program cannot be started at all.
    """
    started = time.perf_counter()
    argv = within(argv, memory)
    target = into.open("wb") if into else None
    try:
        process = subprocess.Popen(
            argv,
            cwd=cwd,
            stdin=subprocess.DEVNULL,
            stdout=target or subprocess.PIPE,
            stderr=subprocess.PIPE,
            env=env or tool_environment(),
            start_new_session=True,  # a time limit must reach the children too
        )
    except OSError as error:
        why = f"{argv[0]} cannot be started: {error.strerror}."
        trouble = machine_trouble(error)
        raise MissingError(f"{why} {OF_THE_MACHINE}" if trouble else why) from None
    finally:
        if target:
            target.close()
    timed_out = False
    scope = current_scope()
    scope.live(process.pid)
    kept = [bytearray(), bytearray()]
    streams = zip((process.stdout, process.stderr), kept, strict=True)
    readers = [Thread(target=_keep, args=(*pair, limit)) for pair in streams if pair[0]]
    try:
        for reader in readers:
            reader.start()
        # Waiting for the ends of the streams costs nothing; waiting for a process with a
        # time limit is a loop that sleeps.
        for reader in readers:
            # A signal that another thread got is acted on when this one wakes up.
            while reader.is_alive() and (left := seconds - _since(started)) > 0:
                reader.join(timeout=min(left, AWAKE))
        if any(reader.is_alive() for reader in readers):
            timed_out = process.poll() is None
            end_group(process)  # also a child that outlived it and holds its streams
        try:
            process.wait(None if timed_out else max(seconds - _since(started), 0.01))
        except subprocess.TimeoutExpired:
            timed_out = True
            end_group(process)
            process.wait()
    except BaseException:  # Ctrl-C above all: nothing of ours may go on running
        end_group(process)
        process.wait()
        raise
    finally:
        scope.ended(process.pid)
    out, err = (bytes(part).decode(errors="replace") for part in kept)
    return Outcome(process.returncode, out, err, _since(started), timed_out)


def _since(started: float) -> float:
    return time.perf_counter() - started


def _keep(stream: IO[bytes], kept: bytearray, limit: int) -> None:
    """Read a stream to its end; what goes beyond the limit is dropped, not held."""
    with stream:
        while chunk := stream.read1(1 << 16):  # type: ignore[attr-defined]
            if len(kept) < limit:
                kept += chunk[: limit - len(kept)]


def run_in_scope(
    argv: Sequence[str], cwd: str | Path, into: Path | None = None, limit: int = OUTPUT_LIMIT
) -> Outcome:
    """Run a compiler with the time and memory that the person's limits leave it."""
    limits = current_scope().limits
    return run(argv, cwd, limits.seconds, memory=limits.memory, into=into, limit=limit)


def end_group(process: "subprocess.Popen[Any]") -> None:
    """Kill a process and all it started."""
    try:
        os.killpg(process.pid, signal.SIGKILL)
    except ProcessLookupError:
        process.kill()
