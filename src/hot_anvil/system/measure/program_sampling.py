"""Look where a whole program's time goes, in runs of its own."""

import os
import struct
import time
from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path

from hot_anvil.core.config.records import ProgramRun
from hot_anvil.core.measure.hotspots import Seen
from hot_anvil.errors import RequestError
from hot_anvil.system.execute.programs import run_program
from hot_anvil.system.measure.sampling import BETWEEN

RUN_SECONDS = 60.0
_MEMORY = 1 << 20  # bytes for looks of one run
_FEWEST = 4  # runs: what differs between them is the error
_MOST = 400


def look_at_run(
    path: str, run: ProgramRun, stdin: bytes, needs: Mapping[str, Path], root: str
) -> Counter[int]:
    """Return where one run was seen: offset from the program's start -> looks.

    Offsets beyond the program are of libraries.
    """
    memory = os.memfd_create("samples")
    try:
        os.truncate(memory, _MEMORY)
        os.pwrite(memory, struct.pack("<QQQ", 0, 0, int(BETWEEN * 1e9)), 0)
        ran = run_program(path, run.arguments, stdin, needs, run.writes, RUN_SECONDS, root, memory)
        if ran.output is None:
            raise RequestError(f"{path}: {ran.why} while its time was looked at.")
        start, count, _ = struct.unpack("<QQQ", os.pread(memory, 24, 0))
        places = struct.unpack(f"<{count}Q", os.pread(memory, 8 * count, 24))
        return Counter(place - start for place in places)
    finally:
        os.close(memory)


def look_at_runs(
    path: str,
    given: Sequence[tuple[ProgramRun, bytes, Mapping[str, Path]]],
    last: int,
    seconds: float,
    root: str,
) -> tuple[list[Seen], float]:
    """Return the looks of runs for about ``seconds``, in turn, and the seconds that one takes.

    ``last`` is the offset behind the program's own code.
    """
    seen: list[Seen] = []
    started = time.monotonic()
    while len(seen) < _MOST:
        run, stdin, needs = given[len(seen) % len(given)]
        looks = look_at_run(path, run, stdin, needs, root)
        inside = Counter({at: n for at, n in looks.items() if 0 <= at < last})
        outside = looks.total() - inside.total()
        seen.append(Seen(inside, Counter({"libraries": outside} if outside else {})))
        spent = time.monotonic() - started
        if len(seen) >= max(_FEWEST, len(given)) and spent >= seconds:
            break
    return seen, (time.monotonic() - started) / len(seen)
