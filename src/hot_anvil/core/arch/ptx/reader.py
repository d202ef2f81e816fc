"""Read PTX, as nvcc and clang write it, into functions.

A statement ends at a semicolon and may span lines; files are numbered at the
very end of the text; nvcc says in ``.loc`` which call a line was inlined
through (``inlined_at FILE LINE COLUMN``).
"""

import re
from typing import NamedTuple

from hot_anvil.core.code.records import Code, Function, Instruction, Site
from hot_anvil.core.code.text import normal_path, unescape

_FILE = re.compile(r'\s*\.file\s+(\d+)\s+"((?:[^"\\]|\\.)*)"(?:\s+"((?:[^"\\]|\\.)*)")?')
_LOC = re.compile(
    r"\s*\.loc\s+(\d+)\s+(\d+)\s+\d+"
    r"(?:,\s*function_name\s+(?P<name>[\w$]+)(?:\+(?P<offset>\d+))?"
    r",\s*inlined_at\s+(?P<file>\d+)\s+(?P<line>\d+)\s+\d+)?"
)
_ENTRY = re.compile(r"\.(?:func|entry)\b\s*(?:\([^)]*\)\s*)?([\w$%]+)")
_DIRECTIVE = re.compile(r"\s*\.(?:version|target|address_size)\b")
_LABEL = re.compile(r"\s*([\w$%]+):\s*(?:$|//)")
_GUARD = re.compile(r"(@!?%?\w+)\s+")
_BYTES = re.compile(r"\.b8\s+([\d,\s]+)")


class _Place:
    """What a ``.loc`` says, files and names still by number."""

    def __init__(self, found: re.Match[str]) -> None:
        self.file, self.line = int(found[1]), int(found[2])
        self.name = found["name"] or ""
        self.offset = int(found["offset"] or 0)
        self.at = (int(found["file"]), int(found["line"])) if found["file"] else None


class KernelText(NamedTuple):
    """One function as it stands in the text."""

    name: str
    header: str
    declared: tuple[str, ...]  # what it declares, without semicolons
    instructions: tuple[Instruction, ...]
    labels: dict[str, int]  # all of them


class _Open:
    def __init__(self, name: str, header: str) -> None:
        self.name, self.header = name, header
        self.rows: list[tuple[str, int, bool, _Place | None]] = []
        self.labels: dict[str, int] = {}
        self.declared: list[str] = []


def read_ptx(text: str, folder: str) -> Code:
    """Read one PTX text; files inside ``folder`` are named relative to it."""
    lines = text.split("\n")
    done, _ = _read_functions(lines)
    files = _files(lines, folder)
    strings = _strings(lines)
    functions = []
    for item in done:
        referred = {word for row in item.rows for word in re.findall(r"\$L_[\w$]+", row[0])}
        rows = tuple(_instruction(item.name, row, files, strings) for row in item.rows)
        labels = {name: at for name, at in item.labels.items() if name in referred}
        functions.append(Function(item.name, "", "", rows, labels))
    named = {i.file: None for f in functions for i in f.instructions if i.file}
    return Code(tuple(functions), tuple(named), isa="ptx")


def read_kernels(text: str, folder: str) -> tuple[list[KernelText], list[str]]:
    """Return all functions of a PTX text, and what is declared beside them."""
    lines = text.split("\n")
    done, outside = _read_functions(lines)
    files, strings = _files(lines, folder), _strings(lines)
    out = []
    for item in done:
        rows = tuple(_instruction(item.name, row, files, strings) for row in item.rows)
        out.append(KernelText(item.name, item.header, tuple(item.declared), rows, item.labels))
    return out, outside


def _files(lines: list[str], folder: str) -> dict[int, str]:
    return {
        int(found[1]): normal_path(
            unescape(found[2]) if found[3] else "", unescape(found[3] or found[2]), folder
        )
        for found in map(_FILE.match, lines)
        if found
    }


def _read_functions(lines: list[str]) -> tuple[list[_Open], list[str]]:
    done: list[_Open] = []
    outside: list[str] = []
    current: _Open | None = None
    header = statement = ""
    started = depth = 0
    place: _Place | None = None
    in_asm = False
    for number, raw in enumerate(lines, 1):
        if "inline asm" in raw:
            in_asm = "begin inline asm" in raw
        line = raw.split("//")[0].rstrip()
        located = _LOC.match(line)
        if located:
            place = _Place(located)
            continue
        if not line.strip() or _FILE.match(line):
            continue
        if current is None:
            if _DIRECTIVE.match(line):
                continue
            header = f"{header} {line.strip()}".strip()
            if line.rstrip().endswith(";"):
                outside.append(header.rstrip("; "))
                header = ""
            named = _ENTRY.search(header)
            if named and line.strip() == "{":
                current, header, place = _Open(named[1], header), "", None
            continue
        label = _LABEL.match(line)
        if label and not statement:
            current.labels[label[1]] = len(current.rows)
            continue
        if not statement and line.strip() in ("{", "}"):
            depth += 1 if line.strip() == "{" else -1
            if depth < 0:
                done.append(current)
                current, depth = None, 0
            continue
        for piece in re.findall(r"[^;]*;|[^;]+$", line):
            started = started if statement else number
            statement = f"{statement} {piece.strip()}".strip().lstrip("{").strip()
            if statement.endswith(";"):
                if statement.startswith("."):
                    current.declared.append(statement[:-1].strip())
                elif statement != ";":
                    current.rows.append((statement[:-1].strip(), started, in_asm, place))
                statement = ""
    return done, outside


def _instruction(
    owner: str,
    row: tuple[str, int, bool, _Place | None],
    files: dict[int, str],
    strings: dict[tuple[str, int], str],
) -> Instruction:
    statement, number, in_asm, place = row
    guard = _GUARD.match(statement)
    body = statement[guard.end() :] if guard else statement
    mnemonic, _, rest = re.sub(r"\s+", " ", body).partition(" ")
    mnemonic = f"{guard[1]} {mnemonic}" if guard else mnemonic
    operands = tuple(part.strip() for part in re.split(r",(?![^\[({]*[\])}])", rest) if part)
    made = Instruction(mnemonic, operands, "", 0, number, in_asm)
    if place is None:
        return made
    made = made._replace(file=files.get(place.file, ""), line=place.line)
    if place.at:
        name = strings.get((place.name, place.offset), place.name)
        site = Site(owner, files.get(place.at[0], ""), place.at[1])
        made = made._replace(function=name, chain=(site,))
    return made


def _strings(lines: list[str]) -> dict[tuple[str, int], str]:
    """Return the names that labels stand for, written as decimal bytes."""
    out: dict[tuple[str, int], str] = {}
    label, data, start = "", bytearray(), 0
    for line in lines:
        named = re.match(r"\s*(\$L__info_string\d*):", line)
        if named:
            label, data, start = named[1], bytearray(), 0
            continue
        if not label:
            continue
        found = _BYTES.match(line.strip())
        if not found:
            label = ""
            continue
        for byte in found[1].replace(" ", "").strip(",").split(","):
            if byte == "0":
                out[label, start] = data[start:].decode(errors="replace")
                data.append(0)
                start = len(data)
            else:
                data.append(int(byte) & 255)
    return out
