"""The store of a bench: ``.hot-anvil``, with everything that can be made again.

``artefacts/NAME/``  one compiled source: text, object, facts
``recipes/KEY.json`` for a command: the files it read, with digests, and the
                     artefact that came of it
``results.sqlite``   every check and measurement

Artefacts are written in a folder of their own and renamed, so several
processes may work on one store and a killed one leaves nothing half done.
"""

import os
import re
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

from hot_anvil.errors import MissingError, RequestError, cannot
from hot_anvil.system.process.notices import notice
from hot_anvil.system.process.trouble import is_full
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import (
    digest,
    digest_file,
    read_json,
    user_cache,
    write_json,
    write_whole,
)
from hot_anvil.system.store.results import Results, refuse_link
from hot_anvil.system.store.seals import holds, read_sealed, seal, write_sealed

Made = TypeVar("Made")

_OWNED = "work.made"  # beside work/: which folder that was when we made it
_SCRATCH = re.compile(r"\d+-(?:run)?\d+")  # process, time or number
_KEPT = 50  # earlier results of one command that are remembered


class Store:
    """One store on disk. ``root`` is the folder that commands run in."""

    def __init__(self, root: str, folder: Path | None = None, bare: bool = False) -> None:
        self.root = root
        self.folder = folder or (_apart(root) if bare else Path(root, ".hot-anvil"))
        if not bare and not _may_write(self.folder):
            self.folder = _apart(root)
            notice(f"{root} cannot be written to: what is made is kept in {self.folder}.")
        self._digests: dict[str, str | None] = {}
        self._there: dict[str, bool] = {}
        self._read: dict[Path, Any] = {}
        self._whole: dict[str, bool] = {}
        self.results = Results(self.folder / "results.sqlite")

    @property
    def answers(self) -> list[str]:
        """The files that say what the bench's code should do or did: not for that code to read."""
        path = self.results.path
        names = [path, path.with_name(f"{path.name}-wal"), Path(self.root, "anvil.toml")]
        return [str(name) for name in names if name.exists()]

    def artefact(self, name: str) -> Artefact:
        """Return an artefact by its name, whether it is there or not."""
        return Artefact(self.folder / "artefacts" / name)

    def holds(self, name: str) -> bool:
        """Tell whether the store has an artefact, proved by its digests once in a process.

        One that was damaged is taken away, to be made again.
        """
        if not self._whole.get(name):
            folder = self.artefact(name).folder
            there = folder.is_dir()
            self._whole[name] = there and holds(folder)
            if there and not self._whole[name]:
                self._take_away(folder)
        return self._whole[name]

    def _take_away(self, folder: Path) -> None:
        import shutil

        notice(f"{self.folder}: some of what was kept there was damaged; it is made again.")
        scratch = self.scratch()
        try:
            folder.rename(scratch / "damaged")
        except FileNotFoundError:
            pass  # somebody else took it away just now
        except OSError as error:
            raise RequestError(
                f"{folder}: is damaged and cannot be taken away ({error.strerror})."
            ) from None
        shutil.rmtree(scratch, ignore_errors=True)

    def read_once(self, file: Path, make: Callable[[Any], Made]) -> Made:
        """Return what ``make`` makes of an artefact's JSON file, read once: it never changes.

        Each file is asked for with one ``make``. Raises RequestError if the file is damaged.
        """
        if file not in self._read:
            plain = read_json(file)
            if plain is None:
                raise RequestError(
                    f"{self.folder}: the artefact {file.parent.name} is damaged. Delete the folder "
                    "(it only costs time) and run the command again."
                )
            self._read[file] = make(plain)
        made: Made = self._read[file]
        return made

    def lookup(self, key: str) -> str | None:
        """Return the artefact that command ``key`` made, if all it read is unchanged."""
        recipe = read_sealed(self._recipe(key))
        if not isinstance(recipe, dict):
            return None
        for path, known in recipe["read"]:
            if self._digest(path) != known:
                return None
        if any(map(self._is_there, recipe["absent"])):
            return None
        name: str = recipe["artefact"]
        return name if self.holds(name) else None

    def remember(self, key: str, read: Sequence[str], absent: Iterable[str], artefact: str) -> None:
        """Record what a command read and made."""
        self._refuse_links()
        digests = [(path, self._digest(path)) for path in read]
        earlier = [name for name in self._versions(key) if name != artefact][:_KEPT]
        recipe = {"read": digests, "absent": sorted(absent), "artefact": artefact}
        write_sealed(self._recipe(key), {**recipe, "earlier": earlier})

    def earlier(self, key: str) -> list[str]:
        """Return what command ``key`` made of earlier states of its files, the latest first."""
        return [name for name in self._versions(key)[1:] if self.holds(name)]

    def files_of(self, key: str) -> list[str]:
        """Return the files that command ``key`` read the last time it ran."""
        recipe = read_sealed(self._recipe(key))
        return [path for path, _ in recipe["read"]] if isinstance(recipe, dict) else []

    def _versions(self, key: str) -> list[str]:
        recipe = read_sealed(self._recipe(key))
        if not isinstance(recipe, dict):
            return []
        return [recipe["artefact"], *recipe.get("earlier", ())]

    def name_for(self, key: str, read: Sequence[str]) -> str:
        """Return the artefact name for a command and the contents it read."""
        return digest(key, *(f"{path} {self._digest(path)}" for path in read))

    def forget_digests(self) -> None:
        """Look at every file anew from here on."""
        self._digests.clear()
        self._there.clear()

    def scratch(self) -> Path:
        """Return a new, empty folder to make an artefact in."""
        folder = self._work() / f"{os.getpid()}-{time.monotonic_ns()}"
        try:
            folder.mkdir()
        except OSError as error:
            raise cannot(f"{folder}: cannot be made", error) from None
        return folder

    @contextmanager
    def workplace(self) -> Iterator[Path]:
        """Give a new, empty folder to make an artefact in; what is not kept of it is removed."""
        import shutil

        work = self.scratch()
        try:
            yield work
        finally:
            shutil.rmtree(work, ignore_errors=True)

    def _work(self) -> Path:
        """Return the folder that scratch folders are made in, marked when it is new."""
        work = self.folder / "work"
        self._refuse_links()
        try:
            if not work.is_dir():
                work.mkdir(parents=True, exist_ok=True)
                write_whole(self.folder / _OWNED, _same_folder(work.stat()).encode())
        except OSError as error:
            raise cannot(f"{work}: cannot be made", error) from None
        return work

    def _refuse_links(self) -> None:
        """Refuse a store with links in it: what is kept or removed may be somebody else's."""
        for name in ("artefacts", "recipes", "work"):
            refuse_link(self.folder / name)

    def keep(self, scratch: Path, name: str) -> Artefact:
        """Turn a scratch folder into the artefact ``name``; an equal one made meanwhile wins."""
        import shutil

        self._refuse_links()
        if is_full(scratch):
            raise MissingError(
                f"{self.folder}: the disk is full. Nothing finished is lost; free some space and "
                "run the command again."
            )
        kept = self.artefact(name)
        target = kept.folder
        target.parent.mkdir(parents=True, exist_ok=True)
        seal(scratch)
        try:
            scratch.rename(target)
        except OSError:
            if not target.is_dir():
                raise
            if not holds(target):  # damaged since: ours takes its place
                target.rename(self.scratch() / name)
                scratch.rename(target)
            shutil.rmtree(scratch, ignore_errors=True)
        return kept

    def lay(self, name: str, fill: Callable[[Path], None]) -> None:
        """Keep an artefact that ``fill`` lays into an empty folder, unless it is there."""
        if not self.holds(name):
            with self.workplace() as work:
                fill(work)
                self.keep(work, name)
            self._whole.pop(name, None)

    def derive(self, name: str, make: Callable[[Path], Any]) -> Any:
        """Return plain data made from artefacts, made once: ``make`` gets an empty folder.

        What ``make`` returns is kept under ``name``, unless it is None.
        """
        kept = read_json(self.artefact(name).derived) if self.holds(name) else None
        if kept is not None:
            return kept
        with self.workplace() as work:
            made = make(work)
            for left in work.iterdir():
                left.unlink()
            if made is not None:
                write_json(Artefact(work).derived, made)
                self.keep(work, name)
            return made

    def sweep(self) -> None:
        """Remove scratch folders of processes that no longer live, and nothing else.

        Only real folders with a scratch folder's name, in a ``work`` folder that this tool made
        and that is still the very folder it made, are known to be ours.
        """
        import shutil

        try:
            work = os.open(self.folder / "work", os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
        except OSError:
            return
        try:
            if self._mark() != _same_folder(os.fstat(work)):
                return
            for name in os.listdir(work):  # noqa: PTH208 - of the folder that was looked at
                if _SCRATCH.fullmatch(name) and not Path("/proc", name.split("-")[0]).exists():
                    shutil.rmtree(name, ignore_errors=True, dir_fd=work)  # refuses links
        finally:
            os.close(work)

    def _mark(self) -> str:
        """Return which folder ``work`` was when this tool made it, "" when it did not."""
        try:
            return (self.folder / _OWNED).read_text()
        except (OSError, ValueError):
            return ""

    def _recipe(self, key: str) -> Path:
        return self.folder / "recipes" / f"{key}.json"

    def _digest(self, path: str) -> str | None:
        if path not in self._digests:
            self._digests[path] = digest_file(os.path.join(self.root, path))  # noqa: PTH118
        return self._digests[path]

    def _is_there(self, path: str) -> bool:
        # Asked for hundreds of headers that many builds share: paths as plain text are faster.
        if path not in self._there:
            self._there[path] = os.path.lexists(os.path.join(self.root, path))  # noqa: PTH118
        return self._there[path]


def shared_store(otherwise: Store) -> Store:
    """Return the store of what belongs to no bench, ``otherwise`` where there can be none.

    It is in the user's cache. What runs confined, or is loaded by what does, must lie in the bench.
    """
    return tools_store() or otherwise


def tools_store() -> Store | None:
    """Return the store of what belongs to no bench, None where there can be none."""
    return _tools(user_cache() / "tools")


@cache
def _tools(folder: Path) -> Store | None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError:
        return None
    if not os.access(folder, os.W_OK | os.X_OK) or is_full(folder):
        return None
    store = Store(str(folder), folder)
    store.sweep()
    return store


def _apart(root: str) -> Path:
    """Return where a store is kept for a folder that is to hold none."""
    return user_cache() / "bare" / digest(root)[:16]


def _may_write(folder: Path) -> bool:
    """Tell whether a store may be made, or written to, there."""
    return os.access(folder if folder.exists() else folder.parent, os.W_OK | os.X_OK)


def _same_folder(status: os.stat_result) -> str:
    return f"{status.st_dev}:{status.st_ino}"
