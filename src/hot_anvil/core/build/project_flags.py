"""The flags a real project compiles a file with, from its compile_commands.json."""

import os.path
import shlex
from collections.abc import Mapping, Sequence
from typing import Any

from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

_DROPPED_WITH_VALUE = ("-o", "-MF", "-MT", "-MQ", "-MJ", "--serialize-diagnostics")
_DROPPED = ("-c", "-S", "-E", "-M", "-MM", "-MD", "-MMD", "-MP", "-g", "-pipe", "--")
_DROPPED_STARTS = ("-o", "-g", "-MF", "-save-temps", "-fdiagnostics", "-Werror")
_PATHS = ("-I", "-isystem", "-iquote", "-include", "-imacros", "-idirafter", "-isysroot")


def project_flags(entries: Any, source: str, file: str) -> tuple[str, ...]:
    """Return the flags that ``entries`` compile the absolute path ``source`` with.

    What says what to make, and where, is left out; relative paths are made
    absolute. ``file`` names the file for errors; raises RequestError when it
    does not fit or does not list the source.
    """
    if not isinstance(entries, list) or not all(isinstance(entry, dict) for entry in entries):
        raise RequestError(f"{file}: is no compile_commands.json: a list of tables is expected.")
    known: dict[str, Mapping[str, Any]] = {}
    for entry in entries:
        folder = str(entry.get("directory", ""))
        path = os.path.normpath(os.path.join(folder, str(entry.get("file", ""))))  # noqa: PTH118
        known.setdefault(path, entry)
    found = known.get(os.path.normpath(source))
    if found is None:
        hint = did_you_mean(source, known)
        raise RequestError(
            f"{file}: does not say how {source} is compiled.{hint} "
            f"It lists {len(known)} files: {listed(known, 4)}."
        )
    return _kept(_words(found, file), source, str(found.get("directory", "")))


def without_levels(flags: Sequence[str], build: Sequence[str]) -> tuple[str, ...]:
    """Return a project's flags, without its optimisation level where the build has its own."""
    if not any(flag.startswith("-O") for flag in build):
        return tuple(flags)
    return tuple(flag for flag in flags if not flag.startswith("-O"))


def _words(entry: Mapping[str, Any], file: str) -> list[str]:
    words = entry.get("arguments")
    if isinstance(words, list):
        return [str(word) for word in words]
    try:
        return shlex.split(str(entry.get("command", "")))
    except ValueError as error:
        raise RequestError(
            f"{file}: the command of {entry.get('file')} cannot be split into words ({error})."
        ) from None


def _kept(words: Sequence[str], source: str, folder: str) -> tuple[str, ...]:
    def absolute(path: str) -> str:
        return os.path.normpath(os.path.join(folder, path))  # noqa: PTH118

    out: list[str] = []
    waiting = iter(words[1:])
    for word in waiting:
        if word in _DROPPED_WITH_VALUE:
            next(waiting, None)
        elif word in _PATHS:
            out += [word, absolute(next(waiting, ""))]
        elif word.startswith(("-I", "-isystem", "-iquote")):
            option = next(o for o in ("-isystem", "-iquote", "-I") if word.startswith(o))
            out.append(option + absolute(word[len(option) :]))
        elif not (
            word in _DROPPED
            or word.startswith(_DROPPED_STARTS)
            or (not word.startswith("-") and absolute(word) == source)
        ):
            out.append(word)
    return tuple(out)
