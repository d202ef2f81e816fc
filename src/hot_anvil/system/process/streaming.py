"""Run a program and read what it writes line by line as it comes, holding none of it."""

import os
import signal
import subprocess
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from pathlib import Path
from threading import Timer

from hot_anvil.errors import MissingError
from hot_anvil.system.process.running import tool_environment
from hot_anvil.system.process.scope import current_scope


def run_lines(
    argv: Sequence[str],
    cwd: str | Path,
    take: Callable[[Iterable[str]], None],
    seconds: float,
    from_stdout: bool = False,
) -> int:
    """Run ``argv`` in ``cwd`` and give ``take`` its lines, those of standard error by default.

    Returns the exit code, negative for a signal. The program is ended where ``take`` raises, where
    it stops reading, and after ``seconds``. Raises MissingError when it cannot be started.
    """
    out, err = (subprocess.PIPE, subprocess.DEVNULL) if from_stdout else (
        subprocess.DEVNULL, subprocess.PIPE,
    )  # fmt: skip
    try:
        process = subprocess.Popen(
            argv, cwd=cwd, stdin=subprocess.DEVNULL, stdout=out, stderr=err,
            env=tool_environment(), start_new_session=True, text=True, encoding="utf-8",
            errors="surrogateescape",
        )  # fmt: skip
    except OSError as error:
        raise MissingError(f"{argv[0]} cannot be started: {error.strerror}.") from None
    scope = current_scope()
    scope.live(process.pid)
    timer = Timer(seconds, _kill, [process])
    timer.daemon = True
    timer.start()
    stream = process.stdout if from_stdout else process.stderr
    assert stream is not None
    try:
        with stream:
            take(stream)
        return process.wait()
    finally:
        timer.cancel()
        if process.poll() is None:
            _kill(process)
            process.wait()
        scope.ended(process.pid)


def _kill(process: "subprocess.Popen[str]") -> None:
    with suppress(ProcessLookupError):
        os.killpg(process.pid, signal.SIGKILL)
