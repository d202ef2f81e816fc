"""Find the line of a key in TOML text, for error messages."""

import re

Step = str | int
_HEADER = re.compile(r"\s*(\[\[?)\s*([^\]]+?)\s*\]\]?")
_KEY = re.compile(r"""\s*((?:[\w-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[\w-]+|"[^"]*"|'[^']*'))*)\s*=""")


def line_of(text: str, path: tuple[Step, ...]) -> int | None:
    """Return the line (from 1) where the key or table at ``path`` stands.

    ``path`` holds keys and, for arrays of tables, indices. When the key
    itself is not found, the line of the nearest table above it is returned;
    None when nothing of the path stands in the text.
    """
    lines = _lines_by_path(text)
    for length in range(len(path), 0, -1):
        start = path[:length]
        # One snippet may be written as a plain table, which has no index.
        plain = tuple(step for step in start if not isinstance(step, int))
        found = lines.get(start) or lines.get(plain)
        if found:
            return found
    return None


def dotted(path: tuple[Step, ...]) -> str:
    """Return the path as people write it: ``snippet[2].inputs.low``."""
    out = ""
    for step in path:
        out += f"[{step + 1}]" if isinstance(step, int) else f".{step}" if out else step
    return out


def _lines_by_path(text: str) -> dict[tuple[Step, ...], int]:
    found: dict[tuple[Step, ...], int] = {}
    counts: dict[tuple[Step, ...], int] = {}
    table: tuple[Step, ...] = ()
    for number, line in enumerate(text.split("\n"), 1):
        header = _HEADER.match(line)
        if header:
            table = _with_indices(_split(header[2]), counts)
            if header[1] == "[[":
                index = counts.get(table, 0)
                counts[table] = index + 1
                found.setdefault(table, number)
                table = (*table, index)
            found.setdefault(table, number)
            continue
        key = _KEY.match(line)
        if key:
            found.setdefault((*table, *_split(key[1])), number)
    return found


def _split(dotted_key: str) -> list[str]:
    parts = re.findall(r"""[\w-]+|"[^"]*"|'[^']*'""", dotted_key)
    return [part.strip("\"'") for part in parts]


def _with_indices(keys: list[str], counts: dict[tuple[Step, ...], int]) -> tuple[Step, ...]:
    """Insert the current index after each key that is an array of tables."""
    path: tuple[Step, ...] = ()
    for position, key in enumerate(keys):
        path = (*path, key)
        if path in counts and position < len(keys) - 1:
            path = (*path, counts[path] - 1)
    return path
