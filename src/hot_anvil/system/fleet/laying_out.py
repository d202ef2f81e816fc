"""A bench laid out again on a machine that is asked to work on it."""

import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from pathlib import Path

from hot_anvil.system.fleet.requests import Given, unpack_folder
from hot_anvil.system.process.confinement import Confinement, find_means
from hot_anvil.system.process.scope import Scope
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest, user_cache
from hot_anvil.system.store.store import Store

_KEPT_SECONDS = 7 * 86400  # that a bench nobody asked about again is kept


@contextmanager
def laid_out(given: Given) -> Iterator[Store]:
    """Give the store of a bench that lies here as it does where it is asked, in a scope of its own.

    It goes by content, so benches in two states never meet; what nobody asked about for long is
    taken away.
    """
    parts = [part for name in sorted(given.files) for part in (name, given.files[name])]
    root = _folder() / digest(given.root, *parts)[:20]
    _sweep(root)
    for name, data in given.files.items():
        place = root / name
        if not place.resolve().is_relative_to(root.resolve()):
            continue
        if not (place.is_file() and place.read_bytes() == data):
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(data)
    root.mkdir(parents=True, exist_ok=True)
    (root / ".asked").touch()
    store = Store(str(root))
    for name, packed in given.artefacts.items():
        store.lay(name, partial(unpack_folder, packed))
    with Scope(given.limits, None, _confined(given, store)).entered():
        yield store


def _confined(given: Given, store: Store) -> Callable[[], Confinement]:
    found: list[Confinement] = []

    def confinement() -> Confinement:
        if not found:
            launcher = str(store.artefact(given.launcher).launcher) if given.launcher else ""
            free = given.limits.free or not launcher
            made = Confinement(launcher, "") if free else find_means(launcher, str(store.folder))
            found.append(made._replace(hidden=tuple(store.answers)) if not free else made)
        return found[0]

    return confinement


def _folder() -> Path:
    return user_cache() / "fleet"


def _sweep(own: Path) -> None:
    with suppress(OSError):
        for folder in _folder().iterdir():
            asked = folder / ".asked"
            old = asked.exists() and time.time() - asked.stat().st_mtime > _KEPT_SECONDS
            if old and folder != own:
                shutil.rmtree(folder, ignore_errors=True)


def launcher_of(confinement: Confinement) -> str:
    """Return the artefact of the launcher that holds code here, "" for none."""
    path = Path(confinement.launcher)
    return path.parent.name if confinement.launcher == str(Artefact(path.parent).launcher) else ""
