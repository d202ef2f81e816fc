"""Sees when code under study fills the disk with files in its own folder."""

import os
from pathlib import Path

MOST_BYTES = 1 << 30
MOST_FILES = 100_000
LOOK_SECONDS = 0.25  # from one look to the next
OVERFULL = f"wrote more than {MOST_BYTES >> 30} GiB, or {MOST_FILES:,} files, to its folder"


class DiskWatch:
    """Watches one folder. What lies in it is only counted when the disk has that much less room."""

    def __init__(self, folder: str | Path) -> None:
        self._folder = folder
        self._free = self._room()

    def overfull(self) -> bool:
        """Tell whether the folder holds more than it may."""
        free = self._room()
        less = [before - now for before, now in zip(self._free, free, strict=True)]
        if less[0] <= MOST_BYTES // 2 and less[1] <= MOST_FILES // 2:
            return False
        bytes_left, files_left = MOST_BYTES, MOST_FILES
        for folder, _, names in os.walk(self._folder):
            for name in names:
                try:
                    # What it takes on the disk: a file with holes may say it is any length.
                    bytes_left -= os.lstat(os.path.join(folder, name)).st_blocks * 512  # noqa: PTH118
                except OSError:
                    continue
                files_left -= 1
                if bytes_left < 0 or files_left < 0:
                    return True
        return False

    def _room(self) -> tuple[int, int]:
        """Return (free bytes, free files) of the disk."""
        try:
            state = os.statvfs(self._folder)
        except OSError:
            return 0, 0
        return state.f_bavail * state.f_frsize, state.f_ffree
