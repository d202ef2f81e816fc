"""What compilers complain about, as records; and the files they say they read."""

import json
import posixpath
import re
from collections.abc import Callable, Mapping, Sequence

from hot_anvil.core.toolchain.diagnostics import Diagnostic, Severity

_TEXT = re.compile(
    r"^(?P<file>[^\n:]+):(?P<line>\d+):(?:(?P<column>\d+):)? "
    r"(?P<severity>(?:fatal |internal compiler )?error|warning|note): (?P<message>.*)$",
    re.IGNORECASE,
)
_UNPLACED = re.compile(
    r"^(?:[\w./+-]+: )?(?P<severity>(?:fatal |internal compiler )?error|warning): (?P<message>.*)$",
    re.IGNORECASE,
)
_NVCC = re.compile(
    r"^(?P<file>[^\n(]+)\((?P<line>\d+)\): (?P<severity>(?:catastrophic )?error|warning)"
    r"(?: (?P<option>#[\w-]+))?: (?P<message>.*)$"
)
_FORTRAN_PLACE = re.compile(r"^(?P<file>[^\n:]+):(?P<line>\d+):(?P<column>\d+):$")
_FORTRAN_WORDS = re.compile(r"^(?P<severity>Fatal Error|Error|Warning): (?P<message>.*)$")
_LEVELS = {"error: internal compiler error": "error", "failure-note": "", "help": "note"}


def read_diagnostics(stderr: str, form: str) -> tuple[Diagnostic, ...]:
    """Read a compiler's error stream; ``form`` is what the family's data file names."""
    if form == "gfortran":
        found = _read_fortran(stderr.split("\n"))
    else:
        reader = _READERS.get(form)
        found = [
            d
            for line in stderr.split("\n")
            for d in ((reader(line) if reader else None) or _read_text(line))
        ]
    return tuple(dict.fromkeys(found))


def file_name(name: str) -> str:
    """Return a file as every compiler's words for it agree: "./a.h" and "x/../a.h" are "a.h"."""
    return posixpath.normpath(name) if "/" in name else name


def _read_text(line: str) -> list[Diagnostic]:
    found = _TEXT.match(line) or _UNPLACED.match(line)
    return [_from_text(found.groupdict())] if found else []


def _read_gcc_json(line: str) -> list[Diagnostic] | None:
    items = _json_items(line) if line.startswith("[") else None
    if items is None:
        return None
    return [d for item in items if item.get("locations") is not None for d in _family(item)]


def _family(item: dict[str, object]) -> list[Diagnostic]:
    """Return a complaint with the notes that belong to it, right behind it."""
    children = item.get("children")
    notes = children if isinstance(children, list) else []
    return [_from_json(item), *(_from_json(note) for note in notes if isinstance(note, dict))]


def _read_nvcc(line: str) -> list[Diagnostic] | None:
    found = _NVCC.match(line)
    if not found:
        return None
    fields = found.groupdict()
    option = f" [{fields['option']}]" if fields["option"] else ""
    severity = (fields["severity"] or "").replace("catastrophic ", "")
    made = _from_text({**fields, "severity": severity})
    return [made._replace(message=made.message + option)]


def _read_rust(line: str) -> list[Diagnostic] | None:
    if not line.startswith("{"):
        return None
    try:
        item = json.loads(line)
    except ValueError:
        return None
    level = _LEVELS.get(item.get("level", ""), item.get("level", ""))
    spans = [span for span in item.get("spans") or [] if span.get("is_primary")]
    if not level or (not spans and str(item.get("message", "")).startswith("aborting due to")):
        return []  # a count of what was said before
    place = spans[0] if spans else {}
    code = (item.get("code") or {}).get("code", "")
    return [
        Diagnostic(
            file_name(str(place.get("file_name", ""))),
            int(place.get("line_start", 0)),
            int(place.get("column_start", 0)),
            level,
            f"{item.get('message', '')}" + (f" [{code}]" if code else ""),
        )
    ]


def _read_fortran(lines: Sequence[str]) -> list[Diagnostic]:
    """Read gfortran's text: a place, the source line, then the message."""
    out: list[Diagnostic] = []
    place: dict[str, str | None] = {}
    for line in lines:
        found = _FORTRAN_PLACE.match(line)
        if found:
            place = found.groupdict()
            continue
        words = _FORTRAN_WORDS.match(line)
        if words:
            fields = words.groupdict()
            severity = (fields["severity"] or "").lower()
            out.append(_from_text({**place, **fields, "severity": severity}))
            place = {}
        elif not place:
            out += _read_text(line)
    return out


_READERS: Mapping[str, Callable[[str], list[Diagnostic] | None]] = {
    "gcc-json": _read_gcc_json,
    "nvcc": _read_nvcc,
    "rustc-json": _read_rust,
}


def _json_items(line: str) -> list[dict[str, object]] | None:
    try:
        items = json.loads(line)
    except ValueError:
        return None
    return items if isinstance(items, list) else None


def _severity(word: str) -> Severity:
    """Return how grave a complaint is, from a compiler's own word such as "Fatal Error"."""
    plain = word.lower().rpartition(" ")[2]
    return "warning" if plain == "warning" else "error" if plain == "error" else "note"


def _from_json(item: dict[str, object]) -> Diagnostic:
    locations = item.get("locations")
    caret: dict[str, object] = {}
    if isinstance(locations, list) and locations:
        caret = locations[0].get("caret", {})
    option = item.get("option")
    message = f"{item.get('message', '')}" + (f" [{option}]" if option else "")
    line, column = caret.get("line", 0), caret.get("byte-column", caret.get("column", 0))
    return Diagnostic(
        file_name(str(caret.get("file", ""))),
        line if isinstance(line, int) else 0,
        column if isinstance(column, int) else 0,
        _severity(str(item.get("kind", "error"))),
        message,
    )


def _from_text(found: dict[str, str | None]) -> Diagnostic:
    return Diagnostic(
        file_name(found.get("file") or ""),
        int(found.get("line") or 0),
        int(found.get("column") or 0),
        _severity(found["severity"] or "error"),
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
