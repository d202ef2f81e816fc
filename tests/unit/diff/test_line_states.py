"""Diff: line states, alignment, and the properties any diff must have."""

import random
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import document, hot_anvil, refused
from hot_anvil.core.arch.spelling import canonical, shape
from hot_anvil.core.arch.x86.registers import family_of
from hot_anvil.core.code.records import Code, Function, Instruction
from hot_anvil.core.diff.records import CHANGED, GONE, MOVED, NEW, RENAMED, REORDERED, SAME, Diff
from hot_anvil.core.model.registers import read_and_written
from hot_anvil.core.reasons.comparing import compare_codes


def diff_codes(left: Code, right: Code, sources: Mapping[str, Sequence[str]]) -> Diff:
    return compare_codes(left, right, sources).diff


REGISTERS = ["%eax", "%ebx", "%ecx", "%edx", "%esi", "%edi", "%r8d", "%r9d"]
MNEMONICS = ["addl", "subl", "movl", "imull", "xorl"]

instructions = st.builds(
    lambda mnemonic, a, b, line: Instruction(mnemonic, (a, b), "surge.c", line, 1, False),
    st.sampled_from(MNEMONICS),
    st.sampled_from([*REGISTERS, "$4", "8(%r14,%r15,4)"]),
    st.sampled_from(REGISTERS),
    st.integers(0, 6),
)


def code_of(items: list[Instruction], name: str = "surge") -> Code:
    return Code((Function(name, ".text", "", tuple(items), {}),), ("surge.c",), "x86")


def written(text: str, line: int = 1) -> Instruction:
    mnemonic, _, rest = text.partition(" ")
    operands = tuple(part.strip() for part in rest.split(", ")) if rest else ()
    return Instruction(mnemonic, operands, "surge.c", line, 1, False)


@given(st.lists(instructions, max_size=30))
def test_a_code_against_itself_is_the_same_everywhere(items: list[Instruction]) -> None:
    diff = diff_codes(code_of(items), code_of(items), {})
    assert all(row.state == SAME for row in diff.rows)
    assert diff.left_count == diff.right_count == len(items)


@given(st.lists(instructions, max_size=20), st.lists(instructions, max_size=20))
def test_the_diff_of_swapped_sides_is_the_mirror(
    left: list[Instruction], right: list[Instruction]
) -> None:
    mirror = {GONE: NEW, NEW: GONE}
    forth = {(r.file, r.line): r for r in diff_codes(code_of(left), code_of(right), {}).rows}
    back = {(r.file, r.line): r for r in diff_codes(code_of(right), code_of(left), {}).rows}
    assert forth.keys() == back.keys()
    for place, row in forth.items():
        assert back[place].state == mirror.get(row.state, row.state)
        turned = [(p.place[::-1], p.state) for part in back[place].parts for p in part.pairs]
        there = [(p.place, mirror.get(p.state, p.state)) for q in row.parts for p in q.pairs]
        assert sorted(turned) == sorted(there)


@given(st.lists(instructions, max_size=25), st.lists(instructions, max_size=25))
def test_an_alignment_loses_nothing_and_keeps_both_orders(
    left: list[Instruction], right: list[Instruction]
) -> None:
    left, right = ([i._replace(line=1) for i in side] for side in (left, right))
    diff = diff_codes(code_of(left), code_of(right), {})
    pairs = [pair for row in diff.rows for part in row.parts for pair in part.pairs]
    assert [pair.left for pair in pairs if pair.left] == left
    assert [pair.right for pair in pairs if pair.right] == right
    for pair in pairs:
        assert (pair.state == GONE) == (pair.right is None)
        assert (pair.state == NEW) == (pair.left is None)


@given(st.lists(instructions, min_size=1, max_size=20), st.randoms())
def test_a_change_of_order_among_independent_instructions_is_only_reordered(
    items: list[Instruction], chance: random.Random
) -> None:
    other = list(items)
    for _ in range(3 * len(items)):
        k = chance.randrange(len(items))
        pair = other[k : k + 2]
        if len(pair) == 2 and pair[0].line == pair[1].line and _independent(*pair):
            other[k : k + 2] = pair[::-1]
    states = {row.state for row in diff_codes(code_of(items), code_of(other), {}).rows}
    assert states <= {SAME, REORDERED}


def _independent(one: Instruction, other: Instruction) -> bool:
    (read, write), (reads, writes) = (
        read_and_written(i.mnemonic, i.operands, "x86") for i in (one, other)
    )
    return not (write & (reads | writes) or read & writes)


@given(st.lists(instructions, min_size=1, max_size=20), st.randoms())
def test_a_consistent_change_of_registers_is_only_renamed(
    items: list[Instruction], chance: random.Random
) -> None:
    shuffled = chance.sample(REGISTERS, len(REGISTERS))
    new_name = dict(zip(REGISTERS, shuffled, strict=True))
    # What a caller sets stays where it is, so the function sets them all first.
    items = [written(f"movl ${k}, {name}", 0) for k, name in enumerate(REGISTERS)] + items
    other = [
        i._replace(operands=tuple(new_name.get(operand, operand) for operand in i.operands))
        for i in items
    ]
    states = {row.state for row in diff_codes(code_of(items), code_of(other), {}).rows}
    assert states <= {SAME, RENAMED}


@pytest.mark.parametrize(
    ("left", "right", "state"),
    [
        (["addl %eax, %ebx"], ["addl %eax, %ebx"], SAME),
        (["callq f@PLT"], ["call f"], SAME),
        (["jnb .L3"], ["jae .L3"], SAME),
        (["movl $0x10, %eax"], ["movl $16, %eax"], SAME),
        (
            ["movl $1, %eax", "movl $2, %ebx", "addl %eax, %ebx", "jne .L3"],
            ["movl $1, %ecx", "movl $2, %edx", "addl %ecx, %edx", "jne .L9"],
            RENAMED,
        ),
        # A caller sets these: which is which is not the function's choice.
        (["movl %edi, %eax", "subl %esi, %eax"], ["movl %esi, %eax", "subl %edi, %eax"], CHANGED),
        # One register became two: no renaming does that.
        (["addl %eax, %eax"], ["addl %ecx, %edx"], CHANGED),
        # The same register, but more of it.
        (["addl %eax, %ebx"], ["addl %rax, %rbx"], CHANGED),
        (["jl .L3"], ["jb .L3"], CHANGED),
        # What does not depend on each other may stand in any order.
        (["incl %eax", "incl %ebx"], ["incl %ebx", "incl %eax"], REORDERED),
        (["incl %eax", "imull %eax, %ebx"], ["imull %eax, %ebx", "incl %eax"], CHANGED),
        (["cmpl %eax, %ebx", "jl .L3"], ["jl .L3", "cmpl %eax, %ebx"], CHANGED),
        (["ret"], [], GONE),
        ([], ["ret"], NEW),
    ],
)
def test_line_states(left: list[str], right: list[str], state: str) -> None:
    old, new = (code_of([written(text) for text in side]) for side in (left, right))
    (row,) = diff_codes(old, new, {}).rows
    assert row.state == state


@pytest.mark.parametrize(
    ("left", "right", "states"),
    [
        # The register is reused for another value: by value, one renaming holds.
        (
            ["1 movl %edi, %eax", "1 addl $1, %eax", "2 movl %esi, %eax", "2 addl $2, %eax"],
            ["1 movl %edi, %eax", "1 addl $1, %eax", "2 movl %esi, %ecx", "2 addl $2, %ecx"],
            [SAME, RENAMED],
        ),
        # The value made on line 1 goes on in another register than it was made in.
        (
            ["1 movl %edi, %eax", "1 imull %eax, %edx", "2 addl $2, %eax", "3 ret"],
            ["1 movl %edi, %eax", "1 imull %eax, %edx", "2 addl $2, %ecx", "3 ret"],
            [SAME, CHANGED, SAME],
        ),
        # What is missing on one line stands on another.
        (
            ["1 movl 8(%rdi), %eax", "2 addl $7, %esi", "3 ret"],
            ["2 movl 8(%rdi), %eax", "2 addl $7, %esi", "3 ret"],
            [MOVED, MOVED, SAME],
        ),
    ],
)
def test_states_over_a_function(left: list[str], right: list[str], states: list[str]) -> None:
    old, new = (
        code_of([written(text[2:], int(text[0])) for text in side]) for side in (left, right)
    )
    assert [row.state for row in diff_codes(old, new, {}).rows] == states


def test_constants_in_memory_count_by_their_value() -> None:
    def code(label: str, data: str) -> Code:
        load = written(f"movsd {label}(%rip), %xmm0")
        return Code(
            (Function("feet", ".text", "", (load,), {}, (), {label: data}),), ("surge.c",), "x86"
        )

    def state(right: Code) -> str:
        (row,) = diff_codes(code(".LC0", ".long 0; .long 1074266112"), right, {}).rows
        return row.state

    assert state(code(".LC7", ".long 0; .long 1074266112")) == SAME
    assert state(code(".LC0", ".long 0; .long 1073741824")) == CHANGED


def test_code_inlined_into_another_function_shows_under_its_own_line() -> None:
    left = Code(
        (
            Function("square", ".text", "", (written("imull %edi, %edi", 3),), {}),
            Function("surge", ".text", "", (written("call square", 9),), {}),
        ),
        ("surge.c",),
        "x86",
    )
    right = code_of([written("imull %edi, %edi", 3)])
    diff = diff_codes(left, right, {"surge.c": ["", "", "return x * x;"]})
    row = next(row for row in diff.rows if row.line == 3)
    assert row.text == "return x * x;"
    assert [(p.function, p.left_count, p.right_count) for p in row.parts] == [
        ("square", 1, 0), ("surge", 0, 1),
    ]  # fmt: skip
    assert [(t.name, t.left, t.right) for t in diff.functions] == [
        ("square", 1, None), ("surge", 1, 1),
    ]  # fmt: skip


@settings(max_examples=30)
@given(st.sampled_from(["%rax", "%eax", "%ax", "%al", "%ah", "%r10d", "%xmm3", "%ymm3", "%sil"]))
def test_registers_of_one_family_overlap(register: str) -> None:
    families = {
        "%rax": "ax", "%eax": "ax", "%ax": "ax", "%al": "ax", "%ah": "ax",
        "%r10d": "r10", "%xmm3": "v3", "%ymm3": "v3", "%sil": "si",
    }  # fmt: skip
    assert family_of(register)[0] == families[register]
    text = canonical("movq", (register, "%rcx"), "x86")
    assert shape(text, "x86")[1] == (families[register], "cx")


def test_diff_of_a_bare_file_counts_what_the_disassembler_counts(tmp_path: Path) -> None:
    source = tmp_path / "swell.c"
    source.write_text("int swell(int *p, int n)\n{\n    for (int i = 0; i < n; i++)\n"
                      "        p[i] *= 8;\n    return n;\n}\n")  # fmt: skip
    builds = ["--build", "gcc -O0", "--build", "gcc -O2"]
    found = document("diff", source, *builds)
    (totals,) = found["totals"]
    assert totals["left"] == sum(line["left"]["count"] for line in found["lines"])
    assert totals["right"] == sum(line["right"]["count"] for line in found["lines"])
    by_line = {line["line"]: line for line in found["lines"]}
    assert by_line[4]["text"].strip() == "p[i] *= 8;"
    assert any(
        "sall" in i["text"] or "shll" in i["text"] for i in by_line[4]["right"]["instructions"]
    )
    assert by_line[4]["left"]["count"] > by_line[4]["right"]["count"] > 0
    same = document("diff", source, "gcc -O2", "gcc -O2", *builds)
    assert {line["state"] for line in same["lines"]} == {SAME}
    text = hot_anvil("diff", source, *builds).stdout
    assert "p[i] *= 8;" in text and "changed" in text


def test_cplusplus_functions_go_by_their_source_names(need: Callable[..., None]) -> None:
    need("c++filt")
    source = Path(__file__).parents[2] / "sources" / "gauge.cpp"
    for name in ("top_of", "top_of(Gauge const&)", "_Z6top_ofRK5Gauge"):
        found = document("listing", source, "--build", "gcc -O2", "--entry", name)
        (function,) = found["functions"]
        assert (function["name"], function["title"]) == (
            "_Z6top_ofRK5Gauge",
            "top_of(Gauge const&)",
        )
    text = hot_anvil("listing", source, "--build", "gcc -O2", "--entry", "Gauge::top").stdout
    assert "Gauge::top() const  " in text
    assert text.index("  gauge.cpp\n") < text.index("  /usr/include/")
    assert "top_of(Gauge const&)" in refused(
        "listing", source, "--build", "gcc -O2", "--entry", "tip"
    )


def test_unknown_names_get_the_nearest(demo: Path) -> None:
    assert "'gcc:fast'" in refused("diff", demo, "gcc:plain", "gcc:fats")
    assert "'clamp_branch'" in refused("listing", demo, "gcc:lean", "--entry", "clamp_brnch")
    assert "two builds" in refused("diff", demo, "gcc:plain")
    assert "'clamp'" in refused("listing", demo, "gcc:lean", "--snippet", "clmp")
