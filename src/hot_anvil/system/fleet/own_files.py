"""The files of a bench that its sources are compiled from: what has to travel with them."""

import os
import re
from collections.abc import Iterable, Sequence
from pathlib import Path

from hot_anvil.system.build.jobs import Job

_NAMED = re.compile(
    rb"""^[ \t]*(?:\#[ \t]*(?:include|include_next|import|embed)[ \t]*["<]([^">\n]+)[">]"""
    rb"""|(?:\.?include|\.incbin)[ \t]+['"]([^'"\n]+)['"]"""
    rb"""|(?:pub[ \t]+)?mod[ \t]+(\w+)[ \t]*;)""",
    re.MULTILINE,
)
_MACRO = re.compile(rb"^[ \t]*#[ \t]*include[ \t]+[A-Za-z_]", re.MULTILINE)
_HEADERS = (".h", ".hh", ".hpp", ".hxx", ".inc", ".inl", ".def", ".tcc")
_FOLDERS = ("-I", "-iquote", "-isystem", "-idirafter")
_MOST = 4000  # headers that are sent where a macro names one


def own_files(jobs: Iterable[Job], root: str) -> dict[str, bytes]:
    """Return the files below ``root`` that compiling may read, by their names there.

    Sources and what they include, either branch of every condition; where a macro names a file,
    all headers. What an include names elsewhere is the system's, or cannot travel: then the
    result does not fit here, and the unit is compiled here.
    """
    out: dict[str, bytes] = {}
    folders: dict[str, None] = {"": None}
    wanted: list[str] = []
    for job in jobs:
        wanted += [job.source, *_after(job.flags, ("-include", "-imacros"))]
        folders |= dict.fromkeys(_after(job.flags, _FOLDERS))
    for name in wanted:  # grows while it is gone through
        place = os.path.normpath(name)
        if place in out or place.startswith("..") or os.path.isabs(place):  # noqa: PTH117
            continue
        try:
            data = Path(root, place).read_bytes()
        except OSError:
            continue
        out[place] = data
        if _MACRO.search(data):
            wanted += _headers(root)
        here = os.path.dirname(place)  # noqa: PTH120
        for found in _NAMED.finditer(data):
            wanted += _places(found, here, folders)
    return out


def _after(flags: Sequence[str], options: Sequence[str]) -> list[str]:
    """Return what flags give these options, in one word or in two."""
    found = []
    for index, flag in enumerate(flags):
        for option in options:
            if flag == option and index + 1 < len(flags):
                found.append(flags[index + 1])
            elif flag.startswith(option) and not flag.startswith("-include-"):
                found.append(flag[len(option) :])
    return found


def _places(found: "re.Match[bytes]", here: str, folders: Iterable[str]) -> list[str]:
    """Return where a file that a line names may lie."""
    if found[3]:  # a module of Rust
        stem = os.path.join(here, os.fsdecode(found[3]))  # noqa: PTH118
        return [f"{stem}.rs", f"{stem}/mod.rs"]
    name = os.fsdecode(found[1] or found[2])
    return [os.path.join(folder, name) for folder in (here, *folders)]  # noqa: PTH118


def _headers(root: str) -> list[str]:
    found = []
    for folder, inner, names in os.walk(root):
        inner[:] = [name for name in inner if not name.startswith(".")]
        for name in names:
            if name.endswith(_HEADERS):
                found.append(os.path.relpath(os.path.join(folder, name), root))  # noqa: PTH118
        if len(found) > _MOST:
            break
    return found
