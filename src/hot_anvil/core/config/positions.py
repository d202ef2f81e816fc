"""Find the lines of keys in TOML text, for error messages.

Only a TOML parser knows what is a key and what is text inside a string, so the parser is asked:
a key begins on the first line with which the text up to there holds it. This costs a parse for
each line looked at, and is done only when there is something to tell.
"""

import tomllib
from collections.abc import Mapping
from typing import Any

Step = str | int
Path = tuple[Step, ...]


def line_of(text: str, path: Path) -> int | None:
    """Return the line (from 1) where the key or table at ``path`` begins.

    ``path`` holds keys and, for arrays of tables, indices. When the key itself is not found, the
    line of the nearest table above it is returned; None when nothing of the path is there.
    """
    lines = text.split("\n")
    headers = [n for n, line in enumerate(lines, 1) if line.lstrip().startswith("[")]
    for length in range(len(path), 0, -1):
        found = _first_line(lines, headers, path[:length])
        if found:
            return found
    return None


def dotted(path: Path) -> str:
    """Return the path as people write it: ``snippet[2].inputs.low``."""
    out = ""
    for step in path:
        out += f"[{step + 1}]" if isinstance(step, int) else f".{step}" if out else step
    return out


def _first_line(lines: list[str], headers: list[int], path: Path) -> int:
    """Return the line that first makes the text hold ``path``, 0 when none does."""
    start = 1
    for header in [*headers, len(lines) + 1]:
        if header <= len(lines) and _holds(lines, header, path):
            return _in_segment(lines, start, header, path)
        if header > start:  # the lines of the table before
            found = _in_segment(lines, start, header - 1, path)
            if found:
                return found
        start = header
    return 0


def _in_segment(lines: list[str], first: int, last: int, path: Path) -> int:
    """Return the line of first to last on which ``path`` begins, 0 when it does not."""
    if not _holds(lines, last, path) and _parse(lines, last) is not None:
        return 0
    begins = first
    for number in range(first, last + 1):
        known = _parse(lines, number)
        if known is None:
            continue  # inside a value of several lines
        if _reach(known, path):
            while begins < number and _says_nothing(lines[begins - 1]):
                begins += 1
            return begins
        begins = number + 1
    return 0


def _says_nothing(line: str) -> bool:
    return not line.strip() or line.lstrip().startswith("#")


def _holds(lines: list[str], count: int, path: Path) -> bool:
    known = _parse(lines, count)
    return known is not None and _reach(known, path)


def _parse(lines: list[str], count: int) -> Mapping[str, Any] | None:
    """Return the tables of the first ``count`` lines, None where these end inside a value."""
    try:
        return tomllib.loads("\n".join(lines[:count]) + "\n")
    except tomllib.TOMLDecodeError:
        return None


def _reach(value: Any, path: Path) -> bool:
    for place, step in enumerate(path):
        if isinstance(step, int) and isinstance(value, Mapping):
            # One snippet may be written as a plain table, which has no index.
            return step == 0 and _reach(value, path[place + 1 :])
        try:
            value = value[step]
        except (KeyError, IndexError, TypeError):
            return False
    return True
