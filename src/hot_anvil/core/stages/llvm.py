"""LLVM IR, as a compiler writes it with the whole module: line numbers stand at its end."""

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from hot_anvil.core.stages.records import (
    DIVISION,
    LOAD,
    MARKER,
    STORE,
    VECTOR,
    Block,
    Body,
    Statement,
    call_traits,
)

FORM = "LLVM IR"
_DEFINE = re.compile(r'define .*?@("(?:[^"]+)"|[\w.$-]+)\(')
_LABEL = re.compile(r'^("(?:[^"]+)"|[\w.$-]+):')
_PLACE = re.compile(r", !dbg !(\d+)")
_NOTES = re.compile(r", ![\w.]+ !\d+| #\d+(?=$|,| )| ; preds.*")
_GOES = re.compile(r'label %("(?:[^"]+)"|[\w.$-]+)')
_CALLS = re.compile(r'\b(?:call|invoke)\b.*?(?:@("[^"]+"|[\w.$-]+)|%[\w.$-]+)\(')
_NOTE = re.compile(r"(?:distinct )?!(DI\w+)\((.*)\)$")
_FIELD = re.compile(r'(\w+): (?:"([^"]*)"|!?([\w-]+))')
_DIVIDES = re.compile(r"= (?:sdiv|udiv|srem|urem|fdiv|frem)\b")
_NO_CODE = ("llvm.lifetime", "llvm.dbg", "llvm.experimental.noalias", "llvm.assume")


class _Raw(NamedTuple):
    """A function before its places are known."""

    name: str
    statements: list[tuple[str, str]]  # number of its place, text
    blocks: list[Block]


class Places:
    """Where numbered notes of a module say that statements come from."""

    def __init__(self) -> None:
        self.lines: dict[str, str] = {}

    def take(self, line: str) -> None:
        """Keep one line of the notes, to be read where it is asked for."""
        number, _, rest = line[1:].partition(" = ")
        self.lines[number] = rest

    def _note(self, number: str) -> tuple[str, Mapping[str, str]]:
        found = _NOTE.match(self.lines.get(number, ""))
        if not found:
            return "", {}
        fields = {m[1]: m[3] if m[2] is None else m[2] for m in _FIELD.finditer(found[2])}
        return found[1], fields

    def of(self, number: str) -> tuple[str, int]:
        """Return file and line of a note, "" and 0 where there is none."""
        kind, fields = self._note(number)
        if kind != "DILocation":
            return "", 0
        return self._file(fields.get("scope", "")), int(fields.get("line", 0))

    def _file(self, scope: str) -> str:
        for _ in range(50):
            kind, fields = self._note(scope)
            if kind == "DIFile":
                return fields.get("filename", "")
            following = fields.get("file") or fields.get("scope", "")
            if not following:
                return ""
            scope = following
        return ""


def read_functions(lines: Iterable[str], only: str = "") -> Iterator[Body]:
    """Give the functions of a module, in its order; ``only`` that one where it is named."""
    raw: list[_Raw] = []
    places = Places()
    own: _Raw | None = None
    for line in lines:
        if own is not None:
            if line.startswith("}"):
                raw.append(own)
                own = None
            else:
                _take(own, line.rstrip("\n"))
        elif line.startswith("define "):
            found = _DEFINE.match(line)
            name = found[1].strip('"') if found else ""
            if not only or name == only:
                own = _Raw(name, [], [])
        elif line.startswith("!"):
            places.take(line.rstrip("\n"))
    for one in raw:
        yield _body(one, places)


def _take(own: _Raw, line: str) -> None:
    label = _LABEL.match(line)
    if label:
        own.blocks.append(Block(label[1].strip('"'), len(own.statements), ()))
        return
    text = line.strip()
    if not text or text.startswith(";"):
        return
    if not own.blocks:
        own.blocks.append(Block("start", 0, ()))
    place = _PLACE.search(text)
    continues = line.startswith("   ") or text == "]" or text.startswith("to label")
    plain = _NOTES.sub("", _PLACE.sub("", text)).rstrip(", ")
    if continues and own.statements:
        number, before = own.statements[-1]
        own.statements[-1] = (place[1] if place else number, f"{before} {plain}")
    else:
        own.statements.append((place[1] if place else "", plain))


def _body(one: _Raw, places: Places) -> Body:
    statements = []
    for number, text in one.statements:
        file, line = places.of(number)
        statements.append(Statement(file, line, text, _traits(text)))
    made = Body(one.name, FORM, tuple(statements), tuple(one.blocks))
    blocks = (block._replace(goes_to=_targets(s.text for s in own)) for block, own in made.parts())
    return made._replace(blocks=tuple(blocks))


def _targets(texts: Iterable[str]) -> tuple[str, ...]:
    found = (name.strip('"') for text in texts for name in _GOES.findall(text))
    return tuple(dict.fromkeys(found))


def _traits(text: str) -> tuple[str, ...]:
    out: list[str] = []
    called = _CALLS.search(text)
    if called:
        name = (called[1] or "").strip('"')
        if name.startswith(_NO_CODE):
            return (MARKER,)
        out += call_traits(name)
        if name.startswith("llvm.") and not name.startswith(("llvm.mem",)):
            out = []  # an operation that is written like a call
    elif " = phi " in text or text.startswith("#dbg_"):
        out.append(MARKER)
    elif re.search(r"= load |= atomicrmw |= cmpxchg ", text):
        out.append(LOAD)
    if not called and re.match(r"store |.*= (?:atomicrmw|cmpxchg) ", text):
        out.append(STORE)
    if _DIVIDES.search(text):
        out.append(DIVISION)
    if re.search(r"<(?:vscale x )?\d+ x ", text) and MARKER not in out:
        out.append(VECTOR)
    return tuple(out)
