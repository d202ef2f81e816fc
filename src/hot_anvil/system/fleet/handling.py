"""What a worker of the engine runs: one request in a process of its own, watched.

Nothing of a request runs in the worker itself, so none can end it, and one that nobody waits for
any more is ended at once.
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

_LOOK = 0.05  # seconds between looks whether it is still wanted
_PATIENCE = 1.2  # seconds that a child has to end what it started
_SERVING = "hot_anvil.serving"


def handle(payload: bytes, seconds: float, topic: str, name: str) -> tuple[str, bytes]:
    """Do one request; return which worker did, and its answer. Called by the engine.

    ``seconds`` is how long it may take once its turn has come.
    """
    from distributed import get_worker

    worker = get_worker()
    key = worker.get_current_task()
    worker.log_event(topic, {"task": name, "worker": worker.address})

    def wanted() -> bool:
        # A task whose client is gone, or that was cancelled, is not told so otherwise.
        task = worker.state.tasks.get(key)
        return task is not None and task.state == "executing"

    return worker.address, run_child(payload, seconds, wanted)


def run_child(payload: bytes, seconds: float, wanted: Callable[[], bool]) -> bytes:
    """Return what a child answers to a request, or a Failed that says why there is no answer."""
    child = subprocess.Popen(
        [sys.executable, "-m", _SERVING],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        start_new_session=True,
        cwd="/",
    )
    assert child.stdin and child.stdout and child.stderr
    out, complaints = bytearray(), bytearray()
    threads = [
        Thread(target=_feed, args=(child.stdin, payload), daemon=True),
        Thread(target=_collect, args=(child.stdout, out), daemon=True),
        Thread(target=_collect, args=(child.stderr, complaints), daemon=True),
    ]
    for thread in threads:
        thread.start()
    began: float | None = None
    try:
        while child.poll() is None:
            if out and began is None:
                began = time.monotonic()
            if began is not None and time.monotonic() - began > seconds:
                _end(child)
                return to_bytes(Failed(f"it was stopped after {seconds:.0f} s"))
            if not wanted():
                _end(child)
                return to_bytes(Failed("nobody waits for it any more"))
            time.sleep(_LOOK)
    finally:
        _end(child)
        for thread in threads[1:]:
            thread.join(_PATIENCE)
    if child.returncode or not out.startswith(BEGUN):
        said = bytes(complaints).decode(errors="replace").strip().split("\n")[-1]
        how = f"signal {-child.returncode}" if child.returncode < 0 else f"{child.returncode}"
        return to_bytes(Failed(f"the process that worked on it ended with {how}: {said}"))
    return bytes(out[len(BEGUN) :])


def _feed(stream: IO[bytes], payload: bytes) -> None:
    """Write the request; the stream stays open, as long as somebody waits for the answer."""
    with suppress(OSError):
        stream.write(LENGTH.pack(len(payload)) + payload)
        stream.flush()


def _collect(stream: IO[bytes], into: bytearray) -> None:
    while chunk := stream.read1(1 << 16):  # type: ignore[attr-defined]
        into += chunk


def _end(child: "subprocess.Popen[bytes]") -> None:
    """End a child with all it started: kindly first, since compilers have sessions of their own."""
    if child.poll() is None:
        with suppress(ProcessLookupError):
            child.send_signal(signal.SIGINT)
        with suppress(subprocess.TimeoutExpired):
            child.wait(_PATIENCE)
    with suppress(ProcessLookupError, PermissionError):
        os.killpg(child.pid, signal.SIGKILL)
    child.wait()
