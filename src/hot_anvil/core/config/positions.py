"""Find the lines of keys in TOML text, for error messages.

Only a TOML parser knows what is a key and what is text inside a string, so the parser is asked:
a key begins on the first line with which the text up to there holds it. This costs a parse for
each line looked at, and is done only when there is something to tell.
"""

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
    for length in range(len(path), 0, -1):
        found = _first_line(lines, path[:length])
        if found:
            return found
    return None


def dotted(path: Path) -> str:
    """Return the path as people write it: ``snippet[2].inputs.low``."""
    out = ""
    for step in path:
        out += f"[{step + 1}]" if isinstance(step, int) else f".{step}" if out else step
    return out


def _first_line(lines: list[str], path: Path) -> int:
    """Return the line on which the statement begins that makes the text hold ``path``, 0 for none.

    Once a beginning of the text holds it, all longer ones do: the shortest is found by halving.
    """
    low, high, ends = 1, len(lines), 0
    while low <= high:
        middle = (low + high) // 2
        whole = next((n for n in range(middle, high + 1) if _parse(lines, n) is not None), 0)
        if whole and not _reach(_parse(lines, whole), path):
            low = whole + 1
        else:
            ends = whole or ends
            high = middle - 1
    if not ends:
        return 0
    begins = ends
    while begins > 1 and _parse(lines, begins - 1) is None:
        begins -= 1  # inside a value of several lines
    while begins < ends and _says_nothing(lines[begins - 1]):
        begins += 1
    return begins


def _says_nothing(line: str) -> bool:
    return not line.strip() or line.lstrip().startswith("#")


def _parse(lines: list[str], count: int) -> Mapping[str, Any] | None:
    """Return the tables of the first ``count`` lines, None where these end inside a value."""
    import tomllib  # a bench without mistakes never comes here

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
