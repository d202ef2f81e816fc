"""Flow graphs, least-cost alignment, and spreading work over processes."""

from functools import cache

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import CORPUS
from hot_anvil.api import open_source
from hot_anvil.core.arch.spelling import canonical
from hot_anvil.core.code.records import Function, Instruction
from hot_anvil.core.diff.alignment import _KIND, _cost, _tokens, align_texts
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.reasons.comparing import compare_codes
from hot_anvil.errors import FaultError
from hot_anvil.system.process import parallel as spreading

ALONE = 6


def body(text: str, isa: str = "x86") -> Body:
    """Return a function of instructions and labels, one a line."""
    items: list[Instruction] = []
    labels = {}
    for line in text.strip().split("\n"):
        line = line.strip()
        if line.endswith(":"):
            labels[line[:-1]] = len(items)
        else:
            mnemonic, _, rest = line.partition(" ")
            operands = tuple(rest.split(", ")) if rest else ()
            items.append(Instruction(mnemonic, operands, "tide.c", 1, 1, False))
    return Body("tide", (Function("tide", ".text", "", tuple(items), labels),), isa)


NESTED = """
    xorl %eax, %eax
.L1:
    xorl %ecx, %ecx
.L2:
    addl %ecx, %eax
    testl %edx, %edx
    je .L3
    addl $1, %eax
.L3:
    addl $1, %ecx
    cmpl %esi, %ecx
    jne .L2
    addl $1, %edx
    cmpl %edi, %edx
    jne .L1
    ret
"""


def test_nested_loops_are_found_with_what_each_pass_executes() -> None:
    found = body(NESTED)
    outer, inner = found.loops
    assert (outer.depth, inner.depth) == (1, 2) and inner.blocks < outer.blocks
    assert [found.loop_of[k] for k in (0, 1, 2, 5, 8, 9, 12)] == [-1, 0, 1, 1, 1, 0, -1]
    sometimes = inner.blocks - found.every_pass(inner)
    assert {k for k, block in enumerate(found.block_of) if block in sometimes} == {5}


def test_a_loop_entered_in_two_places_is_found() -> None:
    found = body("je .L2\n.L1:\naddl $1, %eax\n.L2:\nsubl $1, %eax\njne .L1\nret")
    assert [sorted(loop.blocks) for loop in found.loops] == [[1, 2]]


def test_a_branch_over_one_jump_closes_a_loop() -> None:
    found = body(".L1:\nsbiw r24, 1\nbrne .+2\nrjmp .L9\nrjmp .L1\n.L9:\nret", "avr")
    assert found.goals == [-1, 3, 4, 0, -1]
    assert len(found.loops) == 1


def test_a_jump_out_of_the_function_is_told_from_one_inside() -> None:
    found = body(".L1:\njne .L1\njmp probe")
    assert not found.leaves(0) and found.leaves(1)


texts = st.lists(
    st.sampled_from(
        ["addl $1, %eax", "addl $2, %ecx", "movl (%rdi), %eax", "subl $1, %eax", "ret"]
    ),
    max_size=5,
)


@given(texts, texts)
def test_no_alignment_costs_less(left: list[str], right: list[str]) -> None:
    sides = [body("\n".join(side)).items if side else () for side in (left, right)]
    spelled = [[canonical(i.mnemonic, i.operands, "x86") for i in side] for side in sides]
    a, b = (_tokens(t, side, "x86") for t, side in zip(spelled, sides, strict=True))

    @cache
    def least(i: int, j: int) -> int:
        if i == len(a) or j == len(b):
            return ALONE * (len(a) - i + len(b) - j)
        pair = _cost(a[i], b[j]) + least(i + 1, j + 1)
        return min(pair, ALONE + least(i + 1, j), ALONE + least(i, j + 1))

    found = align_texts(spelled[0], spelled[1], sides[0], sides[1], "x86")
    cost = sum(ALONE if i < 0 or j < 0 else _cost(a[i], b[j]) for i, j in found)
    assert cost == least(0, 0) and _KIND < 2 * ALONE


def test_work_spread_over_processes_gives_the_same(monkeypatch: pytest.MonkeyPatch) -> None:
    anvil = open_source(CORPUS / "values.c", ["gcc -O0", "gcc -O2"])
    left, right = (anvil.code(built) for built in anvil.compile())
    alone = compare_codes(left, right, {})
    monkeypatch.setattr(spreading, "_WORTH", 0)
    monkeypatch.setattr("os.sched_getaffinity", lambda _: {0, 1, 2})
    assert compare_codes(left, right, {}, spread=spreading.over_cores) == alone


def test_a_process_that_fails_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(spreading, "_WORTH", 0)
    monkeypatch.setattr("os.sched_getaffinity", lambda _: {0, 1})

    def work(k: int) -> int:
        return 1 // (1 - k)

    with pytest.raises(FaultError, match="compares functions"):
        spreading.over_cores(work, [1, 1])
