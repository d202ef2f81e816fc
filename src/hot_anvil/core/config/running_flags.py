"""Flags by which a compiler or linker runs, or loads, a program that they name."""

import re
import shlex
from collections.abc import Iterable, Iterator
from itertools import pairwise

# Each is the whole flag, or how it begins; what a compiler runs by itself is not meant.
_RUNS = re.compile(
    r"-wrapper\b|-fplugin\b|-fplugin=|-fpass-plugin=|-specs=|--specs=|-specs$|--prefix|-load$|"
    r"-B(?!static|dynamic|symbolic|group)|"
    r"-fuse-ld=.*/|--ld-path=|-ld-path|--config\b|-config$|@|-plugin\b|--plugin|-gcc-toolchain|"
    r"--gcc-toolchain|-ccc-|-no-canonical-prefixes|-iplugindir|"
    r"-Clinker\b|linker=|link-args?=|-Zcodegen-backend|codegen-backend=|-ccbin|"
    r"--compiler-bindir"
)
_HANDED_ON = re.compile(r"-(?:Wl|Wa|Wp|Xlinker|Xclang|Xpreprocessor|mllvm|C|Z)(?:,|=|$)")


def running_flags(flags: Iterable[str]) -> Iterator[str]:
    """Give the flags that make a tool run or load a program, with what they name."""
    # What is handed on to clang's inner part is named by turns.
    every = [flag for flag in flags if flag != "-Xclang"]
    for flag, following in pairwise([*every, ""]):
        parts = flag.split(",")[1:] if _HANDED_ON.match(flag) and "," in flag else [flag]
        if any(_RUNS.match(part) for part in parts):
            alone = "=" not in flag and not following.startswith("-")
            yield f"{flag} {following}".rstrip() if alone else flag


def words_of(text: str) -> list[str]:
    """Return the flags in a text; what cannot be split is one."""
    try:
        return shlex.split(text)
    except ValueError:
        return [text]
