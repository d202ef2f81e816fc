"""Read assembly text, as compilers for GNU-like assemblers write it, into functions.

What differs between instruction sets comes from ``hot_anvil.core.arch``. The
line of an instruction is the last ``.loc`` before it in the text; that equals
the assembler's own line table for every family here. It is reset at each
function, since some functions carry no line at all.
"""

import re
from collections.abc import Iterator
from zlib import crc32

from hot_anvil.core.arch import syntax_of
from hot_anvil.core.code.records import Code, Datum, Function, Instruction
from hot_anvil.core.code.text import (
    normal_path,
    section_of,
    split_operands,
    split_statements,
    unescape,
    unquote,
)

_FILE = re.compile(r'\.file\s+(\d+)\s+"((?:[^"\\]|\\.)*)"(?:\s+"((?:[^"\\]|\\.)*)")?')
_LABEL = re.compile(r'\s*("(?:[^"\\]|\\.)*"|[\w.$@]+|[^\s#"][^:"\t#]*):(?=\s|$)\s*')
_LOCAL = re.compile(r"\.L[\w.$]+")
_DEBUG_SECTION = re.compile(r'^[ \t]*\.section[ \t]+"?\.debug_', re.MULTILINE)
_ANY_SECTION = re.compile(
    r"^[ \t]*\.(?:section|text|data|bss|pushsection|popsection|previous)\b", re.MULTILINE
)
_PIECE = 1 << 18  # characters split into lines at once: all at once would cost memory
_COLD = re.compile(r"(.+)\.cold(?:\.\d+)?$")
_DATA = frozenset(
    ".long .quad .word .byte .value .short .hword .2byte .4byte .8byte .ascii .asciz .string "
    ".zero .float .double .xword .dword".split()
)
# Labels of data that a compiler makes up: constants of code, texts, tables of values.
_CONSTANTS = (".L", "$L", "CSWTCH.")
_CONSTANT = re.compile(r"(?:\.L|\$L|CSWTCH\.)[\w.$]+")
# One place of a jump table: a label, or its distance from another.
_GOAL = re.compile(r"\.\w+\s+([.$]L[\w.$]+)(?:\s*-\s*[.$]L[\w.$]+)?")
# Comments around inline assembly: gcc's and clang's, behind the comment sign of each target.
_ASM_BEGINS = re.compile(r'[#;@/* ]*(?:#?APP\b|[1-9]\d* ".*" 1$)')
_ASM_ENDS = re.compile(r'[#;@/* ]*(?:#?NO_?APP\b|0 "" 2$)')
# Directives that matter even among debug data.
_MOVES = tuple(
    f"\t.{name}"
    for name in ("section", "text", "data", "bss", "pushsection", "popsection", "previous")
)
TOP_LEVEL = "(top-level asm)"


# What was read of an instruction: its parts, (file number, line), line of the text, inline asm?
# File numbers may be declared after their use, so names are filled in at the end.
_Row = tuple[tuple[str, tuple[str, ...]], tuple[int, int], int, bool]


class _Open:
    """A function while it is being read."""

    def __init__(self, name: str, section: str) -> None:
        self.name = name
        self.section = section
        self.rows: list[_Row] = []
        self.labels: dict[str, int] = {}
        self.data: list[Datum] = []
        self.first = (-1, 0)  # where its source begins: its first ``.loc``


def read_assembly(text: str, folder: str, isa: str) -> Code:
    """Read one assembly text of the instruction set ``isa``.

    ``folder`` is the absolute folder the compiler ran in; files inside it are
    named relative to it. Returns the functions in the order of the text,
    with the labels that code or data refers to.
    """
    reader = _Reader(isa)
    quick, careful = reader.quick, reader.line
    for first, piece in _pieces(text):
        for number, line in enumerate(piece.split("\n"), first):
            if not quick(number, line):
                careful(number, line)
    return reader.finish(folder)


def without_debug(text: str) -> str:
    """Return the text with empty lines in place of its debug sections."""
    out: list[str] = []
    at = 1
    for number, piece in _pieces(text):
        out += [""] * (number - at)
        lines = piece.split("\n")
        out += lines
        at = number + len(lines)
    return "\n".join(out)


def _pieces(text: str) -> Iterator[tuple[int, str]]:
    """Give the text in pieces of whole lines, each with its first line's number.

    What stands in debug sections is left out: it is most of some texts, and
    none of it is code.
    """
    at, number = 0, 1
    while at < len(text):
        debug = _DEBUG_SECTION.search(text, at)
        stop = text.find("\n", debug.start()) + 1 if debug else len(text)
        stop = stop or len(text)
        while at < stop:
            end = stop if stop - at <= _PIECE else text.find("\n", at + _PIECE) + 1
            end = min(end or stop, stop)
            piece = text[at:end]
            yield number, piece[:-1] if piece[-1] == "\n" else piece
            number += piece.count("\n")
            at = end
        if debug:
            back = _ANY_SECTION.search(text, at)
            end = back.start() if back else len(text)
            number += text.count("\n", at, end)
            at = end


class _Reader:
    def __init__(self, isa: str) -> None:
        syntax = syntax_of(isa)
        self.isa = isa
        self.prefixes = syntax.prefixes
        self.comments = syntax.comments
        self.separator = syntax.separator
        # Signs that make a line of code one to read with care.
        self.careful = tuple({*syntax.comments, syntax.separator, '"', ":", "=", "/*"})
        self.section = ".text"
        self.executable = True
        self.previous = (".text", True)
        self.stack: list[tuple[str, bool]] = []
        self.files: dict[int, tuple[str, str]] = {}
        self.types: set[str] = set()
        self.open: dict[str, _Open] = {}  # section -> the function being read in it
        self.done: list[_Open] = []
        self.referred: set[str] = set()
        self.place = (-1, 0)
        self.begun: _Open | None = None  # a function whose first ``.loc`` is still to come
        self.in_asm = False
        self.pending_prefix = ("", 0)  # a prefix that stood alone, and its line
        self.constant = ""  # the label of the constant data being read
        self.constants: dict[str, list[str]] = {}
        self.naming: dict[tuple[str, tuple[str, ...]], tuple[str, ...]] = {}
        self.known: dict[str, tuple[str, tuple[str, ...]] | None] = {}  # line -> instruction
        self.places: dict[str, tuple[int, int]] = {}  # line -> what its ``.loc`` says

    def quick(self, number: int, line: str) -> bool:
        """Read a line of one of the three commonest kinds, which repeat; False for others."""
        start = line[:2]
        if start == ".L" and line[-1] == ":":
            name = line[:-1]
            if self.executable and name not in self.types:
                function = self.open.get(self.section) or self.current()
                function.labels[name] = len(function.rows)
            else:
                self.label(name)
            return True
        if start == "\t.":
            if line.startswith(("\t.loc\t", "\t.loc ")):
                place = self.places.get(line)
                if place is None:
                    numbers = line.split(None, 3)
                    place = self.places[line] = (int(numbers[1]), int(numbers[2]))
                self.place = place
                if self.begun is not None:
                    self.begun.first, self.begun = place, None
                return True
            return self.section.startswith(".debug") and not line.startswith(_MOVES)
        if start[:1] != "\t" or not self.executable or self.in_asm or self.pending_prefix[0]:
            return False
        if line in self.known:
            parts = self.known[line]
        else:
            parts = self.known[line] = self.plain(line)
        if parts is None:
            return False
        self.current().rows.append((parts, self.place, number, False))
        return True

    def plain(self, line: str) -> tuple[str, tuple[str, ...]] | None:
        """Return the instruction a line holds, None for a line that needs care."""
        if not line[1:2].isalpha():
            return None
        for sign in self.comments:
            if sign in line and '"' not in line and "/*" not in line:
                line = line.split(sign, 1)[0].rstrip()
        for sign in self.careful:
            if sign in line:
                return None
        mnemonic, _, rest = line[1:].replace("\t", " ").partition(" ")
        if mnemonic in self.prefixes:
            return None
        self.refer(rest)
        return mnemonic, split_operands(rest)

    def refer(self, operands: str) -> None:
        """Note the labels that operands go to."""
        if ".L" in operands:
            self.referred.update(_LOCAL.findall(operands))
        elif operands[-1:] in ("b", "f"):  # "1b": the nearest label 1 before
            number = operands.rpartition(",")[2].strip()[:-1]
            if number.isdigit():
                self.referred.add(number)

    def line(self, number: int, line: str) -> None:
        """Read any line with all the care it may need."""
        stripped = line.strip()
        if not stripped:
            return
        if stripped[0] == "#" or stripped.startswith((*self.comments, "/*")):
            self.comment(stripped)
            if not stripped.startswith("/*") or stripped.endswith("*/"):
                return
        for statement in split_statements(stripped, self.comments, self.separator):
            self.statement(number, statement)

    def comment(self, line: str) -> None:
        """Follow the marks around inline assembly."""
        if _ASM_BEGINS.match(line):
            self.in_asm = True
        elif _ASM_ENDS.match(line):
            self.in_asm = False

    def statement(self, number: int, statement: str) -> None:
        label = _LABEL.match(statement)
        while label:
            self.label(label[1])
            statement = statement[label.end() :]
            label = _LABEL.match(statement)
        if not statement:
            return
        if statement[0] == ".":
            self.directive(number, statement)
        elif self.executable and not re.match(r"[\w.$]+\s*=[^=]", statement):
            self.instruction(number, statement)

    def label(self, name: str) -> None:
        name = unquote(name)
        if not self.executable:
            self.constant = name if name.startswith(_CONSTANTS) else ""
            return
        named = name in self.types or not name.startswith((".L", "$"))
        if named and not name.isdigit() and not self.in_asm:
            function = self.open[self.section] = _Open(name, self.section)
            self.done.append(function)
            self.place = (-1, 0)
            self.begun = function
        else:
            function = self.current()
            function.labels[name] = len(function.rows)

    def current(self) -> _Open:
        function = self.open.get(self.section)
        if function is None:
            function = self.open[self.section] = _Open(TOP_LEVEL, self.section)
            self.done.append(function)
        return function

    def instruction(self, number: int, statement: str) -> None:
        mnemonic, _, rest = statement.replace("\t", " ").partition(" ")
        if self.pending_prefix[0]:
            mnemonic = f"{self.pending_prefix[0]} {mnemonic}"
            number = self.pending_prefix[1]
            self.pending_prefix = ("", 0)
        while mnemonic.rpartition(" ")[2] in self.prefixes:
            if not rest.strip():  # "lock; addl": the prefix stands alone
                self.pending_prefix = (mnemonic, number)
                return
            more, _, rest = rest.strip().partition(" ")
            mnemonic = f"{mnemonic} {more}"
        operands = split_operands(rest)
        self.refer(rest.strip())
        self.current().rows.append(((mnemonic, operands), self.place, number, self.in_asm))

    def directive(self, number: int, statement: str) -> None:
        name, _, rest = statement.replace("\t", " ").partition(" ")
        rest = rest.strip()
        if name == ".loc":
            numbers = rest.split(None, 2)
            self.place = int(numbers[0]), int(numbers[1])
            if self.begun is not None:
                self.begun.first, self.begun = self.place, None
        elif name == ".file":
            found = _FILE.match(statement)
            if found:
                first, second = unescape(found[2]), found[3]
                pair = ("", first) if second is None else (first, unescape(second))
                self.files[int(found[1])] = pair
        elif name == ".type":
            symbol, _, kind = rest.rpartition(",")
            if "function" in kind:
                self.types.add(unquote(symbol.strip()))
        elif name in (".section", ".pushsection"):
            if name == ".pushsection":
                self.stack.append((self.section, self.executable))
            self.enter(*section_of(rest))
        elif name in (".text", ".data", ".bss"):
            self.enter(name, name == ".text")
        elif name == ".popsection" and self.stack:
            self.enter(*self.stack.pop())
        elif name == ".previous":
            self.enter(*self.previous)
        elif name in _DATA and not self.section.startswith(".debug"):
            if ".L" in rest:
                self.referred.update(_LOCAL.findall(rest))  # a jump table
            if self.constant and not self.executable:
                self.constants.setdefault(self.constant, []).append(f"{name} {rest}")
            if self.executable:
                function = self.current()
                function.data.append(Datum(len(function.rows), number, f"{name} {rest}"))

    def enter(self, section: str, executable: bool) -> None:
        self.previous = (self.section, self.executable)
        self.section, self.executable = section, executable
        self.constant = ""

    def constants_in(self, parts: tuple[str, tuple[str, ...]]) -> tuple[str, ...]:
        """Return the labels of constants that an instruction names."""
        if not self.constants:
            return ()
        found = self.naming.get(parts)
        if found is None:
            text = ",".join(parts[1])
            named = _CONSTANT.findall(text) if "L" in text or "CSW" in text else ()
            found = self.naming[parts] = tuple(n for n in named if n in self.constants)
        return found

    def finish(self, folder: str) -> Code:
        names = {number: normal_path(*pair, folder) for number, pair in self.files.items()}
        functions = []
        contents = {label: _content(lines) for label, lines in self.constants.items()}
        for done in self.done:
            cold = _COLD.match(done.name)
            rows, done.rows = done.rows, []  # read once: their memory goes as we go
            instructions = tuple(
                Instruction(*parts, names.get(file, ""), line, number, inline_asm)
                for parts, (file, line), number, inline_asm in rows
            )
            labels = {n: at for n, at in done.labels.items() if n in self.referred}
            used = {label for parts, *_ in rows for label in self.constants_in(parts)}
            parent = cold[1] if cold else ""
            if instructions or done.data:
                data = tuple(done.data)
                constants = {label: contents[label] for label in sorted(used)}
                begins = names.get(done.first[0], ""), done.first[1]
                tables = {n: goals for n in sorted(used) if (goals := _goals(self.constants[n]))}
                kept = done.name, done.section, parent, instructions, labels, data, constants
                functions.append(Function(*kept, begins, tables))
        files = {i.file: None for f in functions for i in f.instructions if i.file}
        return Code(tuple(functions), tuple(files), isa=self.isa)


def _goals(lines: list[str]) -> tuple[str, ...]:
    """Return the labels that a jump table leads to, in its order; none for other data."""
    found = [_GOAL.fullmatch(line) for line in lines]
    return tuple(goal[1] for goal in found if goal) if all(found) else ()


def _content(lines: list[str]) -> str:
    """Return constant data as one text, "" where it holds labels; a long one by its checksum."""
    text = "; ".join(lines)
    if ".L" in text or "$L" in text:
        return ""
    return text if len(text) <= 200 else f"{text[:150]}... ({crc32(text.encode()):08x})"
