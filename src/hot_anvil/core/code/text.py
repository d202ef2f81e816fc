"""Pieces of assembly text: statements, operands, section names, quoted names, paths."""

import os.path
import re
from collections.abc import Sequence

_BRACKET = re.compile(r"[(\[{]")
_ESCAPE = re.compile(rb"\\([0-7]{1,3}|.)")
_CODE_SECTION = re.compile(r"\.(text|init|fini)\b")


def split_statements(
    line: str, comments: Sequence[str] = ("#",), separator: str = ";"
) -> list[str]:
    """Split a line at the separator and drop its comments, minding strings."""
    if separator not in line and "/*" not in line and not any(sign in line for sign in comments):
        return [line]
    if '"' not in line and "/*" not in line:
        for sign in comments:
            line = line.split(sign, 1)[0]
        return [part.strip() for part in line.split(separator) if part.strip()]
    parts = [""]
    quoted = False
    at = 0
    while at < len(line):
        sign = line[at]
        if quoted and sign == "\\":
            parts[-1] += line[at : at + 2]
            at += 2
            continue
        if sign == '"':
            quoted = not quoted
        if not quoted and line.startswith(tuple(comments), at):
            break
        if not quoted and line.startswith("/*", at):
            end = line.find("*/", at + 2)
            at = len(line) if end < 0 else end + 2
            continue
        if sign == separator and not quoted:
            parts.append("")
        else:
            parts[-1] += sign
        at += 1
    return [part.strip() for part in parts if part.strip()]


def split_operands(text: str) -> tuple[str, ...]:
    """Split operands at the commas outside parentheses, brackets and braces."""
    text = text.strip()
    if not text:
        return ()
    if "," not in text:
        return (text,)
    if not _BRACKET.search(text):
        return tuple(part.strip() for part in text.split(","))
    parts = []
    depth = start = 0
    for index, sign in enumerate(text):
        if sign in "([{":
            depth += 1
        elif sign in ")]}":
            depth -= 1
        elif sign == "," and depth == 0:
            parts.append(text[start:index].strip())
            start = index + 1
    parts.append(text[start:].strip())
    return tuple(parts)


def section_of(rest: str) -> tuple[str, bool]:
    """Return (name, is it code?) from what follows ``.section``."""
    name, _, flags = rest.partition(",")
    name = name.strip().strip('"')
    found = re.match(r'\s*"([^"]*)"', flags)
    return name, "x" in found[1] if found else bool(_CODE_SECTION.match(name))


def unquote(name: str) -> str:
    """Return a symbol name without the quotes some compilers put around odd ones."""
    return name[1:-1] if len(name) > 1 and name[0] == '"' == name[-1] else name


def unescape(text: str) -> str:
    """Undo the assembler's escapes in a quoted string."""
    if "\\" not in text:
        return text

    def plain(found: re.Match[bytes]) -> bytes:
        return bytes([int(found[1], 8) & 255]) if found[1].isdigit() else found[1]

    return _ESCAPE.sub(plain, text.encode()).decode(errors="surrogateescape")


def normal_path(directory: str, name: str, folder: str) -> str:
    """Return the file's path, relative to ``folder`` when it lies inside."""
    if name.startswith("<"):
        return name
    path = os.path.normpath(os.path.join(folder, directory, name))  # noqa: PTH118 - text only
    inside = folder.rstrip("/") + "/"
    return path[len(inside) :] if path.startswith(inside) else path
