"""The optimisation records of LLVM compilers, and the order that their causes come in.

A record file is YAML, but of one plain shape, a dozen lines a document: reading it line by line
takes a tenth of what a YAML reader takes.
"""

import re
from collections.abc import Iterable, Iterator, Mapping

from hot_anvil.core.remarks.records import ANALYSIS, DONE, MISSED, Cause, Kind, Remark

_KINDS: Mapping[str, Kind] = {
    "!Passed": DONE, "!Missed": MISSED, "!Analysis": ANALYSIS, "!AnalysisFPCommute": ANALYSIS,
    "!AnalysisAliasing": ANALYSIS, "!Failure": MISSED,
}  # fmt: skip
_PLACE = re.compile(r"\{ File: (.+), Line: (\d+), Column: (\d+) \}")
_VECTORISES = "loop-vectorize"
_ESCAPES = {"n": "\n", "t": "\t", '"': '"', "\\": "\\", "0": "\0", "r": "\r"}


def read_records(text: str) -> Iterator[Remark]:
    """Give the remarks of a record file, in its order, causes with what they prevented."""
    yield from with_causes(map(_document, _documents(text)))


def _documents(text: str) -> Iterator[list[str]]:
    lines: list[str] = []
    for line in text.split("\n"):
        if line.startswith("--- "):
            lines = [line]
        elif line == "..." and lines:
            yield lines
            lines = []
        elif lines:
            lines.append(line)


def _document(lines: list[str]) -> Remark:
    head: dict[str, str] = {}
    parts: list[str] = []
    inside = False  # its arguments have begun
    last: list[str] = []  # lines of the value that is being read
    for line in [*lines[1:], "end:"]:
        begins = re.match(r"(\S+?):(?: +(.*))?$|  (?:- )(\S+?): *(.*)$|    DebugLoc:", line)
        if begins is None:
            last.append(line.strip())
            continue
        if last:
            _put(head, parts, last, inside)
        if begins[1] == "Args":
            inside, last = True, []
        elif begins[3]:
            last = [begins[3], begins[4]]
        elif begins[1]:
            inside, last = False, [begins[1], begins[2] or ""]
        else:
            last = []  # where an argument lies
    place = _PLACE.match(head.get("DebugLoc", ""))
    tag = lines[0].split()[1]
    return Remark(
        _plain(place[1]) if place else "",
        int(place[2]) if place else 0,
        int(place[3]) if place else 0,
        head.get("Function", ""),
        head.get("Pass", ""),
        _KINDS.get(tag, ANALYSIS),
        " ".join("".join(parts).split()),
    )


def _put(head: dict[str, str], parts: list[str], last: list[str], inside: bool) -> None:
    key, *value = last
    text = _plain(" ".join(value).strip() if value[:1] != ["|-"] else "\n".join(value[1:]))
    if inside:
        parts.append(text)
    else:
        head[key] = " ".join(" ".join(value).split()) if key == "DebugLoc" else text


def _plain(value: str) -> str:
    """Return a scalar of YAML without its quotes."""
    if len(value) > 1 and value[0] == value[-1] == "'":
        return value[1:-1].replace("''", "'")
    if len(value) > 1 and value[0] == value[-1] == '"':
        return re.sub(r"\\(.)", lambda m: _ESCAPES.get(m[1], m[1]), value[1:-1])
    return value


def with_causes(remarks: Iterable[Remark]) -> Iterator[Remark]:
    """Give causes to loops that were not vectorised: the analyses said since the last result."""
    causes: dict[str, list[Cause]] = {}
    for remark in remarks:
        if remark.step != _VECTORISES:
            yield remark
            continue
        own = causes.setdefault(remark.function, [])
        if remark.kind == ANALYSIS:
            own.append(Cause(remark.file, remark.line, remark.text))
            yield remark
            continue
        missed = remark.kind == MISSED
        yield remark._replace(why=tuple(dict.fromkeys(own))) if missed else remark
        own.clear()
