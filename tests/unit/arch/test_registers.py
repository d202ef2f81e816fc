"""What instructions read and write, as the processors' manuals say."""

import re

import pytest

from hot_anvil.core.arch import architecture, names
from hot_anvil.core.model.registers import read_and_written

# Instruction set, instruction, registers read, registers written: families by a name in them.
CASES = [
    ("x86", "addl %ecx, %eax", "rcx rax", "rax"),
    ("x86", "movl %ecx, %eax", "rcx", "rax"),
    ("x86", "movb %cl, %al", "rcx rax", "rax"),  # the rest of the register stays
    ("x86", "movl 8(%rdi,%rsi,4), %eax", "rdi rsi", "rax"),
    ("x86", "movl %eax, 8(%rdi)", "rax rdi", ""),
    ("x86", "cmpl %ecx, %eax", "rcx rax", ""),
    ("x86", "lea 1(%rdi), %rax", "rdi", "rax"),
    ("x86", "imull $3, %ecx, %eax", "rcx", "rax"),
    ("x86", "vfmadd231pd %xmm2, %xmm1, %xmm0", "xmm2 xmm1 xmm0", "xmm0"),
    ("x86", "vaddpd %xmm2, %xmm1, %xmm0", "xmm2 xmm1", "xmm0"),
    ("x86", "xchg %eax, %ecx", "rax rcx", "rax rcx"),
    ("aarch64", "add x0, x1, x2", "x1 x2", "x0"),
    ("aarch64", "str x0, [x1, 8]", "x0 x1", ""),
    ("aarch64", "ldp x0, x1, [sp, 16]", "sp", "x0 x1"),
    ("aarch64", "movk w0, 0x1234, lsl 16", "x0", "x0"),
    ("aarch64", "cbz x3, .L2", "x3", ""),
    ("aarch64", "fmla v0.4s, v1.4s, v2.4s", "v0 v1 v2", "v0"),
    ("arm", "add r0, r1, r2", "r1 r2", "r0"),
    ("arm", "str r0, [r1, #4]", "r0 r1", ""),
    ("arm", "movt r0, #291", "r0", "r0"),
    ("arm", "cmp r0, r1", "r0 r1", ""),
    ("arm", "mla r0, r1, r2, r3", "r1 r2 r3", "r0"),
    ("riscv", "add a0, a1, a2", "a1 a2", "a0"),
    ("riscv", "sw a0, 4(a1)", "a0 a1", ""),
    ("riscv", "lw a0, 4(a1)", "a1", "a0"),
    ("riscv", "beq a0, a1, .L2", "a0 a1", ""),
    ("riscv", "fmadd.d fa0, fa1, fa2, fa3", "fa1 fa2 fa3", "fa0"),
    ("avr", "add r24, r22", "r24 r22", "r24"),
    ("avr", "mov r24, r22", "r22", "r24"),
    ("avr", "ldi r24, 5", "", "r24"),
    ("avr", "cp r24, r22", "r24 r22", ""),
    ("msp430", "add r13, r12", "r13 r12", "r12"),
    ("msp430", "mov r13, r12", "r13", "r12"),
    ("msp430", "cmp r13, r12", "r13 r12", ""),
]


@pytest.mark.parametrize(("isa", "text", "read", "written"), CASES)
def test_registers_read_and_written(isa: str, text: str, read: str, written: str) -> None:
    family = architecture(isa).syntax.family
    prefix = "%" if isa == "x86" else ""
    reads, writes = (
        frozenset(family(prefix + name)[0] for name in these.split()) for these in (read, written)
    )
    mnemonic, _, rest = text.partition(" ")
    operands = tuple(re.split(r", (?![^(\[]*[)\]])", rest))
    assert read_and_written(mnemonic, operands, isa) == (reads, writes)


@pytest.mark.parametrize(
    ("isa", "text", "before", "value"),
    [
        ("x86", "movl $5, %eax", 0, 5),
        ("x86", "movl %ecx, %eax", 0, None),
        ("x86", "xorl %eax, %eax", 7, 0),
        ("arm", "mov r0, #5", 0, 5),
        ("arm", "mov r0, r1", 0, None),  # what a register holds is no constant
        ("arm", "movt r0, #1", 2, 65538),
        ("aarch64", "mov w0, 5", 0, 5),
        ("aarch64", "movk w0, 0x1, lsl 16", 2, 65538),
        ("riscv", "li a0, 5", 0, 5),
        ("avr", "ldi r24, 5", 0, 5),
        ("msp430", "mov #5, r12", 0, 5),
        ("msp430", "mov r13, r12", 0, None),
    ],
)
def test_constants_are_those_that_the_code_sets(
    isa: str, text: str, before: int, value: int | None
) -> None:
    mnemonic, _, rest = text.partition(" ")
    operands = tuple(rest.split(", "))
    assert architecture(isa).semantics.constant(mnemonic, operands, before) == value


@pytest.mark.parametrize("name", names())
def test_each_instruction_set_answers_for_what_it_does_not_know(name: str) -> None:
    """An unknown mnemonic is "other"; nothing is claimed of its operands, and nothing breaks."""
    arch = architecture(name)
    effect = arch.semantics.effect("quayside", ())
    assert (effect.kind, effect.loads, effect.stores) == ("other", False, False)
    assert arch.semantics.roles("quayside", ()) == ()
    assert arch.wording.idiom("quayside", "", ()) == ""
    assert not arch.syntax.fillers.fullmatch("quayside")
    assert not arch.syntax.calls.fullmatch("quayside")
