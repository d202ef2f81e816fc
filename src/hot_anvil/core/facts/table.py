"""Facts of many builds side by side: functions by name, loops by the source lines they are of."""

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.code.records import Code, Function, Instruction, join_parts
from hot_anvil.core.facts.records import (
    FUNCTION_FACTS,
    LOOP_FACTS,
    MAIN,
    Fact,
    FunctionFacts,
    LoopFacts,
    find,
)  # fmt: skip
from hot_anvil.core.facts.silent import SilentLine
from hot_anvil.core.model.symbols import plain_name

NO_LOOP = "no loop"
_QUIET = frozenset((  # not worth a row where no build has any
    "empty", "constant", "calls", "inlined", "not inlined", "recursion", "saved", "slots", "frame",
    "divisions", "hardening", "checks", "atomics", "heap", "counting", "inline assembly",
    "jump tables", "unresolved", "padding", "other paths", "unrolled", "updates", "stack",
    "only time", "rest", "stores", "loads",
))  # fmt: skip


class Column(NamedTuple):
    """One build's facts; ``functions`` is None where the build is refused."""

    build: str
    functions: tuple[FunctionFacts, ...] | None
    why: str = ""
    files: frozenset[str] = frozenset()  # sources that its code comes from; none: not known

    def compiles(self, file: str) -> bool:
        """Tell whether the build has code of a source file, so that a function may be missing."""
        return self.functions is not None and (not self.files or file in self.files)


class FactRow(NamedTuple):
    """One fact under every build: a fact for each column, None where there is nothing to say."""

    name: str
    facts: tuple[Fact | None, ...]

    @property
    def differs(self) -> bool:
        """Whether builds that say something say different things."""
        if len(self.facts) < 2:
            return False
        return len({fact.words for fact in self.facts if fact is not None}) > 1

    @property
    def quiet(self) -> bool:
        """Whether no build has anything of this."""
        empty = ("-", "0", "no", "not known")
        return self.name in _QUIET and all(f is None or f.words in empty for f in self.facts)


class LoopRows(NamedTuple):
    """One source loop under every build."""

    file: str
    lines: str
    depth: int
    loops: tuple[LoopFacts | None, ...]  # what does most of it, None where there is no such loop
    rows: tuple[FactRow, ...]


class FunctionRows(NamedTuple):
    """One function under every build."""

    name: str
    title: str
    file: str  # where its source begins
    there: tuple[bool, ...]  # whether a build has the function at all
    rows: tuple[FactRow, ...]
    loops: tuple[LoopRows, ...]


class FactTable(NamedTuple):
    """A snippet's facts under many builds."""

    snippet: str
    columns: tuple[Column, ...]
    functions: tuple[FunctionRows, ...]


class ScalarLoop(NamedTuple):
    """A loop that other builds vectorise and these do not, and why not, as the compiler says."""

    function: str  # title
    file: str
    lines: str  # "12" or "12-14"
    builds: tuple[str, ...]
    why: str  # "": the compiler says nothing of it


class SnippetFacts(NamedTuple):
    """All that ``facts`` tells of a snippet."""

    table: FactTable
    codes: Mapping[str, Code]  # build -> the code that evidence stands in
    silent: tuple[SilentLine, ...]
    scalar: tuple["ScalarLoop", ...] = ()  # loops that other builds vectorise


def make_table(snippet: str, columns: Sequence[Column]) -> FactTable:
    """Return the facts of builds side by side, functions in the order of the source."""
    by_name = [_by_name(column.functions or ()) for column in columns]
    first: dict[str, FunctionFacts] = {}
    for known in by_name:
        for name, function in known.items():
            first.setdefault(name, function)
    order = sorted(
        first, key=lambda name: (not first[name].line, first[name].file, first[name].line)
    )
    rows = tuple(
        _function(name, first[name], [known.get(name) for known in by_name]) for name in order
    )
    return FactTable(snippet, tuple(columns), rows)


def scalar_builds(table: FactTable) -> Iterator[tuple[FunctionRows, LoopRows, list[str]]]:
    """Give the loops that some builds vectorise and others do not, with those others."""
    for function in table.functions:
        for loop in function.loops:
            row = next((row for row in loop.rows if row.name == "vector"), None)
            if row is None:
                continue
            lanes = [fact.value if fact else None for fact in row.facts]
            builds = [c.build for c, n in zip(table.columns, lanes, strict=True) if n == 1]
            if builds and any(n is not None and n != 1 for n in lanes):
                yield function, loop, builds


def _by_name(functions: Iterable[FunctionFacts]) -> dict[str, FunctionFacts]:
    """Return functions by name; a compiler's variant by the plain one where that is free."""
    own = {function.name: function for function in functions}
    out: dict[str, FunctionFacts] = {}
    for name, function in own.items():
        plain = plain_name(name)
        out[name if plain in own or plain in out else plain] = function
    return out


def _function(name: str, one: FunctionFacts, found: Sequence[FunctionFacts | None]) -> FunctionRows:
    rows = _rows(FUNCTION_FACTS, [f.facts if f else None for f in found])
    there = tuple(f is not None for f in found)
    return FunctionRows(name, plain_name(one.title), one.file, there, rows, _loops(found))


def _rows(names: Iterable[str], columns: Sequence[tuple[Fact, ...] | None]) -> tuple[FactRow, ...]:
    known = [{fact.name: fact for fact in facts or ()} for facts in columns]
    nothing = [None if facts is None else "-" for facts in columns]
    rows = []
    for name in names:
        facts = [own.get(name) for own in known]
        if any(facts):
            filled = (
                fact or (none and Fact(name, None, (), none))
                for fact, none in zip(facts, nothing, strict=True)
            )
            rows.append(FactRow(name, tuple(f or None for f in filled)))
    return tuple(rows)


def _loops(found: Sequence[FunctionFacts | None]) -> tuple[LoopRows, ...]:
    """Return the source loops of a function: loops of builds whose lines and depth fit."""
    groups: list[dict[int, LoopFacts]] = []
    for column, function in enumerate(found):
        for loop in function.loops if function else ():
            if loop.part != MAIN:
                continue
            fitting = [
                g for g in groups if column not in g and any(_fit(loop, o) for o in g.values())
            ]
            best = min(fitting, key=lambda g: _distance(loop, g.values()), default=None)
            if best is None:
                groups.append({column: loop})
            else:
                best[column] = loop
    groups.sort(key=lambda g: min((loop.first, loop.depth) for loop in g.values()))
    out = []
    for group in groups:
        loops = tuple(group.get(column) for column in range(len(found)))
        there = [loop for loop in loops if loop]
        widest = max(there, key=lambda loop: loop.last - loop.first)
        rows = _rows(LOOP_FACTS, [loop.facts if loop else None for loop in loops])
        gone = [bool(function) and not loop for loop, function in zip(loops, found, strict=True)]
        absent = Fact("per pass", None, (), NO_LOOP)
        passes = tuple(
            absent if out_of else fact for fact, out_of in zip(rows[0].facts, gone, strict=True)
        )
        rows = (rows[0]._replace(facts=passes), *rows[1:])
        out.append(LoopRows(widest.file, widest.lines, widest.depth, loops, rows))
    return tuple(out)


def _fit(one: LoopFacts, other: LoopFacts) -> bool:
    near = one.first <= other.last + 1 and other.first <= one.last + 1
    return one.file == other.file and near and one.depth == other.depth


def _distance(loop: LoopFacts, others: Iterable[LoopFacts]) -> int:
    return min(abs(loop.first - o.first) + abs(loop.last - o.last) for o in others)


def chosen(table: FactTable, names: Collection[str], all_rows: bool) -> FactTable:
    """Return the table with some facts only (all when none is named), and rows that differ.

    With one build that has the function's source, or with ``all_rows``, every
    row that says something stays.
    """

    def keep(rows: Sequence[FactRow], everything: bool) -> tuple[FactRow, ...]:
        return tuple(
            row
            for row in rows
            if (not names or row.name in names)
            and (row.differs or (everything and (all_rows or bool(names) or not row.quiet)))
        )

    functions = []
    for function in table.functions:
        able = sum(column.compiles(function.file) for column in table.columns)
        everything = all_rows or able < 2
        loops = tuple(
            loop._replace(rows=rows)
            for loop in function.loops
            if (rows := keep(loop.rows, everything))
        )
        rows = keep(function.rows, everything)
        if rows or loops or not all(function.there):
            functions.append(function._replace(rows=rows, loops=loops))
    return table._replace(functions=tuple(functions))


def timing_loops(table: FactTable) -> tuple[tuple[FunctionRows, LoopRows, Mapping[str, str]], ...]:
    """Return loops in which only time passes in some build: with what each build makes of it."""
    out = []
    for function in table.functions:
        for loop in function.loops:
            found = [one and find(one.facts, "only time") for one in loop.loops]
            if not any(found):
                continue
            words = {}
            for column, one, there in zip(table.columns, loop.loops, function.there, strict=True):
                passes = find(one.facts, "per pass") if one else None
                if there:
                    words[column.build] = (
                        f"{passes.words} instructions a pass" if passes else "deleted"
                    )
            out.append((function, loop, words))
    return tuple(out)


def instructions_of(owners: Mapping[str, Sequence[Function]], name: str) -> tuple[Instruction, ...]:
    """Return the instructions of a function and its cold parts.

    ``owners`` are all functions by owner (``parts_by_owner``): made once for many names.
    """
    symbol = name if name in owners else next((o for o in owners if plain_name(o) == name), "")
    return join_parts(owners.get(symbol, ()))
