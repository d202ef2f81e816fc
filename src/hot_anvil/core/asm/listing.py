"""One build's code by source line."""

from collections.abc import Mapping, Sequence
from typing import Literal, NamedTuple

from hot_anvil.core.arch import costs_of, syntax_of
from hot_anvil.core.arch.costs import Cost
from hot_anvil.core.asm.calls import callee
from hot_anvil.core.asm.named_values import named_values
from hot_anvil.core.asm.phases import Phase, phases
from hot_anvil.core.code.records import (
    Code,
    Datum,
    Function,
    Instruction,
    join_parts,
    parts_by_owner,
)

Sources = Mapping[str, Sequence[str]]  # file -> its lines
NO_LINE = "(made by the compiler, no source line)"


class Placed(NamedTuple):
    """An instruction with its place in the function, from 0, in the order of the text."""

    place: int
    instruction: Instruction
    phase: Phase | Literal[""] = ""  # "" for the body
    called: str = ""  # what it calls, as the source writes it, where the symbol is another
    cost: Cost | None = None  # its cycles, where the instruction set fixes them
    value: str = ""  # what stands behind the label that it names, where that is known


class Line(NamedTuple):
    """One source line and what became of it in one function."""

    file: str
    line: int  # 0 for code without a source line
    text: str
    instructions: tuple[Placed, ...]


class ListedFunction(NamedTuple):
    """One function by source line; cold parts are joined to it."""

    name: str  # symbol
    title: str  # as the source writes it
    lines: tuple[Line, ...]
    labels: Mapping[int, tuple[str, ...]]  # index of an instruction -> labels before it
    total: int  # instructions
    data: tuple[Datum, ...] = ()  # what stands among the instructions and is none
    hidden: int = 0  # instructions left out by a filter


def by_place(function: ListedFunction) -> list[tuple[Line, Placed]]:
    """Return a function's instructions from first to last, each with its source line."""
    placed = [(line, one) for line in function.lines for one in line.instructions]
    return sorted(placed, key=lambda pair: pair[1].place)


def source_text(sources: Sources, file: str, line: int) -> str:
    """Return the text of a source line; a note for line 0, "" when it is not known."""
    if line <= 0:
        return NO_LINE
    lines = sources.get(file, ())
    return lines[line - 1] if line <= len(lines) else ""


def list_functions(code: Code, sources: Sources) -> tuple[ListedFunction, ...]:
    """Return every function of the code by source line, in the order of the text."""
    owners = parts_by_owner(code.functions)
    return tuple(_list_function(owner, code, parts, sources) for owner, parts in owners.items())


def _list_function(
    name: str, code: Code, parts: list[Function], sources: Sources
) -> ListedFunction:
    marks = [mark for part in parts for mark in phases(part.instructions, code.isa)]
    isa, costs = syntax_of(code.isa), costs_of(code.isa)
    values = named_values(parts, code.isa)
    placed = []
    for index, instruction in enumerate(join_parts(parts)):
        called = callee(instruction, isa)
        title = code.title(called)
        named = title if title != called else ""
        cost = costs.of_instruction(instruction) if costs else None
        value = values.get(index, "")
        placed.append(Placed(index, instruction, marks[index], named, cost, value))
    by_line: dict[tuple[str, int], list[Placed]] = {}
    for item in placed:
        by_line.setdefault((item.instruction.file, item.instruction.line), []).append(item)
    home = _home(by_line)
    numbers = [line for file, line in by_line if file == home and line > 0]
    if numbers:
        for line in range(min(numbers), max(numbers) + 1):
            by_line.setdefault((home, line), [])
    order = sorted(by_line, key=lambda place: (place[0] != home, place[0], place[1]))
    lines = tuple(
        Line(file, line, source_text(sources, file, line), tuple(by_line[file, line]))
        for file, line in order
    )
    return ListedFunction(name, code.title(name), lines, _labels(parts), len(placed), _data(parts))


def _data(parts: list[Function]) -> tuple[Datum, ...]:
    out: list[Datum] = []
    start = 0
    for part in parts:
        out += [datum._replace(place=start + datum.place) for datum in part.data]
        start += len(part.instructions)
    return tuple(out)


def _home(by_line: Mapping[tuple[str, int], list[Placed]]) -> str:
    """Return the file that the function is shown in: of the bench's own if it has lines there."""
    counts: dict[str, int] = {}
    for (file, line), items in by_line.items():
        if line > 0:
            counts[file] = counts.get(file, 0) + len(items)
    return max(counts, key=lambda file: (not file.startswith("/"), counts[file]), default="")


def _labels(parts: list[Function]) -> dict[int, tuple[str, ...]]:
    out: dict[int, tuple[str, ...]] = {}
    start = 0
    for part in parts:
        if part.parent:
            out[start] = (part.name,)
        for label, at in part.labels.items():
            out[start + at] = (*out.get(start + at, ()), label)
        start += len(part.instructions)
    return out
