"""What compilers say of their own doing, read from their messages."""

import re
from typing import NamedTuple


class DoneRemark(NamedTuple):
    """One remark of a compiler on something that it did."""

    file: str
    line: int
    text: str


_GCC = re.compile(r"(.+?):(\d+):(?:\d+): optimized:\s+(.*)")

_CLANG = re.compile(r"(.+?):(\d+):(?:\d+): remark: (.*?)(?: \[-Rpass=[\w-]+\])?$")

GUESSED_COUNT = re.compile(r" \(header execution count \d+\)")  # made without a profile


def read_remarks(text: str, style: str) -> tuple[DoneRemark, ...]:
    """Read what a compiler wrote; ``style`` is "gcc" or "clang"."""
    pattern = _GCC if style == "gcc" else _CLANG
    found = (pattern.match(GUESSED_COUNT.sub("", line)) for line in text.split("\n"))
    return tuple(dict.fromkeys(DoneRemark(m[1], int(m[2]), m[3].strip()) for m in found if m))
