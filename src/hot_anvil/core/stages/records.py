"""A function in one of a compiler's forms, whatever that form looks like."""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.arch import semantics
from hot_anvil.core.arch.helpers import helper

# What a statement can be or do, as readers of forms tell it; a call has "call NAME" beside it.
CALL, LOAD, STORE, DIVISION, VECTOR = "call", "load", "store", "division", "vector"
ALLOCATION, COPY = "allocation", "copy"
NO_VECTORS = ("machine IR", "MIR")  # forms that do not show how wide an operation is
MARKER = "marker"  # a statement that is no operation: a merge of values, a note of a scope

_ALLOCATORS = {
    "malloc", "calloc", "realloc", "aligned_alloc", "posix_memalign", "memalign", "strdup",
    "alloca", "alloca_with_align", "_Znwm", "_Znam", "_ZnwmSt11align_val_t", "operator new",
    "operator new []", "operator new[]", "__rust_alloc", "__rust_alloc_zeroed",
    "__rust_realloc",
}  # fmt: skip
_COPIES = {"memcpy", "memmove", "mempcpy", "memcpy_inline", "__memcpy_chk", "__memmove_chk"}
_ALIGNED = re.compile(r"__aeabi_(mem(?:cpy|move|set|clr))[48]?")  # what a target calls them


class Statement(NamedTuple):
    """One statement of a form."""

    file: str  # "" where the form names none
    line: int  # 0 where the form names none
    text: str  # in one line, without what only the compiler can use
    traits: tuple[str, ...] = ()

    @property
    def callees(self) -> list[str]:
        """The functions that it calls by name."""
        return [trait.removeprefix("call ") for trait in self.traits if trait.startswith("call ")]


class Block(NamedTuple):
    """Statements that run one after the other."""

    label: str
    first: int  # index of its first statement
    goes_to: tuple[str, ...]  # labels of the blocks that may come next


class Body(NamedTuple):
    """A function in one form."""

    function: str  # its symbol, or its name as the form has it
    form: str
    statements: tuple[Statement, ...]
    blocks: tuple[Block, ...]

    def parts(self) -> Iterator[tuple[Block, tuple[Statement, ...]]]:
        """Give each block with its statements."""
        ends = [*(block.first for block in self.blocks[1:]), len(self.statements)]
        for block, end in zip(self.blocks, ends, strict=True):
            yield block, self.statements[block.first : end]

    def holds_the_same(self, other: "Body") -> bool:
        """Tell whether another holds the very same in the same form."""
        return self[1:] == other[1:]


class Stage(NamedTuple):
    """A function behind one pass of a compiler."""

    name: str  # of the pass, with a number behind it where it runs several times
    body: Body
    passed: tuple[str, ...] = ()  # passes that ran since the stage before and changed nothing


class FunctionStages(NamedTuple):
    """A function through a build's compiler."""

    snippet: str
    build: str
    symbol: str
    title: str
    stages: tuple[Stage, ...]
    names: Mapping[str, tuple[str, ...]]  # symbol of what it calls -> what that is called
    sources: Mapping[str, Sequence[str]]  # file -> its lines
    code: str  # "same": asking changed no code; "": it made none; else the functions that differ
    inlined: tuple[str, ...] = ()  # what the whole-program inliner says that it put in here


class Offered(NamedTuple):
    """What a build's compiler can show between source and assembly."""

    snippet: str
    build: str
    forms: Mapping[str, tuple[str, ...]]  # form -> names of its stages
    why: str  # why there is nothing, "" where there is


class WholeForm(NamedTuple):
    """One form of a whole source: functions as they are read, or lines of text."""

    snippet: str
    build: str
    source: str
    stage: str
    is_text: bool
    functions: Iterator[Body]
    lines: Iterator[str]


def call_traits(name: str) -> tuple[str, ...]:
    """Return the traits of a call of a function, "" for one through a pointer."""
    plain = re.sub(r"^llvm\.(mem(?:cpy|move|set))\..*", r"\1", name.removeprefix("__builtin_"))
    out = [CALL, f"call {plain}"] if plain else [CALL]
    if plain in _ALLOCATORS or "exchange_malloc" in plain or "__rust_alloc" in plain:
        out.append(ALLOCATION)
    aligned = _ALIGNED.fullmatch(plain)
    if plain in _COPIES or (aligned and aligned[1] in _COPIES):
        out.append(COPY)
    if (helper(plain) or ("",))[0] in (semantics.DIV, semantics.FDIV):
        out.append(DIVISION)  # where there is no instruction for it
    return tuple(out)


def loops_of(blocks: Iterable[Block]) -> int:
    """Return how many loops the blocks make: blocks that something inside leads back to.

    A walk in depth finds the edges that lead back to a block on the way.
    """
    after: Mapping[str, tuple[str, ...]] = {block.label: block.goes_to for block in blocks}
    heads: set[str] = set()
    state: dict[str, int] = {}
    for start in after:
        todo = [(start, iter(after[start]))] if start not in state else []
        state.setdefault(start, 1)
        while todo:
            label, rest = todo[-1]
            following = next((one for one in rest if one in after), None)
            if following is None:
                state[label] = 2
                todo.pop()
            elif state.get(following) == 1 and any(following == one for one, _ in todo):
                heads.add(following)
            elif following not in state:
                state[following] = 1
                todo.append((following, iter(after[following])))
    return len(heads)


class Counts(NamedTuple):
    """What a form of a function holds."""

    statements: int
    blocks: int
    loops: int
    calls: int
    allocations: int
    loads: int
    stores: int
    divisions: int
    vectors: int | None  # None where the form does not tell


def counts_of(body: Body) -> Counts:
    """Return what a form of a function holds; markers are no statements."""
    real = [s for s in body.statements if MARKER not in s.traits]

    def count(trait: str) -> int:
        return sum(trait in s.traits for s in real)

    return Counts(
        len(real), len(body.blocks), loops_of(body.blocks), count(CALL), count(ALLOCATION),
        count(LOAD), count(STORE), count(DIVISION),
        count(VECTOR) if body.form not in NO_VECTORS else None,
    )  # fmt: skip
