"""An export: one ZIP file of plain members, written whole, and read with suspicion."""

import re
import stat
import zipfile
import zlib
from collections.abc import Mapping
from io import BytesIO
from pathlib import Path

from hot_anvil.errors import RequestError, cannot
from hot_anvil.system.store.files import write_whole

MOST_MEMBERS = 20_000
LARGEST = 1 << 28  # bytes of one member unpacked
LARGEST_IN_ALL = 1 << 30
_DATE = (2000, 1, 1, 0, 0, 0)  # the same content makes the same file
# Names that stay below the folder they are laid out in, on any system.
_NAME = re.compile(r"(?:[^/\\\x00-\x1f:*?\"<>|]+/)*[^/\\\x00-\x1f:*?\"<>|]+")


def write_export(path: Path, files: Mapping[str, bytes]) -> None:
    """Write files, by their names inside, as one export."""
    data = BytesIO()
    with zipfile.ZipFile(data, "w", zipfile.ZIP_DEFLATED) as out:
        for name in sorted(files):
            out.writestr(_member(name), files[name])
    try:
        write_whole(path, data.getvalue())
    except OSError as error:
        raise cannot(f"{path}: cannot be written", error) from None


def _member(name: str) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name, _DATE)
    info.compress_type = zipfile.ZIP_DEFLATED
    info.external_attr = (stat.S_IFREG | 0o644) << 16
    return info


def read_export(path: Path) -> dict[str, bytes]:
    """Return the files of an export by their names inside; nothing is written.

    Raises RequestError for what is no export, and for one whose members climb out, are links, come
    twice or are larger than any of ours.
    """
    try:
        with zipfile.ZipFile(path) as export:
            members = export.infolist()
            _must_be_sound(path, members)
            return {member.filename: _content(path, export, member) for member in members}
    except OSError as error:
        raise cannot(f"{path}: cannot be read", error) from None
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError,
            ValueError, UnicodeError) as error:  # fmt: skip
        raise RequestError(f"{path}: is no export of Hot Anvil, or is damaged ({error}).") from None


def _must_be_sound(path: Path, members: list[zipfile.ZipInfo]) -> None:
    if len(members) > MOST_MEMBERS:
        raise RequestError(f"{path}: holds {len(members)} files, more than any export of ours.")
    names = [member.filename for member in members]
    for member in members:
        name = member.filename
        parts = name.split("/")
        if not _NAME.fullmatch(name) or {".", "..", ""} & set(parts) or len(name) > 1000:
            raise RequestError(f"{path}: holds a file named {name!r}, which no export of ours has.")
        kind = stat.S_IFMT(member.external_attr >> 16)
        if kind not in (0, stat.S_IFREG):
            raise RequestError(f"{path}: {name} is no plain file; an export holds no links.")
        if names.count(name) > 1 or any(f"{name}/" == other[: len(name) + 1] for other in names):
            raise RequestError(f"{path}: {name} is in it twice.")
    if sum(member.file_size for member in members) > LARGEST_IN_ALL:
        raise RequestError(f"{path}: would unpack to more than any export of ours.")


def _content(path: Path, export: zipfile.ZipFile, member: zipfile.ZipInfo) -> bytes:
    """Return a member's bytes; what it says of its size is not believed."""
    with export.open(member) as stream:
        data = stream.read(LARGEST + 1)
    if len(data) > LARGEST:
        raise RequestError(f"{path}: {member.filename} is larger than any file of an export.")
    return data
