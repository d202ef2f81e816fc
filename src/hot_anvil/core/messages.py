"""What compilers complain about, as records; and the files they say they read."""

import json
import re

from hot_anvil.core.diagnostics import Diagnostic

_TEXT = re.compile(
    r"^(?P<file>[^\n:]+):(?P<line>\d+):(?:(?P<column>\d+):)? "
    r"(?P<severity>fatal error|error|warning|note): (?P<message>.*)$"
)
_UNPLACED = re.compile(
    r"^(?:[\w./+-]+: )?(?P<severity>fatal error|error|warning): (?P<message>.*)$"
)


def read_diagnostics(stderr: str, form: str) -> tuple[Diagnostic, ...]:
    """Read a compiler's error stream; ``form`` is the family's ``diagnostics``."""
    out: list[Diagnostic] = []
    for line in stderr.split("\n"):
        if form == "gcc-json" and line.startswith("["):
            items = _json_items(line)
            if items is not None:
                out += [_from_json(item) for item in items if item.get("locations") is not None]
                continue
        found = _TEXT.match(line) or _UNPLACED.match(line)
        if found:
            out.append(_from_text(found.groupdict()))
    return tuple(dict.fromkeys(out))


def _json_items(line: str) -> list[dict[str, object]] | None:
    try:
        items = json.loads(line)
    except ValueError:
        return None
    return items if isinstance(items, list) else None


def _from_json(item: dict[str, object]) -> Diagnostic:
    locations = item["locations"]
    caret: dict[str, object] = {}
    if isinstance(locations, list) and locations:
        caret = locations[0].get("caret", {})
    option = item.get("option")
    message = f"{item.get('message', '')}" + (f" [{option}]" if option else "")
    line, column = caret.get("line", 0), caret.get("column", 0)
    return Diagnostic(
        str(caret.get("file", "")),
        line if isinstance(line, int) else 0,
        column if isinstance(column, int) else 0,
        str(item.get("kind", "error")).replace("fatal ", ""),
        message,
    )


def _from_text(found: dict[str, str | None]) -> Diagnostic:
    return Diagnostic(
        found.get("file") or "",
        int(found.get("line") or 0),
        int(found.get("column") or 0),
        (found["severity"] or "error").replace("fatal ", ""),
        found["message"] or "",
    )


def read_dependencies(text: str) -> tuple[str, ...]:
    """Return the files a make rule (``-MD``) names as prerequisites."""
    joined = text.replace("\\\n", " ")
    # The target is ours and holds no colon followed by a blank.
    _, _, rest = joined.partition(": ")
    rest = rest.split("\n", 1)[0]
    words = re.findall(r"(?:\\[ #]|\$\$|[^ \t\r\n])+", rest)
    return tuple(re.sub(r"\\([ #])", r"\1", word).replace("$$", "$") for word in words)
