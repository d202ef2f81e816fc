"""Run a program and read what it writes line by line as it comes, holding none of it."""

import subprocess
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from threading import Timer

from hot_anvil.errors import MissingError
from hot_anvil.system.process.running import end_group, tool_environment, within
from hot_anvil.system.process.scope import current_scope


def run_lines(
    argv: Sequence[str],
    cwd: str | Path,
    take: Callable[[Iterable[str]], None],
    seconds: float,
    memory: int = 0,
) -> int:
    """Run ``argv`` in ``cwd`` and give ``take`` the lines of its standard error.

    Returns the exit code, negative for a signal. The program is ended where ``take`` raises, where
    it stops reading, and after ``seconds``. Raises MissingError when it cannot be started.
    """
    try:
        process = subprocess.Popen(
            within(argv, memory), cwd=cwd, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            env=tool_environment(), start_new_session=True, text=True, encoding="utf-8",
            errors="surrogateescape",
        )  # fmt: skip
    except OSError as error:
        raise MissingError(f"{argv[0]} cannot be started: {error.strerror}.") from None
    scope = current_scope()
    scope.live(process.pid)
    timer = Timer(seconds, end_group, [process])
    timer.daemon = True
    timer.start()
    stream = process.stderr
    assert stream is not None
    try:
        with stream:
            take(stream)
        return process.wait()
    finally:
        timer.cancel()
        if process.poll() is None:
            end_group(process)
            process.wait()
        scope.ended(process.pid)
