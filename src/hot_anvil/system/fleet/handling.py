"""What a worker of the engine runs: requests in a process of their own, watched.

Nothing of a request runs in the worker itself, so none can end it, and one that nobody waits for
any more is ended at once. What times or judges code has a fresh process each; compiling goes on in
the one that is there.
"""

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from threading import Thread
from typing import IO

from hot_anvil.system.fleet.child import BEGUN, LENGTH
from hot_anvil.system.fleet.requests import Failed, to_bytes

_LOOK = 0.02  # seconds between looks whether it is still wanted
_PATIENCE = 1.2  # seconds that a child has to end what it started
_SERVING = "hot_anvil.serving"
_idle: "list[Child]" = []  # children that wait for more to compile


def handle(
    payload: bytes, seconds: float, topic: str, name: str, lasting: bool
) -> tuple[str, bytes]:
    """Do one request; return which worker did, and its answer. Called by the engine.

    ``seconds`` is how long it may take once its turn has come; ``lasting``: in a process that may
    go on with the next one.
    """
    from distributed import get_worker

    worker = get_worker()
    key = worker.get_current_task()
    worker.log_event(topic, {"task": name, "worker": worker.address})

    def wanted() -> bool:
        # A task whose client is gone, or that was cancelled, is not told so otherwise.
        task = worker.state.tasks.get(key)
        return task is not None and task.state == "executing"

    return worker.address, run_in_child(payload, seconds, wanted, lasting)


def run_in_child(
    payload: bytes, seconds: float, wanted: Callable[[], bool], lasting: bool = False
) -> bytes:
    """Return what a child answers to a request, or a Failed that says why there is no answer."""
    child = _idle.pop() if lasting and _idle else Child()
    try:
        answer = child.ask(payload, seconds, wanted)
        if answer is None and child.asked > 1:  # it ended while it was idle
            child.end()
            child = Child()
            answer = child.ask(payload, seconds, wanted)
    finally:
        if lasting and child.able:
            _idle.append(child)
        else:
            child.end()
    return answer if answer is not None else child.failure()


class Child:
    """One process that answers requests; see ``child``."""

    def __init__(self) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", _SERVING],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            start_new_session=True,
            cwd="/",
        )
        assert self.process.stdin and self.process.stdout and self.process.stderr
        self.asked = 0
        self.able = True  # to be asked again
        self._stdin = self.process.stdin
        self._out, self._said = bytearray(), bytearray()
        streams = ((self.process.stdout, self._out), (self.process.stderr, self._said))
        self._threads = [Thread(target=_collect, args=pair, daemon=True) for pair in streams]
        for thread in self._threads:
            thread.start()

    def ask(self, payload: bytes, seconds: float, wanted: Callable[[], bool]) -> bytes | None:
        """Return the answer to a request, a Failed where it was ended; None where it died."""
        self.asked += 1
        self.able = False
        Thread(target=_feed, args=(self._stdin, payload), daemon=True).start()
        began: float | None = None
        while (answer := self._answer()) is None:
            if self.process.poll() is not None:
                self._threads[0].join(_PATIENCE)
                return self._answer()
            if self._out and began is None:
                began = time.monotonic()
            why = ""
            if began is not None and time.monotonic() - began > seconds:
                why = f"it was stopped after {seconds:.0f} s"
            elif not wanted():
                why = "nobody waits for it any more"
            if why:
                self.end()
                return to_bytes(Failed(why))
            time.sleep(_LOOK)
        self.able = True
        return answer

    def _answer(self) -> bytes | None:
        """Return a whole answer, and take it out of what came; None while there is none."""
        first = len(BEGUN) + LENGTH.size
        if len(self._out) < first:
            return None
        (length,) = LENGTH.unpack(self._out[len(BEGUN) : first])
        if len(self._out) < first + length:
            return None
        answer = bytes(self._out[first : first + length])
        del self._out[: first + length]
        return answer

    def failure(self) -> bytes:
        """Return a Failed that says how it died."""
        said = bytes(self._said).decode(errors="replace").strip().split("\n")[-1]
        code = self.process.returncode
        how = f"signal {-code}" if code and code < 0 else f"code {code}"
        return to_bytes(Failed(f"the process that worked on it ended with {how}: {said}"))

    def end(self) -> None:
        """End it with all it started: kindly first, as compilers have sessions of their own."""
        if self.process.poll() is None:
            with suppress(ProcessLookupError):
                self.process.send_signal(signal.SIGINT)
            with suppress(subprocess.TimeoutExpired):
                self.process.wait(_PATIENCE)
        with suppress(ProcessLookupError, PermissionError):
            os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()
        for thread in self._threads:
            thread.join(_PATIENCE)
        with suppress(OSError):
            self._stdin.close()


def _feed(stream: IO[bytes], payload: bytes) -> None:
    """Write a request; the stream stays open, as long as somebody waits for the answer."""
    with suppress(OSError, ValueError):
        stream.write(LENGTH.pack(len(payload)) + payload)
        stream.flush()


def _collect(stream: IO[bytes], into: bytearray) -> None:
    with stream:
        while chunk := stream.read1(1 << 16):  # type: ignore[attr-defined]
            into += chunk
