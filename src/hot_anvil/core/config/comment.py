"""Settings that a source carries in its own first comment."""

import re
from itertools import takewhile

_MARK = re.compile(r"hot-anvil:\s*$")
_SIGNS = ("//", "!", "#", ";", "@")  # of languages that comment to the end of a line
_LEADER = re.compile(r"\s*(?://!?|\*(?!/)|!|#|;|@)? ?")


def settings_in_comment(text: str) -> str | None:
    """Return the TOML text in the first comment of a source, None without one.

    It stands between a line that ends in ``hot-anvil:`` and the end of the
    comment; a ``*``, or the sign of a comment, at the start of its lines is dropped. Blank
    lines go before it, so that line numbers are those of the source.
    """
    lines = _first_comment(text)
    for index, (_, line) in enumerate(lines):
        if _MARK.search(line):
            inside = lines[index + 1 :]
            if not inside:
                return ""
            before = inside[0][0] - 1
            return "\n" * before + "\n".join(_LEADER.sub("", one, count=1) for _, one in inside)
    return None


def _first_comment(text: str) -> list[tuple[int, str]]:
    """Return (line number, line) for the lines of the comment a source starts with."""
    lines = list(enumerate(text.split("\n"), 1))
    while lines and not lines[0][1].strip():
        lines.pop(0)
    if not lines:
        return []
    start = lines[0][1].lstrip()
    sign = next(filter(start.startswith, _SIGNS), "")
    if sign:
        return list(takewhile(lambda item: item[1].lstrip().startswith(sign), lines))
    if not start.startswith("/*"):
        return []
    for k, (number, line) in enumerate(lines):
        if "*/" in line:
            return [*lines[:k], (number, line.partition("*/")[0])]
    return []
