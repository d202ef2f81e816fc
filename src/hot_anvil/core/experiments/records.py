"""Experiments and edits as values."""

from collections.abc import Iterable, Mapping, Sequence
from itertools import pairwise
from typing import NamedTuple

SECONDS = 20.0  # of measuring one entry, all its experiments together


class Edit(NamedTuple):
    """Text put in the place of some bytes of a file; every line of it keeps its number."""

    file: str
    start: int  # byte of the file
    end: int
    text: str


class Experiment(NamedTuple):
    """One flag or edit, or several together, and what must hold for it to be valid."""

    name: str
    why: str  # what suggests it, in words
    promise: str = ""  # what the author must guarantee, "" for nothing
    flags: tuple[str, ...] = ()  # behind the build's own
    edits: tuple[Edit, ...] = ()
    breaks: tuple[str, ...] = ()  # kinds of edge inputs that the promise rules out
    apart: tuple[str, ...] = ()  # parameters whose buffers are promised to overlap no other
    loosens: bool = False  # floats may differ in their last bits
    toolchain: str = ""  # another one that compiles, "" for the build's own
    profile: bool = False  # compiled with what a run of the bench's inputs showed
    parts: tuple[str, ...] = ()  # experiments that it is put together from


class EditError(ValueError):
    """Two edits that want the same place."""


def edited(text: str, edits: Iterable[Edit]) -> str:
    """Return a file's text with edits made; raises EditError where two overlap."""
    data = text.encode(errors="surrogateescape")
    out = []
    done = 0
    for edit in sorted(set(edits), key=lambda e: (e.start, e.end)):
        if edit.start < done:
            raise EditError(f"two edits of {edit.file} want the same place")
        out += [data[done : edit.start], edit.text.encode()]
        done = edit.end
    return b"".join([*out, data[done:]]).decode(errors="surrogateescape")


def edited_files(texts: Mapping[str, str], edits: Iterable[Edit]) -> dict[str, str]:
    """Return file -> text with edits made, of the files that are edited."""
    own: dict[str, list[Edit]] = {}
    for edit in edits:
        own.setdefault(edit.file, []).append(edit)
    return {file: edited(texts[file], several) for file, several in own.items()}


def together(several: Sequence[Experiment]) -> Experiment:
    """Return several experiments as one; raises EditError where they cannot be made together."""
    edits = tuple(dict.fromkeys(edit for one in several for edit in one.edits))
    for file in {edit.file for edit in edits}:
        own = sorted((e for e in edits if e.file == file), key=lambda e: (e.start, e.end))
        for before, after in pairwise(own):
            if after.start < before.end or (after.start, after.end) == (before.start, before.end):
                raise EditError(f"two edits of {file} want the same place")
    if len({one.toolchain for one in several}) > 1:
        raise EditError("they are of different compilers")
    flags = tuple(dict.fromkeys(flag for one in several for flag in one.flags))
    if len({_matter(flag) for flag in flags}) < len(flags):
        raise EditError("they say the same thing differently")
    return Experiment(
        name=" and ".join(one.name for one in several),
        why="each alone is faster",
        promise="; ".join(dict.fromkeys(one.promise for one in several if one.promise)),
        flags=flags,
        edits=edits,
        breaks=tuple(dict.fromkeys(kind for one in several for kind in one.breaks)),
        apart=tuple(dict.fromkeys(name for one in several for name in one.apart)),
        loosens=any(one.loosens for one in several),
        toolchain=several[0].toolchain,
        profile=any(one.profile for one in several),
        parts=tuple(one.name for one in several),
    )


def _matter(flag: str) -> str:
    """Return what a flag is about: the same for -O2 and -O3, for -fx and -fno-x."""
    if flag.startswith("-O"):
        return "-O"
    return flag.partition("=")[0].replace("no-", "", 1)
