"""Ledgers of made-up code, and which lines of an edited source stand for which."""

from collections.abc import Sequence

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hot_anvil.core.code.places import Place
from hot_anvil.core.code.records import Code, Function, Instruction
from hot_anvil.core.diff.edited import map_lines, match_lines
from hot_anvil.core.diff.ledger import Cell, Column, make_ledger

SOURCES = {"surge.c": ["int surge(int n)", "    return n * n / 3;", "tide();"]}


def code(*rows: tuple[int, str], labels: dict[str, int] | None = None) -> Code:
    """Return a function of (source line, instruction) rows."""
    items = []
    for number, (line, text) in enumerate(rows):
        mnemonic, _, rest = text.partition(" ")
        operands = tuple(rest.split(", ")) if rest else ()
        items.append(Instruction(mnemonic, operands, "surge.c", line, number, False))
    return Code((Function("surge", ".text", "", tuple(items), labels or {}),), ("surge.c",), "x86")


def test_a_ledger_has_a_row_for_each_line_and_a_cell_for_each_build() -> None:
    lean = code((2, "imull %edi, %edi"), (2, "idivl %ecx"), (3, "jmp tide"))
    wide = code((2, "vpmulld %ymm0, %ymm1, %ymm2"), (2, "vpaddd %xmm0, %xmm1, %xmm2"))
    made = make_ledger(
        "surge",
        [Column("lean", lean), Column("wide", wide), Column("odd", None, "no such flag")],
        SOURCES,
    )
    assert [(row.line, row.text.strip()) for row in made.rows] == [
        (2, "return n * n / 3;"),
        (3, "tide();"),
    ]
    first, second = made.rows
    assert first.cells == (Cell(2, ("divide",)), Cell(2, ("8x32",)), None)
    assert second.cells == (Cell(1, ("tail",)), Cell(0), None)
    assert (first.spread, second.spread) == (0, 1) and first.differs
    assert made.totals == (3, 2, None) and made.refused == (("odd", "no such flag"),)
    assert [row.line for row in made.arranged(False, True).rows] == [3, 2]


def test_equal_builds_differ_nowhere_and_loops_are_marked() -> None:
    loop = code((2, "addl $1, %eax"), (2, "jne .L2"), (3, "ret"), labels={".L2": 0})
    made = make_ledger("surge", [Column("a", loop), Column("b", loop)], SOURCES)
    assert made.rows[0].cells[0] == Cell(2, ("loop",))
    assert made.arranged(True, False).rows == ()
    assert make_ledger("surge", [Column("a", loop)], SOURCES, {"ebb"}).rows == ()


lines = st.lists(st.sampled_from([f"level[{k}] = tide({k});" for k in range(9)]), max_size=8)


@given(lines, lines)
def test_lines_are_matched_one_to_one_and_equal_texts_first(
    old: Sequence[str], new: Sequence[str]
) -> None:
    found = match_lines(old, new)
    assert len(set(found.values())) == len(found)
    assert all(1 <= i <= len(old) and 1 <= j <= len(new) for i, j in found.items())
    assert match_lines(old, old) == {k + 1: k + 1 for k in range(len(old))}


@given(lines.map(lambda some: list(dict.fromkeys(some))), st.integers(0, 8))
def test_what_is_put_in_moves_the_lines_behind_it_and_no_other(
    old: Sequence[str], place: int
) -> None:
    place = min(place, len(old))
    new = [*old[:place], "a line that is like no other one", *old[place:]]
    wanted = {k + 1: k + 1 + (k >= place) for k in range(len(old))}
    assert match_lines(old, new) == wanted


@pytest.mark.parametrize(
    ("old", "new", "pairs"),
    [
        (["if (ebb > flow)"], ["if (ebb >= flow)"], {1: 1}),  # edited
        (["if (ebb > flow)", "low();"], ["return 7;"], {}),  # others altogether
        (["  tide();", "ebb = 3;", "flow = 4;"], ["ebb = 3;", "flow = 4;", "tide();"],
         {1: 3, 2: 1, 3: 2}),  # moved
    ],
)  # fmt: skip
def test_edited_and_moved_lines(old: list[str], new: list[str], pairs: dict[int, int]) -> None:
    assert match_lines(old, new) == pairs


def test_a_line_that_is_gone_stands_behind_the_one_before_it() -> None:
    mapped = map_lines({"surge.c": ["ebb = 1;", "gone_now();", "flow = 2;"]},
                       {"surge.c": ["ebb = 1;", "flow = 2;"]})  # fmt: skip
    assert mapped.lines["surge.c"] == {
        1: Place("surge.c", 1),
        2: Place("surge.c", 1, 2),
        3: Place("surge.c", 2),
    }
    assert not map_lines({"surge.c": ["same"]}, {"surge.c": ["same"]}).lines
