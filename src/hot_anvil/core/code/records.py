"""One build's code as data: functions that hold instructions with their lines."""

import re
from collections.abc import Collection, Iterable, Mapping
from types import MappingProxyType
from typing import Literal, NamedTuple

from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

View = Literal["emitted", "linked"]
EMITTED: View = "emitted"  # the compiler's own text
LINKED: View = "linked"  # the linked image, disassembled


class Site(NamedTuple):
    """A place that inlined code was called from."""

    function: str  # the function that holds the call, "" when not known
    file: str
    line: int


class Instruction(NamedTuple):
    """One instruction as the compiler or the disassembler wrote it."""

    mnemonic: str  # with its prefixes: "rep stosq"
    operands: tuple[str, ...]
    file: str  # source file as the bench names it, "" when unknown
    line: int  # source line, 0 when the compiler gives none
    text_line: int  # line of the assembly text, from 1
    inline_asm: bool
    address: int = -1  # in its section (emitted view) or image (linked view); -1: not known
    size: int = -1  # bytes it takes, -1: not known
    parts: int = 1  # machine instructions that an assembler makes of it
    function: str = ""  # the function it was written in, where inlined from another; else ""
    chain: tuple[Site, ...] = ()  # calls it was inlined through, innermost first
    encoding: str = ""  # its bytes in hex, in the linked view
    words: str = ""  # a plain reading of it, where one was asked for

    @property
    def text(self) -> str:
        """The instruction in one line, operands after one blank."""
        return f"{self.mnemonic} {', '.join(self.operands)}".rstrip()


class Datum(NamedTuple):
    """Data that stands among the instructions: a jump table, a literal pool."""

    place: int  # index of the next instruction of the function
    text_line: int
    text: str  # the directive that makes it
    size: int = -1  # bytes, -1: not known


class Function(NamedTuple):
    """The code under one function symbol."""

    name: str
    section: str
    parent: str  # the function it is a cold part of, "" for a whole one
    instructions: tuple[Instruction, ...]
    labels: Mapping[str, int]  # label that code refers to -> index of the next instruction
    data: tuple[Datum, ...] = ()
    constants: Mapping[str, str] = MappingProxyType({})  # label -> the data there, as directives
    begins: tuple[str, int] = ("", 0)  # file and line where its source begins, 0 when not known
    # Label of a jump table -> the labels that it leads to.
    tables: Mapping[str, tuple[str, ...]] = MappingProxyType({})

    @property
    def owner(self) -> str:
        """The name of the function that this code belongs to."""
        return self.parent or self.name


class Code(NamedTuple):
    """All functions of one build of one source, in the order of the text."""

    functions: tuple[Function, ...]
    files: tuple[str, ...]  # source files that instructions come from
    isa: str  # a folder of hot_anvil/core/arch
    titles: Mapping[str, str] = MappingProxyType({})  # symbol -> name as the source writes it
    view: View = EMITTED

    def title(self, name: str) -> str:
        """Return a function's name as the source writes it, the symbol where that is not known."""
        return self.titles.get(name, name)

    @property
    def total(self) -> int:
        """Number of instructions, as the text counts them."""
        return sum(len(function.instructions) for function in self.functions)

    @property
    def data(self) -> int:
        """Number of data directives among the instructions."""
        return sum(len(function.data) for function in self.functions)


def with_plain_names(code: Code) -> Code:
    """Return the code with inlined functions under their names, where they are symbols."""

    def plain(symbol: str) -> str:
        # nvcc puts what is static into a namespace of its own.
        return re.sub(r"^_INTERNAL_\w+::", "", code.title(symbol).partition("(")[0])

    def named(i: Instruction) -> Instruction:
        if not i.function:
            return i
        chain = tuple(site._replace(function=plain(site.function)) for site in i.chain)
        return i._replace(function=plain(i.function), chain=chain)

    functions = tuple(
        f._replace(instructions=tuple(map(named, f.instructions))) for f in code.functions
    )
    return code._replace(functions=functions)


def parts_by_owner(functions: Iterable[Function]) -> dict[str, list[Function]]:
    """Return the functions by their owner's symbol, cold parts behind the whole one."""
    owners: dict[str, list[Function]] = {}
    for function in functions:
        owners.setdefault(function.owner, []).append(function)
    return owners


def join_parts(parts: Iterable[Function]) -> tuple[Instruction, ...]:
    """Return the instructions of a function and its cold parts, in text order."""
    return tuple(instruction for part in parts for instruction in part.instructions)


def join_codes(codes: Iterable[Code]) -> Code:
    """Return the code of several units as one; there is at least one."""
    parts = list(codes)
    functions = tuple(function for code in parts for function in code.functions)
    files = dict.fromkeys(file for code in parts for file in code.files)
    titles = {name: title for code in parts for name, title in code.titles.items()}
    return Code(functions, tuple(files), parts[0].isa, titles, parts[0].view)


def find_functions(codes: Iterable[Code], name: str) -> set[str]:
    """Return the symbols of the functions called ``name`` in any of the codes.

    A function goes by its symbol, by its full name in the source, and by the
    last part of that: ``Gauge::top() const``, ``Gauge::top`` and ``top``.
    """
    return {
        function.owner
        for code in codes
        for function in code.functions
        if name in names_of(function.owner, code.title(function.owner))
    }


def find_symbols(names: Collection[str], codes: Collection[Code]) -> set[str]:
    """Return the symbols of the functions named; raises RequestError for an unknown one."""
    if not names:
        return set()
    return symbols_called(names, {f.owner: c.title(f.owner) for c in codes for f in c.functions})


def symbols_called(names: Iterable[str], titles: Mapping[str, str]) -> set[str]:
    """Return the symbols of the functions named, of those in ``titles``: symbol -> name.

    Raises RequestError for an unknown one.
    """
    out: set[str] = set()
    for name in names:
        found = {symbol for symbol, title in titles.items() if name in names_of(symbol, title)}
        if not found:
            known = dict.fromkeys(titles.values())
            raise RequestError(
                f"{name}: no such function was compiled.{did_you_mean(name, known)} "
                f"The functions are: {listed(known)}.",
                about="entries",
            )
        out |= found
    return out


def names_of(symbol: str, title: str) -> tuple[str, ...]:
    """Return the names that a function goes by."""
    if title == symbol:
        return (symbol,)
    plain = title.partition("(")[0].rpartition(" ")[2]
    return symbol, title, plain, plain.rpartition("::")[2], plain.partition("<")[0]


def only_functions(code: Code, symbols: Collection[str]) -> Code:
    """Return the code with just the functions of these symbols and their cold parts."""
    kept = tuple(f for f in code.functions if f.owner in symbols)
    return code._replace(functions=kept)
