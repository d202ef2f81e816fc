"""Many builds by source line: counts, marks, and where builds disagree."""

from collections import Counter
from collections.abc import Collection, Sequence
from math import prod
from typing import NamedTuple

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.helpers import helper
from hot_anvil.core.asm.listing import Sources, source_text
from hot_anvil.core.code.records import Code
from hot_anvil.core.model.control_flow import Body, bodies


class Column(NamedTuple):
    """One build of a ledger."""

    build: str
    code: Code | None  # None where the build is refused
    why: str = ""


class Cell(NamedTuple):
    """What one build made of one source line."""

    instructions: int
    marks: tuple[str, ...] = ()  # "loop", "4x32", "call" and so on, the most telling first


class LedgerRow(NamedTuple):
    """One source line under all builds."""

    file: str
    line: int
    text: str
    cells: tuple[Cell | None, ...]  # by column, None where the build is refused

    @property
    def spread(self) -> int:
        """Instructions between the builds with the fewest and the most."""
        counts = [cell.instructions for cell in self.cells if cell]
        return max(counts) - min(counts) if counts else 0

    @property
    def differs(self) -> bool:
        """Whether builds disagree on the count or the marks."""
        return len({cell for cell in self.cells if cell}) > 1


class Ledger(NamedTuple):
    """A snippet's source lines under many builds."""

    snippet: str
    columns: tuple[str, ...]  # builds
    refused: tuple[tuple[str, str], ...]  # build, why
    rows: tuple[LedgerRow, ...]
    totals: tuple[int | None, ...]  # instructions by column

    def arranged(self, only_differing: bool, by_spread: bool) -> "Ledger":
        """Return the ledger with fewer rows, or with those that disagree most first."""
        rows = [row for row in self.rows if row.differs or not only_differing]
        if by_spread:
            rows.sort(key=lambda row: -row.spread)
        return self._replace(rows=tuple(rows))


def make_ledger(
    snippet: str, columns: Sequence[Column], sources: Sources, entries: Collection[str] = ()
) -> Ledger:
    """Return the ledger of a snippet; ``entries`` (symbols) limits it to these functions."""
    made = [_cells(column.code, entries) if column.code else None for column in columns]
    places = dict.fromkeys(place for cells in made if cells for place in cells)
    files = {file: k for k, file in enumerate(dict.fromkeys(file for file, _ in places))}
    rows = tuple(
        LedgerRow(
            *place,
            source_text(sources, *place),
            tuple(None if cells is None else cells.get(place, Cell(0)) for cells in made),
        )
        for place in sorted(places, key=lambda place: (files[place[0]], place[1]))
    )
    totals = tuple(
        None if c is None else sum(cell.instructions for cell in c.values()) for c in made
    )
    refused = tuple((c.build, c.why) for c in columns if c.code is None)
    return Ledger(snippet, tuple(c.build for c in columns), refused, rows, totals)


def _cells(code: Code, entries: Collection[str]) -> dict[tuple[str, int], Cell]:
    counts: Counter[tuple[str, int]] = Counter()
    marks: dict[tuple[str, int], set[str]] = {}
    for owner, body in bodies(code.functions, code.isa).items():
        if entries and owner not in entries:
            continue
        for k, item in enumerate(body.items):
            place = item.file, item.line
            counts[place] += 1
            mark = _mark(body, k)
            if mark:
                marks.setdefault(place, set()).add(mark)
            if body.loop_of[k] >= 0:
                marks.setdefault(place, set()).add("loop")
    return {
        place: Cell(count, tuple(sorted(_widest(marks.get(place, set())), key=_rank)))
        for place, count in counts.items()
    }


def _widest(marks: set[str]) -> set[str]:
    """Return the marks with one for packed arithmetic, the one of the widest registers."""
    packed = [mark for mark in marks if mark[0].isdigit()]
    if len(packed) < 2:
        return marks
    best = max(packed, key=lambda mark: (prod(map(int, mark.split("x"))), mark))
    return marks - set(packed) | {best}


def _mark(body: Body, k: int) -> str:
    """Return the short fact that an instruction adds to its line's cell, "" for none."""
    done = body.effects[k]
    if body.items[k].inline_asm:
        return "asm"
    if done.packed and done.kind in b.ARITHMETIC | {b.COMPARE, b.CONVERT}:
        if done.lanes == b.SCALABLE:
            return "vector"
        return f"{done.lanes}x{done.bits}" if done.bits and done.kind != b.LOGIC else ""
    if done.kind in (b.CALL, b.JUMP) and (done.kind == b.CALL or body.leaves(k)):
        known = helper(done.target) if done.target else None
        return known[0].split()[-1] if known else "call" if done.kind == b.CALL else "tail"
    return {
        b.DIV: "divide", b.FDIV: "divide", b.FSQRT: "root", b.FMA: "fma", b.SELECT: "select",
        b.ATOMIC: "atomic", b.FENCE: "atomic", b.BLOCK: "block", b.TRAP: "trap",
    }.get(done.kind, "")  # fmt: skip


_ORDER = ("loop", "call", "tail", "divide")


def _rank(mark: str) -> tuple[int, str]:
    return (_ORDER.index(mark) if mark in _ORDER else len(_ORDER), mark)
