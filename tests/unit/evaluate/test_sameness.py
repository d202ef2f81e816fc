"""Pieces of code that compute the same are found equal, and no others."""

from collections.abc import Mapping

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hot_anvil.core.arch import architecture, evaluation_of
from hot_anvil.core.arch.operations import NotEvaluableError, Step
from hot_anvil.core.arch.spelling import canonical
from hot_anvil.core.code.text import split_operands
from hot_anvil.core.evaluate.liveness import pruned
from hot_anvil.core.evaluate.sameness import DIFFER, EQUAL, OPEN, Machine, Piece, compare


def steps_of(text: str, isa: str, width: int) -> list[Step]:
    out: list[Step] = []
    for line in text.split("; "):
        mnemonic, _, rest = line.partition(" ")
        written = canonical(mnemonic, split_operands(rest), isa)
        name, _, operands = written.partition(" ")
        out += evaluation_of(isa).operations(name, split_operands(operands), width)
    return out


def answer(
    left: str, right: str, after: Mapping[str, int], isa: str = "x86", width: int = 64
) -> str:
    evaluation = evaluation_of(isa)
    machine = Machine(width, frozenset(evaluation.flags), architecture(isa).abi.stack)
    one, other = (Piece(steps_of(text, isa, width), after) for text in (left, right))
    names = {name: name for name in after}
    return compare(one, other, {}, names, machine).answer


@pytest.mark.parametrize(
    ("left", "right", "after", "expected"),
    [
        ("addl %esi,%eax", "subl %esi,%eax", {"ax": 32}, DIFFER),
        (
            "leaq (%rdi,%rsi,4),%rax",
            "movq %rsi,%rax; shlq $2,%rax; addq %rdi,%rax",
            {"ax": 64},
            EQUAL,
        ),
        ("xorl %eax,%eax", "movl $0,%eax", {"ax": 64}, EQUAL),
        ("xorl %eax,%eax", "movl $0,%eax", {"ax": 64, "ZF": 1}, DIFFER),
        ("movzbl %dil,%eax", "movl %edi,%eax; andl $255,%eax", {"ax": 64}, EQUAL),
        ("imull $9,%edi,%eax", "leal (%rdi,%rdi,8),%eax", {"ax": 64}, EQUAL),
        ("imulq $9,%rdi,%rax", "leal (%rdi,%rdi,8),%eax", {"ax": 64}, DIFFER),
        ("shrl $3,%eax", "sarl $3,%eax", {"ax": 32}, DIFFER),
        ("cmpl %edi,%esi; setg %al", "cmpl %edi,%esi; seta %al", {"ax": 8}, DIFFER),
        ("cmpl $5,%edi; jg .L3", "cmpl $6,%edi; jge .L3", {}, EQUAL),
        ("cmpl $5,%edi; jg .L3", "cmpl $6,%edi; jg .L3", {}, DIFFER),
        (
            "roll $13,%eax",
            "movl %eax,%ecx; shll $13,%eax; shrl $19,%ecx; orl %ecx,%eax",
            {"ax": 64},
            EQUAL,
        ),
        (
            "movb %sil,(%rdi); movb %dl,1(%rdi)",
            "movzbl %dl,%eax; shll $8,%eax; movzbl %sil,%ecx; orl %ecx,%eax; movw %ax,(%rdi)",
            {},
            EQUAL,
        ),
        ("movl %edx,(%rdi); movl %ecx,(%rsi)", "movl %ecx,(%rsi); movl %edx,(%rdi)", {}, DIFFER),
        ("movl %edx,(%rdi); movl %ecx,(%rdi)", "movl %ecx,(%rdi)", {}, EQUAL),
        (
            "imull %edi,%eax; sete %cl",
            "imull %edi,%eax; sete %cl; movl %eax,%eax",
            {"ax": 32, "cx": 8},
            OPEN,
        ),
        (
            "movl $5,%eax; xorl %edx,%edx; divl %edi",
            "movl $5,%eax; xorl %edx,%edx; divl %edi; nop",
            {"ax": 32},
            EQUAL,
        ),
        (
            "movl $7,%eax; xorl %edx,%edx; divl %edi",
            "movl $7,%eax; cltd; idivl %edi",
            {"ax": 32},
            DIFFER,
        ),
    ],
)
def test_pieces_of_x86(left: str, right: str, after: Mapping[str, int], expected: str) -> None:
    assert answer(left, right, after) == expected


@pytest.mark.parametrize(
    ("isa", "width", "left", "right", "after", "expected"),
    [
        ("riscv", 64, "slli a0,a1,56; srli a0,a0,56", "andi a0,a1,255", {"a0": 64}, EQUAL),
        ("riscv", 64, "addw a0,a1,a2", "add a0,a1,a2; sext.w a0,a0", {"a0": 64}, EQUAL),
        ("riscv", 64, "addw a0,a1,a2", "add a0,a1,a2", {"a0": 64}, DIFFER),
        ("riscv", 32, "sltiu a0,a1,1", "seqz a0,a1", {"a0": 32}, EQUAL),
        (
            "aarch64",
            64,
            "cmp w0,w1; csel w0,w0,w1,lt",
            "cmp w1,w0; csel w0,w1,w0,lt",
            {"r0": 32},
            EQUAL,
        ),
        (
            "aarch64",
            64,
            "cmp w0,w1; csel w0,w0,w1,lt",
            "cmp w0,w1; csel w0,w1,w0,ge",
            {"r0": 32},
            EQUAL,
        ),
        ("aarch64", 64, "ubfx x0,x1,4,8", "lsr x0,x1,4; and x0,x0,255", {"r0": 64}, EQUAL),
        ("arm", 32, "rsb r0,r1,#0", "mvn r0,r1; add r0,r0,#1", {"r0": 32}, EQUAL),
        ("arm", 32, "cmp r0,r1; movge r0,r1", "cmp r0,r1; movgt r0,r1", {"r0": 32}, EQUAL),
        ("arm", 32, "cmp r0,r1; movge r0,#1", "cmp r0,r1; movgt r0,#1", {"r0": 32}, DIFFER),
        ("avr", 8, "add r24,r24; adc r25,r25", "lsl r24; rol r25", {"r24": 8, "r25": 8}, EQUAL),
        ("avr", 8, "subi r24,1; sbci r25,0", "sbiw r24,1", {"r24": 8, "r25": 8}, EQUAL),
        (
            "avr",
            8,
            "subi r24,1; sbci r25,0",
            "subi r24,1; sbci r25,1",
            {"r24": 8, "r25": 8},
            DIFFER,
        ),
        ("msp430", 16, "rla r12", "add r12,r12", {"r12": 16}, EQUAL),
        (
            "msp430",
            16,
            "inv r12; inc r12",
            "mov #0,r13; sub r12,r13; mov r13,r12",
            {"r12": 16},
            EQUAL,
        ),
    ],
)
def test_pieces_of_other_instruction_sets(
    isa: str, width: int, left: str, right: str, after: Mapping[str, int], expected: str
) -> None:
    assert answer(left, right, after, isa, width) == expected


@given(st.integers(1, 2**31 - 1), st.integers(1, 2**31 - 1), st.sampled_from(["add", "xor", "cmp"]))
@settings(max_examples=60, deadline=None)
def test_another_constant_is_never_equal(one: int, other: int, name: str) -> None:
    end = "; sete %cl" if name == "cmp" else ""
    left, right = (f"{name}l ${n},%eax{end}" for n in (one, other))
    expected = EQUAL if one == other else DIFFER
    assert answer(left, right, {"cx": 8} if end else {"ax": 32}) == expected


@given(
    st.lists(
        st.sampled_from(
            [
                "addl %esi,%eax",
                "subl %edi,%eax",
                "imull %esi,%eax",
                "shrl $3,%eax",
                "xorl %edi,%eax",
                "leal 4(%rax,%rsi,2),%eax",
                "negl %eax",
                "movl (%rdi),%ecx",
                "movl %eax,8(%rdi)",
            ]
        ),
        min_size=1,
        max_size=8,
    ),
    st.data(),
)
@settings(max_examples=60, deadline=None)
def test_code_is_equal_to_itself_with_work_that_nothing_reads(
    lines: list[str], data: st.DataObject
) -> None:
    at = data.draw(st.integers(0, len(lines)))
    more = [*lines[:at], "movl %esi,%r9d", "addl $77,%r9d", *lines[at:]]
    after = {"ax": 64, "cx": 32}
    assert answer("; ".join(lines), "; ".join(more), after) == EQUAL


def test_what_nothing_reads_is_left_out() -> None:
    steps = steps_of("addl %esi,%eax; movl $3,%ecx; addl %edx,%ecx", "x86", 64)
    kept, needs = pruned(steps, {"ax": 32})
    assert needs == {"ax": 32, "si": 32}
    assert not any("cx" in str(step) for step in kept)


def test_the_low_bits_are_all_that_some_readers_need() -> None:
    steps = steps_of("addl %esi,%eax; movb %al,(%rdi)", "x86", 64)
    assert pruned(steps, {})[1] == {"ax": 8, "si": 8, "di": 64}


@pytest.mark.parametrize(
    ("isa", "text"),
    [
        ("x86", "call surge"),
        ("x86", "movaps %xmm0,%xmm1"),
        ("x86", "rep stosq"),
        ("riscv", "fadd.s fa0,fa1,fa2"),
        ("aarch64", "bl surge"),
        ("arm", "vadd.f32 s0,s1,s2"),
        ("avr", "in r24,16"),
        ("avr", "lds r24,0x60"),
        ("msp430", "mov r2,r12"),
        ("ptx", "add.s32 %r1,%r2,%r3"),
    ],
)
def test_what_is_not_known_is_refused(isa: str, text: str) -> None:
    with pytest.raises(NotEvaluableError):
        steps_of(text, isa, evaluation_of(isa).widths[0])
