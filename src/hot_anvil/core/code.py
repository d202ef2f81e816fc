"""One build's code as data: functions that hold instructions with their lines."""

from collections.abc import Collection, Iterable, Mapping
from types import MappingProxyType
from typing import Any, NamedTuple


class Instruction(NamedTuple):
    """One instruction as the compiler wrote it."""

    mnemonic: str  # with its prefixes: "rep stosq"
    operands: tuple[str, ...]
    file: str  # source file as the bench names it, "" when unknown
    line: int  # source line, 0 when the compiler gives none
    text_line: int  # line of the assembly text, from 1
    inline_asm: bool

    @property
    def text(self) -> str:
        """The instruction in one line, operands after one blank."""
        return f"{self.mnemonic} {', '.join(self.operands)}".rstrip()


class Function(NamedTuple):
    """The code under one function symbol."""

    name: str
    section: str
    parent: str  # the function it is a cold part of, "" for a whole one
    instructions: tuple[Instruction, ...]
    labels: Mapping[str, int]  # label that code refers to -> index of the next instruction

    @property
    def owner(self) -> str:
        """The name of the function that this code belongs to."""
        return self.parent or self.name


class Code(NamedTuple):
    """All functions of one build of one source, in the order of the text."""

    functions: tuple[Function, ...]
    files: tuple[str, ...]  # source files that instructions come from
    titles: Mapping[str, str] = MappingProxyType({})  # symbol -> name as the source writes it

    def title(self, name: str) -> str:
        """Return a function's name as the source writes it, the symbol where that is not known."""
        return self.titles.get(name, name)

    @property
    def total(self) -> int:
        """Number of instructions."""
        return sum(len(function.instructions) for function in self.functions)


def to_plain(code: Code) -> dict[str, Any]:
    """Return the code as plain lists and dicts, small and quick to store as JSON."""
    number = {file: index for index, file in enumerate(code.files)}
    return {
        "files": list(code.files),
        "titles": dict(code.titles),
        "functions": [
            [
                function.name,
                function.section,
                function.parent,
                dict(function.labels),
                [
                    [i.mnemonic, i.operands, number.get(i.file, -1), i.line, i.text_line]
                    + ([1] if i.inline_asm else [])
                    for i in function.instructions
                ],
            ]
            for function in code.functions
        ],
    }


def from_plain(plain: Mapping[str, Any]) -> Code:
    """Return the code that ``to_plain`` wrote."""
    files = (*plain["files"], "")
    functions = [
        Function(
            name,
            section,
            parent,
            tuple(
                Instruction(row[0], tuple(row[1]), files[row[2]], row[3], row[4], len(row) > 5)
                for row in rows
            ),
            labels,
        )
        for name, section, parent, labels, rows in plain["functions"]
    ]
    return Code(tuple(functions), tuple(plain["files"]), plain["titles"])


def join_codes(codes: Iterable[Code]) -> Code:
    """Return the code of several units as one."""
    parts = list(codes)
    functions = tuple(function for code in parts for function in code.functions)
    files = dict.fromkeys(file for code in parts for file in code.files)
    titles = {name: title for code in parts for name, title in code.titles.items()}
    return Code(functions, tuple(files), titles)


def find_functions(codes: Iterable[Code], name: str) -> set[str]:
    """Return the symbols of the functions called ``name`` in any of the codes.

    A function goes by its symbol, by its full name in the source, and by the
    last part of that: ``Gauge::top() const``, ``Gauge::top`` and ``top``.
    """
    return {
        function.owner
        for code in codes
        for function in code.functions
        if name in _names(function.owner, code.title(function.owner))
    }


def _names(symbol: str, title: str) -> tuple[str, ...]:
    if title == symbol:
        return (symbol,)
    plain = title.partition("(")[0].rpartition(" ")[2]
    return symbol, title, plain, plain.rpartition("::")[2], plain.partition("<")[0]


def only_functions(code: Code, symbols: Collection[str]) -> Code:
    """Return the code with just the functions of these symbols and their cold parts."""
    kept = tuple(f for f in code.functions if f.owner in symbols)
    return code._replace(functions=kept)
