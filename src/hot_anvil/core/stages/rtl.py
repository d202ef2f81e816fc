"""RTL, the form in which the GNU compilers choose instructions and registers."""

import re
from collections.abc import Iterable, Iterator

from hot_anvil.core.stages.records import (
    DIVISION,
    LOAD,
    STORE,
    VECTOR,
    Block,
    Body,
    Statement,
    call_traits,
)
from hot_anvil.core.stages.rtl_text import in_words

FORM = "RTL"
_HEADER = re.compile(r";; Function (.+?) \((\S+?)(?:, funcdef_no=.*)?\)")
_ITEM = re.compile(
    r"\((insn|jump_insn|call_insn|code_label|note|barrier|jump_table_data|debug_insn)\S* (\d+)"
)
_PLACE = re.compile(r'"([^"]*)":(\d+)')
_SYMBOL = re.compile(r'\(symbol_ref(?::\w+)? \("\*?([^"]+)"\)')  # in a call: what it calls
_BLOCK = re.compile(r";; basic block (\d+)")
_NEXT = re.compile(r";;  succ: +(\d*)")
_MORE = re.compile(r";; {6,}(\d+)")
_VECTOR = re.compile(r":V\d+[A-Z]+\b")
_DIVIDES = re.compile(r"\(u?(?:div|mod):")


def read_functions(lines: Iterable[str]) -> Iterator[Body]:
    """Give the functions of a dump with its blocks, in its order, reading no further than it must.

    What a dump lists before the blocks, or of a function a second time, is not its code.
    """
    own: _Reading | None = None
    for line in lines:
        header = _HEADER.match(line)
        if header:
            if own and own.blocks:
                yield own.body()
            own = _Reading(header[2] if header[2] != "null" else header[1])
        elif own is not None:
            own.take(line)
    if own and own.blocks:
        yield own.body()


class _Reading:
    """A function while it is read."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.blocks: list[Block] = []
        self._goes: list[list[str]] = []
        self._statements: list[Statement] = []
        self._item = ""
        self._listing = False  # the blocks that may come next are being named

    def take(self, line: str) -> None:
        """Read one line."""
        block = _BLOCK.match(line)
        if block:
            self._end()
            if any(one.label == f"bb {block[1]}" for one in self.blocks):
                self.blocks, self._goes, self._statements = [], [], []
            self.blocks.append(Block(f"bb {block[1]}", len(self._statements), ()))
            self._goes.append([])
            self._listing = False
        elif not self.blocks:
            return
        elif line.startswith(";;"):
            following = _NEXT.match(line) or (_MORE.match(line) if self._listing else None)
            self._listing = bool(following)
            if following and following[1]:
                self._goes[-1].append(f"bb {following[1]}")
        elif line.startswith("("):
            self._end()
            self._item = line.strip()
        elif line.startswith(" ") and self._item:
            self._item += f" {line.strip()}"

    def _end(self) -> None:
        found = _ITEM.match(self._item)
        if found and found[1] in ("insn", "jump_insn", "call_insn"):
            statement = _statement(found[1], self._item)
            if statement is not None:
                self._statements.append(statement)
        self._item = ""

    def body(self) -> Body:
        """Return what was read; blocks that hold nothing and lead nowhere are left out."""
        self._end()
        made = [
            block._replace(goes_to=tuple(dict.fromkeys(goes)))
            for block, goes in zip(self.blocks, self._goes, strict=True)
            if block.label not in ("bb 0", "bb 1")
        ]
        return Body(self.name, FORM, tuple(self._statements), tuple(made))


def _statement(kind: str, item: str) -> Statement | None:
    """Return an item as a statement: its pattern, without numbers of neighbours and notes."""
    opens = item.find("(", 1)
    if opens < 0:
        return None
    pattern = _balanced(item, opens)
    if pattern.startswith(("(use ", "(clobber ", "(const_int")):
        return None
    rest = item[opens + len(pattern) :]
    place = _PLACE.match(rest.strip())
    traits: list[str] = []
    if kind == "call_insn":
        symbol = _SYMBOL.search(pattern)
        traits += call_traits(symbol[1] if symbol else "")
    else:
        goal, value = _goal_and_value(pattern)
        if "(mem" in goal:
            traits.append(STORE)
        if "(mem" in value:
            traits.append(LOAD)
    if _DIVIDES.search(pattern):
        traits.append(DIVISION)
    if _VECTOR.search(pattern):
        traits.append(VECTOR)
    text = in_words(re.sub(r" \[ ?[\w.*<>+ ()-]* ?\](?=\))", "", " ".join(pattern.split())))
    return Statement(place[1] if place else "", int(place[2]) if place else 0, text, tuple(traits))


def _balanced(text: str, start: int) -> str:
    depth = 0
    quoted = False
    for k in range(start, len(text)):
        sign = text[k]
        if sign == '"':
            quoted = not quoted
        elif not quoted and sign in "([":
            depth += 1
        elif not quoted and sign in ")]":
            depth -= 1
            if not depth:
                return text[start : k + 1]
    return text[start:]


def _goal_and_value(pattern: str) -> tuple[str, str]:
    at = pattern.find("(set ")
    if at < 0:
        return "", pattern
    goal = _balanced(pattern, pattern.find("(", at + 1))
    return goal, pattern[at + 5 + len(goal) :]
