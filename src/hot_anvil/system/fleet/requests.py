"""What a machine is asked to do for another, and what it answers; all of it travels by content.

Pickled between equal versions of Hot Anvil only: whoever reaches a fleet may run code on it anyway
(docs/fleet.md), so reading what comes from there is no more than that.
"""

import copyreg
import io
import lzma
import pickle
import zipfile
from collections.abc import Iterable, Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any, NamedTuple

from hot_anvil.core.build.records import Unit
from hot_anvil.system.build.jobs import Job
from hot_anvil.system.process.scope import Limits
from hot_anvil.system.store.store import Store

Artefacts = Mapping[str, bytes]  # name -> its files, packed


class Given(NamedTuple):
    """What every request brings: the bench's files, and what was made of them already."""

    root: str  # the bench's folder where it is asked; nothing there is reached
    files: Mapping[str, bytes]  # name below that folder -> content
    artefacts: Artefacts
    launcher: str  # artefact of what starts code under study, "" for none
    limits: Limits


class JobAsked(NamedTuple):
    """One source to compile under one build, by the very same compiler."""

    job: Job
    content: str  # of its compiler, see this_machine.content_of


class Compile(NamedTuple):
    """Compile units."""

    given: Given
    jobs: tuple[JobAsked, ...]


class Made(NamedTuple):
    """A unit that was compiled, with all that the asking store has to know of it."""

    unit: Unit
    read: tuple[str, ...]  # files that the compiler read
    absent: tuple[str, ...]  # where another file would have been found before one of them
    artefact: bytes  # packed, b"" for a unit that is refused for this once


class Failed(NamedTuple):
    """What could not be done there, and why."""

    why: str
    ours: bool = False  # a fault of Hot Anvil itself


def _view(values: dict[Any, Any]) -> "MappingProxyType[Any, Any]":
    return MappingProxyType(values)


def _plain_view(view: "MappingProxyType[Any, Any]") -> tuple[Any, ...]:
    return _view, (dict(view),)


# Empty defaults of records are views that nobody can change; pickle knows none.
copyreg.pickle(MappingProxyType, _plain_view)


def to_bytes(value: Any) -> bytes:
    """Return a request or an answer as bytes.

    Compressed as a whole: the images of a build at eight placements are nearly the same.
    """
    return lzma.compress(pickle.dumps(value, protocol=pickle.HIGHEST_PROTOCOL), preset=1)


def from_bytes(data: bytes) -> Any:
    """Return what ``to_bytes`` was given."""
    return pickle.loads(lzma.decompress(data))


def pack_folder(folder: Path) -> bytes:
    """Return the files of an artefact as one text of bytes."""
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w") as out:
        for file in sorted(folder.iterdir()):
            if file.is_file() and not file.is_symlink():
                info = zipfile.ZipInfo(file.name)
                info.external_attr = (file.stat().st_mode & 0o777) << 16
                out.writestr(info, file.read_bytes())
    return data.getvalue()


def unpack_folder(data: bytes, folder: Path) -> None:
    """Lay packed files out in a folder; names that lead elsewhere are left out."""
    with zipfile.ZipFile(io.BytesIO(data)) as packed:
        for member in packed.infolist():
            if member.filename == Path(member.filename).name:
                target = folder / member.filename
                target.write_bytes(packed.read(member))
                target.chmod(member.external_attr >> 16 & 0o777 or 0o644)


def artefacts_of(paths: Iterable[str], store: Store) -> dict[str, bytes]:
    """Return the artefacts that files of a store lie in, packed."""
    names = dict.fromkeys(name for path in paths if (name := artefact_name(path, store)))
    return {name: pack_folder(store.artefact(name).folder) for name in names}


def artefact_name(path: str, store: Store) -> str:
    """Return the artefact that a file of a store lies in, "" for a file elsewhere."""
    place = Path(path)
    inside = bool(path) and place.parent.parent == store.folder / "artefacts"
    return place.parent.name if inside else ""


def moved(path: str, names: Iterable[str], store: Store) -> str:
    """Return where a file of one of these artefacts lies in another store."""
    name = Path(path).parent.name
    return str(store.artefact(name).folder / Path(path).name) if name in set(names) else path
