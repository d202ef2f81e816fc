"""Trouble that is the machine's, not the code's: it must never become a verdict."""

import os
import re
from pathlib import Path
from typing import TYPE_CHECKING

from hot_anvil.errors import MissingError

if TYPE_CHECKING:
    from hot_anvil.system.process.running import Outcome

_LEAST_FREE = 1 << 20  # bytes
_SIGNS = re.compile(
    r"No space left on device|Disk quota exceeded|Too many open files|Cannot allocate memory|"
    r"Read-only file system|Resource temporarily unavailable|virtual memory exhausted|"
    r"out of memory|Killed signal terminated|ld terminated with signal",
    re.IGNORECASE,
)


def is_full(folder: str | Path) -> bool:
    """Tell whether next to nothing can be written to the disk that a folder is on.

    What a tool has just written may then be cut short, and not every tool says so.
    """
    try:
        state = os.statvfs(folder)
    except OSError:
        return False
    return state.f_bavail * state.f_frsize < _LEAST_FREE


def raise_own_trouble(said: "Outcome", what: str) -> None:
    """Raise MissingError where a tool failed for want of what the machine should have.

    ``what`` was being done, in words.
    """
    found = _SIGNS.search(said.stderr)
    if said.failed and found:
        raise MissingError(f"{what}: {found[0]}. This is the machine's trouble, not the code's.")
    if said.code < 0 and not said.timed_out:
        raise MissingError(f"{what}: {said.ending}. This is the machine's trouble, not the code's.")
