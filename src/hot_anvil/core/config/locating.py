"""Put the line into a message about a bench file that was found out later than by reading it."""

import re

from hot_anvil.core.config.positions import Path, line_of
from hot_anvil.core.config.records import Bench

_SNIPPET = re.compile(r"snippet ([^:]+?)(?:: case (\d+))?(?:: ([\w.]+)|$|[: ])")
_TABLE = re.compile(r"([a-z_]+(?:\.[\w-]+)+): ")


def with_line(message: str, bench: Bench) -> str:
    """Return a message that begins with the bench's file, with the line that it is about."""
    start = f"{bench.file}: "
    if not bench.text or not message.startswith(start):
        return message
    rest = message[len(start) :]
    line = line_of(bench.text, path) if (path := _path(rest, bench)) else None
    return f"{bench.file}:{line}: {rest}" if line else message


def _path(rest: str, bench: Bench) -> Path:
    """Return where in the tables the rest of a message is about, nothing where not known."""
    found = _SNIPPET.match(rest)
    if not found:
        table = _TABLE.match(rest)
        return tuple(table[1].split(".")) if table else ()
    numbers = [k for k, snippet in enumerate(bench.snippets) if snippet.name == found[1]]
    if not numbers:
        return ()
    path: Path = ("snippet", numbers[0])
    if found[2]:
        path = (*path, "case", int(found[2]) - 1)
    return (*path, *found[3].split(".")) if found[3] else path
