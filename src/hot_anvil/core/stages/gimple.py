"""GIMPLE, the form that the GNU compilers optimise, as their dumps with line numbers write it."""

import re
from collections.abc import Iterable, Iterator
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

FORM = "GIMPLE"
_HEADER = re.compile(r";; Function (.+?) \((\S+?)(?:, funcdef_no=.*)?\)")
_PLACE = re.compile(r"\[([^\[\]]+?):(\d+):\d+(?: discrim \d+)?\] ?")
_GUESSES = re.compile(
    r" ?\[(?:local count: |count: |tail call|\d+\.\d+%|INV)[^\]]*\](?:, loop depth.*)?"
)
_LABEL = re.compile(r"(?:<(bb \d+|[\w.]+)>|([A-Za-z_]\w*)) ?:$")
_TARGET = re.compile(r"goto (?:<([^>]+)>|([A-Za-z_]\w*))")
_CASE = re.compile(r"(?:default|case [^:]+): <([^>]+)>")
_DECLARED = re.compile(r"^(?:[\w ]*\bvector\(\d+\)[^;=(]*?[ *])([\w.]+)(?:\[.*\])?;$")
_CALL = re.compile(r"^(?:[^=]+ = )?(?:\(.*?\) )?([\w.:~<>]+|operator.+?|\*?[\w.]+\(D\)) \(")
_MEMORY = re.compile(
    r"MEM\b|(?<![\w)] )\*[A-Za-z_(]|->|\w\[|TARGET_MEM_REF|BIT_FIELD_REF <\*|\.[A-Za-z_]\w*$"
)
_WORDS = {"if", "switch", "return", "goto", "PHI", "try", "while", "else"}
_DIVIDES = re.compile(r" (?:/|%|/\[\w+\]|%\[\w+\]) ")
_NUMBERED = re.compile(r"[A-Za-z][\w.]*_\d+ = ")  # a value of a variable, each assigned once
_NAME = re.compile(r"[A-Za-z_][\w.]*")


class _Reading(NamedTuple):
    """A function while it is read."""

    statements: list[Statement]
    blocks: list[Block]
    vectors: set[str]


def read_functions(lines: Iterable[str]) -> Iterator[Body]:
    """Give the functions of a dump, in its order, reading no further than it must."""
    name = ""
    before = ""
    own: list[str] | None = None
    for line in lines:
        line = line.rstrip("\n")
        header = _HEADER.match(line)
        if header:
            name = header[2] if header[2] != "null" else header[1]
            own = None
        elif own is None and _PLACE.sub("", line).strip() == "{" and not line[:1].isspace():
            own = []
            signature = re.search(r"([\w:~<>.]+|operator.+?) \(", before)
            named = name or (signature[1] if signature else "")
        elif own is not None and line == "}":
            yield _body(named, own)
            own, name = None, ""
        elif own is not None:
            own.append(line)
        elif line:
            before = line


def _body(name: str, lines: Iterable[str]) -> Body:
    made = _Reading([], [], set())
    made.blocks.append(Block("start", 0, ()))
    joined = ""
    for line in lines:
        text = line.strip()
        if joined:  # a decision, whose branches stand on lines of their own
            joined += f" {_without(text)}"
            if joined.count("goto") < 2:
                continue
            text, joined = joined, ""
        elif re.match(r"(?:\[[^\]]+\] ?)*if \(", text) and "goto" not in text:
            joined = text
            continue
        _take(made, text)
    blocks = [b._replace(goes_to=_next(made, k)) for k, b in enumerate(made.blocks)]
    if len(blocks) > 1 and blocks[1].first == 0:
        blocks = blocks[1:]
    numbered = any(_NUMBERED.match(s.text) for s in made.statements)
    statements = (_with_variables(s) if numbered else s for s in made.statements)
    return Body(name, FORM, tuple(statements), tuple(blocks))


def _with_variables(statement: Statement) -> Statement:
    """Add what goes to or comes from a variable in memory: it has no number where values have."""
    if MARKER in statement.traits:
        return statement
    found = re.match(r"([A-Za-z][\w.]*) = ", statement.text)
    traits = list(statement.traits)
    if found and not _NUMBERED.match(statement.text) and STORE not in traits:
        traits.append(STORE)
    if re.search(r" = [A-Za-z](?:(?!_\d+;)\w)*;$", statement.text) and LOAD not in traits:
        traits.append(LOAD)
    return statement._replace(traits=tuple(traits))


def _without(text: str) -> str:
    return _GUESSES.sub("", _PLACE.sub("", text)).strip()


def _take(made: _Reading, text: str) -> None:
    place = _PLACE.match(text)
    plain = _without(text)
    if not plain or plain in ("{", "}", "try", "finally", "else") or plain.startswith(";;"):
        return
    label = _LABEL.match(plain)
    if label:
        made.blocks.append(Block(label[1] or label[2], len(made.statements), ()))
        return
    declared = _DECLARED.match(plain)
    if declared:
        made.vectors.add(declared[1])
    if _is_declaration(plain):
        return
    phi = plain.startswith("# ")
    text = plain.removeprefix("# ")
    traits = (MARKER,) if phi or _is_marker(text) else _traits(text, made.vectors)
    file, line = (place[1], int(place[2])) if place else ("", 0)
    made.statements.append(Statement(file, line, text, traits))


def _is_declaration(text: str) -> bool:
    return bool(
        text.endswith(";")
        and " = " not in text
        and "(" not in text.replace("vector(", "").replace("(*", "")
        and not text.startswith(("goto", "return", "resx", "<retval>", "__builtin"))
        and " " in text
    )


def _is_marker(text: str) -> bool:
    return text.startswith(("# DEBUG", "DEBUG")) or "= {CLOBBER" in text or text == "GIMPLE_NOP"


def _next(made: _Reading, k: int) -> tuple[str, ...]:
    """Return the labels that may come after block ``k``."""
    end = made.blocks[k + 1].first if k + 1 < len(made.blocks) else len(made.statements)
    own = made.statements[made.blocks[k].first : end]
    after = (made.blocks[k + 1].label,) if k + 1 < len(made.blocks) else ()
    found: list[str] = []
    for statement in own:
        found += [a or b for a, b in _TARGET.findall(statement.text)]
        if statement.text.startswith("switch"):
            found += _CASE.findall(statement.text)
    last = own[-1].text if own else ""
    stops = last.startswith(("goto", "return", "switch", "resx")) or (
        last.startswith("if") and " else " in last
    )
    return tuple(dict.fromkeys(found if stops else (*found, *after)))


def _traits(text: str, vectors: set[str]) -> tuple[str, ...]:
    out: list[str] = []
    goal, equals, value = text.partition(" = ")
    if not equals or text.startswith(("if (", "return", "switch")):
        goal, value = "", text
    called = _CALL.match(text)
    if called and called[1] not in _WORDS and not called[1].startswith("."):
        through = re.fullmatch(r"\*?\w+_\d+(?:\(D\))?", called[1])
        out += call_traits("" if through else called[1])
    elif not called and _DIVIDES.search(value):
        out.append(DIVISION)
    if goal and _is_memory(goal):
        out.append(STORE)
    if _is_memory(value) and not called and "&" not in value[:1]:
        out.append(LOAD)
    if "vector(" in text or any(_base(n) in vectors or n in vectors for n in _NAME.findall(text)):
        out.append(VECTOR)
    return tuple(out)


def _is_memory(text: str) -> bool:
    """Tell whether an operand lies in memory, as far as its writing shows that."""
    text = text.strip().rstrip(";")
    return bool(_MEMORY.search(text)) and not text.startswith("&")


def _base(name: str) -> str:
    """Return the declared name of a numbered value: ``vect_s.4`` of ``vect_s.4_12``."""
    return re.sub(r"_\d+$", "", name)
