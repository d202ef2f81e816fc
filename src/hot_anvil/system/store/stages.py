"""Which of our own code makes what the store keeps: results of other code are made again.

A stage is what the packages of it make of their inputs. Its digest is part of the name of all that
it made, so nobody has to remember to raise a number when a rule changes.
"""

import os
from collections.abc import Iterator
from functools import cache
from hashlib import blake2b
from pathlib import Path
from typing import Literal

from hot_anvil._version import __version__

_ROOT = Path(__file__).parent.parent.parent
_READING = (
    "core/arch", "core/asm", "core/binary", "core/code", "core/codec.py", "core/config",
    "core/build", "core/names.py", "core/proof", "core/toolchain", "core/facts/expectation.py",
    "core/facts/records.py",
    "system/build", "system/process", "system/store", "system/toolchain", "errors.py",
)  # fmt: skip
_MODEL = (*_READING, "core/model", "core/parallel.py")
Stage = Literal[
    "code", "facts", "comparison", "worker", "check", "tape", "remarks", "stages", "flags"
]
# Stage -> what its results depend on; a test follows the imports and compares.
STAGES: dict[Stage, tuple[str, ...]] = {
    "code": _READING,
    "facts": (*_MODEL, "core/facts", "system/bench"),
    "flags": (*_MODEL, "core/flags"),
    "remarks": (*_READING, "core/remarks", "system/asking"),
    "stages": (*_READING, "core/remarks", "core/stages", "system/asking"),
    "comparison": (
        *_MODEL, "core/evaluate", "core/facts", "core/diff", "core/reasons", "system/bench",
    ),
    "worker": (
        "core/calling", "core/binary", "core/measure/sharing.py", "native", "system/build",
        "system/store",
    ),
    "check": (
        "core/binary", "core/calling", "core/config", "core/inputs", "core/verify", "native",
        "system/check", "system/execute",
    ),
    "tape": (
        *_MODEL, "core/calling", "core/inputs", "core/measure", "core/trace", "core/verify",
        "native", "system/execute", "system/measure/counting.py", "system/trace",
    ),
}  # fmt: skip


@cache
def stage_digest(stage: Stage) -> str:
    """Return a digest of the sources that a stage's results depend on.

    A source goes by its path, size and time, as Python itself tells whether a module has changed
    since it was compiled: reading them all would take longer than a warm answer may.
    """
    state = blake2b(__version__.encode(), digest_size=12)
    for part in STAGES[stage]:
        state.update(_state_of(part))
    return state.hexdigest()


@cache
def _state_of(part: str) -> bytes:
    path = f"{_ROOT}/{part}"
    found = sorted(_files(path)) if os.path.isdir(path) else [_row(path, os.stat(path))]  # noqa: PTH112, PTH116
    return "\n".join(found).encode()


def _files(folder: str) -> Iterator[str]:
    for entry in os.scandir(folder):
        if entry.name.endswith((".py", ".c", ".h")):
            yield _row(entry.path, entry.stat())
        elif entry.name != "__pycache__" and entry.is_dir():
            yield from _files(entry.path)


def _row(path: str, state: os.stat_result) -> str:
    return f"{path} {state.st_size} {state.st_mtime_ns}"
