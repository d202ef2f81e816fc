"""Source lines that no instruction comes from: in some builds, or in all."""

import re
from collections.abc import Collection, Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.asm.listing import Sources
from hot_anvil.core.code.records import Code

_STRING = re.compile(r'"(?:\\.|[^"\\])*"|\'(?:\\.|[^\'\\])*\'')
_BLOCK_COMMENT = re.compile(r"/\*.*?\*/", re.DOTALL)
_NOTHING = re.compile(
    r"[\s{}();,]*|\}?\s*(?:else|do|try|default\s*:|public:|private:|protected:)\s*\{?"
    r"|#.*|(?:struct|union|enum|class|namespace|using|typedef|template|extern)\b.*"
    r"|case\b[^;]*:|\w+\s*:|(?:use|mod|pub use)\b.*"
    r"|(?:static\s+|const\s+|unsigned\s+|signed\s+|volatile\s+|register\s+)*"
    r"(?:\w+(?:::\w+)*)(?:\s*<[^;=]*>)?[\s*&]+\w+(?:\s*\[[^\]=]*\])*(?:\s*,\s*\*?\w+)*\s*;"
)


class SilentLine(NamedTuple):
    """A source line without code in some builds."""

    file: str
    line: int
    text: str
    builds: tuple[str, ...]  # those without code for it
    everywhere: bool  # no build has code for it


def silent_lines(
    codes: Mapping[str, Code], sources: Sources, entries: Collection[str] = ()
) -> tuple[SilentLine, ...]:
    """Return lines inside functions that could have code and have none, with the builds.

    Lines count from where a function begins to the brace that closes it, in
    the bench's own files; blank lines, comments, braces and declarations
    without a value do not. ``entries`` (symbols) limits it to these functions.
    """
    with_code: dict[tuple[str, int], set[str]] = {}
    begins: dict[str, set[int]] = {}
    for build, code in codes.items():
        for function in code.functions:
            file, line = function.begins
            wanted = not entries or function.owner in entries
            if line and wanted and not file.startswith("/"):
                begins.setdefault(file, set()).add(line)
            places = {(item.file, item.line) for item in function.instructions}
            chains = {item.chain for item in function.instructions if item.chain}
            places |= {(site.file, site.line) for chain in chains for site in chain}
            for place in places:
                with_code.setdefault(place, set()).add(build)
    out = []
    for file in sorted(begins):
        able = [build for build, code in codes.items() if file in code.files]
        lines = sources.get(file, ())
        plain = plain_lines(lines)
        for line, last in _statements(plain, _inside(plain, sorted(begins[file]))):
            parts = [with_code.get((file, k), set()) for k in range(line, last + 1)]
            own = set().union(*parts)
            text = " ".join(plain[k - 1].strip() for k in range(line, last + 1))
            if len(own) == len(able) or _NOTHING.fullmatch(text):
                continue
            lacking = tuple(build for build in able if build not in own)
            if own or text.endswith((";", "{", ")", "}")):
                out.append(SilentLine(file, line, lines[line - 1].strip(), lacking, not own))
    return tuple(out)


def _statements(plain: Sequence[str], lines: Sequence[int]) -> list[tuple[int, int]]:
    """Return the statements of some lines, as (first line, last line)."""
    out: list[tuple[int, int]] = []
    goes_on = False
    for line in lines:
        text = plain[line - 1].strip()
        if goes_on and out and out[-1][1] == line - 1:
            out[-1] = (out[-1][0], line)
        else:
            out.append((line, line))
        if text:
            goes_on = not text.endswith((";", "{", "}", ":")) and not text.startswith("#")
    return out


def plain_lines(lines: Sequence[str]) -> list[str]:
    """Return source lines with comments and the contents of texts taken out."""
    text = "\n".join(_STRING.sub('""', line) for line in lines)
    text = _BLOCK_COMMENT.sub(lambda found: "\n" * found[0].count("\n"), text)
    return [re.sub(r"//.*", "", line) for line in text.split("\n")]


def _inside(plain: Sequence[str], begins: Sequence[int]) -> list[int]:
    """Return the lines of functions' bodies, from the line behind where each begins."""
    out: dict[int, None] = {}
    for first in begins:
        depth, opened = 0, False
        for number in range(first, len(plain) + 1):
            text = plain[number - 1]
            depth += text.count("{") - text.count("}")
            if opened and depth > 0:
                out[number] = None
            opened = opened or "{" in text
            if (opened and depth <= 0) or (not opened and ";" in text):
                break
    return list(out)
