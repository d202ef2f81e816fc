"""Waiting for saves: files by what is in them, however an editor writes them."""

from collections.abc import Collection, Iterator
from hashlib import blake2b
from pathlib import Path

from hot_anvil.errors import RequestError

_TOGETHER = 60  # ms in which writes are one save: editors write twice, or rename
_STEP = 20  # ms between looks at what the system reports


class Saves:
    """The files that are watched, with what was in them when they were last looked at."""

    def __init__(self, root: str) -> None:
        self.root = root
        self._known: dict[str, bytes] = {}

    def take(self) -> None:
        """Take all files as they are now: whatever is saved from here on is a save."""
        self._known = {file: self._digest(file) for file in self._known}

    def watch(self, files: Collection[str]) -> None:
        """Watch exactly these files from now on; new ones as they are now."""
        known = self._known
        self._known = {f: known[f] if f in known else self._digest(f) for f in files}

    def changed(self) -> tuple[str, ...]:
        """Return the files that hold something else than when this was asked before.

        One that is not there holds nothing else: it is being replaced.
        """
        now = {file: self._digest(file) for file in self._known}
        found = tuple(f for f, digest in now.items() if digest and digest != self._known[f])
        self._known |= {file: now[file] for file in found}
        return found

    def wait(self) -> Iterator[tuple[str, ...]]:
        """Give the files that each save changed; ends where the folders are gone.

        A file that is touched and holds the same is no save, nor is one that is being replaced
        and is not there for a moment.
        """
        import watchfiles

        while True:
            folders = self._folders()
            if not folders:
                raise RequestError(f"{self.root}: what was watched is gone.")
            watching = watchfiles.watch(
                *folders, debounce=_TOGETHER, step=_STEP, recursive=False, rust_timeout=2000,
                yield_on_timeout=True, raise_interrupt=True,
            )  # fmt: skip
            for _ in watching:  # silent timeouts too: a network folder tells of nothing
                while changed := self.changed():  # also what was saved while that was looked at
                    yield changed
                if self._folders() != folders:
                    break  # a file came from another folder

    def _folders(self) -> list[str]:
        found = {str(Path(self.root, file).resolve().parent) for file in self._known}
        return sorted(folder for folder in found if Path(folder).is_dir())

    def _digest(self, file: str) -> bytes:
        try:
            return blake2b(Path(self.root, file).read_bytes(), digest_size=16).digest()
        except OSError:
            return b""
