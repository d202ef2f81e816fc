"""Reasons are said of nothing that something else explains: shapes cut out of real programs."""

import pytest

from hot_anvil.core.arch import semantics_of
from hot_anvil.core.code.records import Code, Function, Instruction
from hot_anvil.core.code.text import split_operands
from hot_anvil.core.diff.records import Reason
from hot_anvil.core.reasons.comparing import compare_codes

OPTIMISED = ("-O2",), ("-O2",)


def reasons(left: str, right: str, isa: str = "x86") -> list[Reason]:
    """Return what is said of two versions of a function, each line with its source line."""
    one, other = (Code((_function(text),), ("tide.c",), isa) for text in (left, right))
    source = {"tide.c": [f"source line {n};" for n in range(1, 30)]}
    return list(compare_codes(one, other, source, flags=OPTIMISED).reasons)


def _function(text: str, name: str = "tide", begins: int = 1) -> Function:
    items: list[Instruction] = []
    labels: dict[str, int] = {}
    line = 1
    for row in text.strip().split("\n"):
        words = row.split()
        if row.strip().endswith(":"):
            labels[row.strip()[:-1]] = len(items)
            continue
        if words[0].isdigit():
            line = int(words.pop(0))
        operands = split_operands(" ".join(words[1:]))
        items.append(Instruction(words[0], operands, "tide.c", line, len(items) + 1, False))
    return Function(name, ".text", "", tuple(items), labels, begins=("tide.c", begins))


def kinds(left: str, right: str, isa: str = "x86") -> set[str]:
    return {reason.kind for reason in reasons(left, right, isa)}


RELOADED = "value reloaded"
# A pointer's own register, or its copy: the same memory is read as often.
BY_COPY = """
    1 pushq %rbx
    movq %rdi, %rbx
    2 movq 104(%rbx), %rdi
    call read_port
    3 movq 104(%rbx), %rdi
    call port_failed
    4 popq %rbx
    ret
"""
# Both ways need it: it is read once before the branch.
ON_BOTH_WAYS = """
    1 pushq %rbx
    movq %rdi, %rbx
    2 cmpw $0, 14(%rbx)
    je .L3
    3 movl 8(%rbx), %esi
    call suffix
    jmp .L5
.L3:
    4 movl 8(%rbx), %esi
    call base
    cmpl 8(%rbx), %eax
.L5:
    5 sete %al
    popq %rbx
    ret
"""
BEFORE_THE_BRANCH = """
    1 pushq %rbx
    movq %rdi, %rbx
    2 cmpw $0, 14(%rbx)
    movl 8(%rbx), %esi
    je .L3
    3 call suffix
    jmp .L5
.L3:
    4 call base
    cmpl 8(%rbx), %eax
.L5:
    5 sete %al
    popq %rbx
    ret
"""
_CMP, _NOTED = "2 cmpw", "movl 8(%rbx), %edi\n    call note\n    2 cmpw"
ALONE = """
    1 mov x19, x0
    2 ldr x0, [x19, 40]
    ldr x3, [x19, 48]
    bl keep
    3 ldr x0, [x19, 48]
    ldr x1, [x19, 40]
    str x1, [x0]
    4 ret
"""


@pytest.mark.parametrize(
    ("left", "right", "isa", "said"),
    [
        (BY_COPY, BY_COPY.replace("2 movq 104(%rbx)", "2 movq 104(%rdi)"), "x86", False),
        (BY_COPY, BY_COPY.replace("3 movq 104(%rbx)", "3 movq %r12"), "x86", True),
        (ON_BOTH_WAYS, BEFORE_THE_BRANCH, "x86", False),
        (
            ON_BOTH_WAYS.replace(_CMP, _NOTED),
            BEFORE_THE_BRANCH.replace(_CMP, _NOTED),
            "x86",
            False,
        ),
        (
            ALONE,
            ALONE.replace("ldr x0, [x19, 48]\n    ldr x1, [x19, 40]", "ldp x1, x0, [x19, 40]"),
            "aarch64",
            False,
        ),
        (ALONE, ALONE.replace("    ldr x1, [x19, 40]\n", ""), "aarch64", True),
    ],
)
def test_memory_is_read_again_by_what_its_address_holds(
    left: str, right: str, isa: str, said: bool
) -> None:
    assert (RELOADED in kinds(left, right, isa)) is said
    assert (RELOADED in kinds(right, left, isa)) is said


def test_a_call_of_another_function_is_nothing_done_in_place() -> None:
    left = "1 movq 40(%rdx), %rdi\n call memcmp\n testl %eax, %eax\n sete %al\n 2 ret"
    right = left.replace("40(%rdx)", "40(%rcx,%rax)").replace("memcmp", "bcmp")
    (found,) = [r for r in reasons(left, right) if r.kind == "call turned into another"]
    assert found.text == "a call of bcmp instead of memcmp"


def test_what_became_wider_lay_beside_each_other_in_one_place() -> None:
    narrow = "1 movzbl {0}, %eax\n movzbl 1{0}, %ecx\n 2 addl %ecx, %eax\n ret"
    wide = "1 movzwl {0}, %eax\n 2 shrl $1, %eax\n ret"
    for one, other, said in (
        ("(%rdi)", "(%rdi)", True),
        ("(%rdi,%rsi)", "(%rdi,%rsi)", True),
        ("(%rdi,%rsi)", "(%rdx,%rsi,2)", False),  # of another table
        ("(%rdi)", "(%rdi,%rsi)", False),
    ):
        found = kinds(narrow.format(one), wide.format(other))
        assert ("accesses merged" in found) is said, (one, other)


def test_an_address_that_is_only_passed_on_is_no_table() -> None:
    chosen = "1 cmp w0, 1\n beq .L2\n cmp w0, 2\n beq .L3\n cmp w0, 3\n beq .L3\n mov w0, 4\n ret\n"
    chosen += ".L2:\n 2 mov w0, 7\n ret\n.L3:\n 3 mov w0, 9\n ret"
    address = "1 adrp x3, .LANCHOR0\n add x3, x3, :lo12:.LANCHOR0\n"
    passed = f"{address} mov w2, 177\n bl report\n ldr w0, [x19, 16]\n 4 ret"
    looked_up = f"{address} ldr w0, [x3, w0, uxtw 2]\n 4 ret"
    assert "table of values" not in kinds(chosen, passed, "aarch64")
    assert "table of values" in kinds(chosen, looked_up, "aarch64")


def test_code_on_two_ways_is_the_code_that_stood_once() -> None:
    once = "1 testl %edi, %edi\n je .L2\n 2 call keep\n.L2:\n 3 sarl $31, %eax\n orl $1, %eax\n ret"
    twice = "1 testl %edi, %edi\n je .L2\n 2 call keep\n 3 sarl $31, %eax\n orl $1, %eax\n ret\n"
    twice += ".L2:\n 3 sarl $31, %eax\n orl $1, %eax\n ret"
    both_run = "1 testl %edi, %edi\n je .L2\n 2 call keep\n 3 sarl $31, %eax\n orl $1, %eax\n"
    both_run += ".L2:\n 3 sarl $31, %eax\n orl $1, %eax\n ret"
    said = [r for r in reasons(once, twice) if r.kind == "layout" and "twice" in r.text]
    assert [r.confidence for r in said] == ["certain"]
    assert said[0].text == "its code stands twice instead of once, each on a way of its own"
    for reason in reasons(once, both_run):
        assert "each on a way of its own" not in reason.text


def test_a_multiplication_that_optimised_code_does_without_is_not_called_dead() -> None:
    left = "1 movl (%rdi), %eax\n 2 imull (%rsi), %eax\n 3 shrl $31, %eax\n 4 ret"
    right = "1 movl (%rdi), %eax\n 3 xorl (%rsi), %eax\n shrl $31, %eax\n 4 ret"
    assert "dead code gone" not in kinds(left, right)


def test_a_constant_beside_a_call_that_is_still_there_is_no_result_that_became_known() -> None:
    left = "1 movq %rsi, %rdi\n call strlen\n 2 imulq %rax, %rsi\n addq %rsi, %rax\n ret"
    right = (
        "1 movq %rsi, %rdi\n call strlen\n movabsq $-11258999068508, %rdx\n 2 addq %rdx, %rax\n ret"
    )
    assert "folded to a constant" not in kinds(left, right)


@pytest.mark.parametrize("mnemonic", ["cvtsi2sdq", "cvtsi2ssl", "vcvtsi2sdq", "cvttsd2siq"])
def test_a_conversion_of_one_value_is_not_packed(mnemonic: str) -> None:
    operands = ("%xmm0", "%rax") if "2si" in mnemonic else ("%rax", "%xmm0")
    assert not semantics_of("x86").effect(mnemonic, operands).packed
    assert semantics_of("x86").effect("cvtdq2pd", ("%xmm0", "%xmm1")).packed


def test_a_loop_that_a_pointer_ends_needs_no_counter() -> None:
    counted = "1 li a5, 9\n.L3:\n 2 lh a4, 0(a0)\n sh a4, 0(a1)\n addi a0, a0, 2\n addi a1, a1, 2\n"
    counted += "1 addi a5, a5, -1\n bne a5, zero, .L3\n 3 ret"
    bounded = counted.replace("addi a5, a5, -1\n bne a5, zero", "bne a0, a3").replace(
        "li a5, 9", "addi a3, a0, 18"
    )
    for left, right, text in (
        (counted, bounded, "the loop needs no counter of its own: a pointer tells where it ends"),
        (bounded, counted, "the loop has a counter of its own, beside its pointers"),
    ):
        said = [r.text for r in reasons(left, right, "riscv") if r.kind == "loop step"]
        assert said == [text]


# What is counted in the loop is its result, not what ends it.
COUNTING = """
    1 leaq (%rdi,%rdx,2), %rcx
.L2:
    2 movswl (%rdi), %eax
    xorl %r9d, %eax
    3 cmpl %esi, %eax
    setge %al
    movzbl %al, %eax
    addl %eax, %r8d
    2 addq $2, %rdi
    cmpq %rcx, %rdi
    jne .L2
    4 movl %r8d, %eax
    ret
"""


def test_a_loop_has_a_counter_only_where_it_is_tested() -> None:
    work = "    setge %al\n    movzbl %al, %eax\n    addl %eax, %r8d\n"
    by_carry = COUNTING.replace(work, "    sbbl $-1, %r8d\n")
    by_branch = COUNTING.replace(work, "    jl .L3\n    addl $1, %r8d\n.L3:\n")
    for other in (by_carry, by_branch):
        changed = other.replace("xorl %r9d, %eax", "orl %r9d, %eax")
        assert "loop step" not in kinds(COUNTING, changed)
    counted = COUNTING.replace("cmpq %rcx, %rdi", "subl $1, %edx")
    assert "loop step" in kinds(COUNTING, counted)


# A test for entering the loop came, and one select went because its sign is known.
SELECTING = """
    1 movl $4096, %r8d
    jmp .L3
.L2:
    2 testl %edx, %edx
    cmovsl %r9d, %edx
    movl (%rdi,%rdx,4), %eax
    3 cmpl %eax, %ecx
    cmovel %eax, %ecx
    addl %ecx, %r10d
.L3:
    1 addl $4096, %r8d
    cmpl %r8d, %esi
    jg .L2
    4 movl %r10d, %eax
    ret
"""
ENTERED = """
    1 movl $4096, %r8d
    cmpl %r8d, %esi
    jle .L3
.L2:
    2 movl (%rdi,%rdx,4), %eax
    3 cmpl %eax, %r11d
    cmovel %eax, %r11d
    addl %r11d, %r10d
    1 addl $4096, %r8d
    cmpl %r8d, %esi
    jg .L2
.L3:
    4 movl %r10d, %eax
    ret
"""


def test_a_test_for_entering_a_loop_stands_for_no_select() -> None:
    assert "branch into select" not in kinds(SELECTING, ENTERED)


def test_a_way_without_end_may_end_in_a_label() -> None:
    endless = "    1 testl %edi, %edi\n    jne .L9\n    2 movl $1, %eax\n    ret\n.L9:\n"
    assert kinds(endless, endless.replace("$1", "$2")) <= {"same operations"}


def test_a_call_that_stands_less_often_is_not_done_in_place() -> None:
    once = "    1 movq %rdi, %rbx\n    call memcpy\n    movq %rax, (%rbx)\n    2 ret\n"
    twice = once.replace("    2 ret", "    call memcpy\n    movq %rax, 8(%rbx)\n    2 ret")
    for left, right in ((once, twice), (twice, once)):
        assert "call turned into another" not in kinds(left, right)
    assert "call turned into another" in kinds(once, once.replace("    call memcpy\n", ""))


def test_only_a_multiplication_by_a_constant_becomes_shifts() -> None:
    by_value = "    1 imulq %rsi, %rdi\n    addq %rdi, %rax\n    2 imulq %rsi, %rax\n    ret\n"
    shifted = by_value.replace("imulq %rsi, %rdi", "leaq (%rsi,%rdi,8), %rdi")
    by_number = by_value.replace("    1 imulq", "    1 movl $9, %esi\n    imulq")
    assert "multiply into shifts" not in kinds(by_value, shifted)
    assert "multiply into shifts" in kinds(by_number, shifted)


def test_a_chain_of_comparisons_is_told_by_its_constants() -> None:
    cases = "".join(f"    2 cmpl ${n}, %edi\n    je .L{n}\n" for n in range(3, 7))
    copied = "    1 testl %edx, %edx\n" + "    1 jb .L3\n" * 5
    ends = "".join(f".L{n}:\n    {n} movl ${n * n}, %eax\n    ret\n" for n in range(3, 7))
    table = "    2 leaq .L9(%rip), %rcx\n    movslq (%rcx,%rdi,4), %rax\n    jmp *%rax\n"
    found = [r for r in reasons(copied + cases + ends, table + ends) if r.kind == "jump table"]
    assert [{place.line for place in r.places} for r in found] == [{2}]


def test_checks_that_share_a_call_are_checks_and_no_loop() -> None:
    shared = """
    1 testq %rdi, %rdi
    js .L5
    2 cmpq %rsi, %rdi
    jg .L6
    3 movl (%rdi), %eax
    ret
.L5:
    1 leaq .LC0(%rip), %rdi
.L4:
    1 call __assert_fail@PLT
.L6:
    2 leaq .LC1(%rip), %rdi
    movl $300, %edx
    jmp .L4
    """
    apart = shared.replace("    jmp .L4", "    call __assert_fail@PLT")
    said = kinds(shared, apart) | kinds(apart, shared)
    assert not {"check dropped", "loop unrolled", "loop removed"} & said


def test_a_call_through_any_register_is_indirect() -> None:
    left = "    1 push {r4, lr}\n    blx fp\n    2 pop {r4, pc}\n"
    assert "call made direct" not in kinds(left, left.replace("fp", "r9"), "arm")


def test_a_sum_begun_anew_in_every_pass_is_no_chain() -> None:
    loop = """
.L2:
    1 vmul.f64 d6, d5, d2
    vmla.f64 d6, d4, d3
    vadd.f64 d1, d1, d6
    2 adds r3, r3, #1
    cmp r3, r0
    bne .L2
    3 bx lr
    """
    fused = loop.replace(
        "    vmla.f64 d6, d4, d3\n    vadd.f64 d1, d1, d6", "    vmla.f64 d1, d4, d3"
    )
    assert "float operations reassociated" not in kinds(fused, loop, "arm")


def test_a_call_inlined_once_more_was_not_dropped_before() -> None:
    once = "    20 testq %rdi, %rdi\n    je .L2\n    21 call delete_port\n.L2:\n    22 ret\n"
    freed = once.replace("21 call delete_port", "21 call delete_port\n    call free")
    own = _function(freed, "delete_port", 20)
    pair = [
        Code((_function("    2 nop\n" + text.replace("22 ret", "3 ret")), own), ("tide.c",), "x86")
        for text in (once.replace("    21", "    20"), freed)
    ]
    source = {"tide.c": [f"source line {n};" for n in range(1, 30)]}
    said = compare_codes(pair[0], pair[1], source, flags=OPTIMISED).reasons
    assert "call dropped" not in {reason.kind for reason in said}


def test_one_instruction_for_another_is_said_once() -> None:
    turned = "1 movzwl (%rdi), %eax\n shll $16, %eax\n bswapl %eax\n andl %esi, %eax\n 2 ret"
    rolled = turned.replace("shll $16, %eax", "rolw $8, %ax").replace(
        "bswapl %eax", "movzwl %ax, %eax"
    )
    for left, right in ((turned, rolled), (rolled, turned)):
        (found,) = [r for r in reasons(left, right) if r.kind == "one instruction for several"]
        assert "instead of one that" in found.text


def test_code_without_a_line_is_not_matched_as_one_line() -> None:
    left = """
    1 movl %edi, %eax
    0 shrq $35, %rax
    addl %eax, %eax
    orb %dl, %al
    2 ret
    """
    right = """
    1 movl %edi, %eax
    0 imull $-858993459, %edi, %eax
    rorl %eax
    2 cmpl $429496729, %eax
    ret
    """
    assert "one instruction for several" not in kinds(left, right)


def test_an_index_set_before_an_inner_loop_does_not_stay_the_same_in_it() -> None:
    right = """
    1 movl $2, %ecx
.L28:
    2 movl $1, %edx
    pxor %xmm1, %xmm1
.L26:
    3 movsd (%rsi,%rdx,8), %xmm0
    mulsd -8(%r14,%rdx,8), %xmm0
    addsd %xmm0, %xmm1
    4 addq $1, %rdx
    cmpq %rdx, %rcx
    jne .L26
    5 movsd %xmm1, -16(%rbx,%rcx,8)
    6 addq $1, %rcx
    cmpq %rcx, %rdi
    jne .L28
    7 ret
    """
    left = """
    1 movl $2, %edx
    jmp .L22
.L21:
    3 movsd (%rcx,%rax,8), %xmm0
    mulsd -8(%r14,%rax,8), %xmm0
    addsd %xmm0, %xmm1
    4 addq $1, %rax
    cmpq %rax, %rdx
    jne .L21
.L20:
    5 movsd %xmm1, -16(%rbx,%rdx,8)
    6 addq $1, %rdx
    cmpq %rdx, %rdi
    je .L19
.L22:
    4 leal -1(%rdx), %eax
    testl %eax, %eax
    jle .L53
    movl $1, %eax
    2 pxor %xmm1, %xmm1
    jmp .L21
.L53:
    2 pxor %xmm1, %xmm1
    jmp .L20
.L19:
    7 ret
    """
    assert RELOADED not in kinds(left, right)


def test_narrow_accesses_of_other_ways_are_not_one_wide_one() -> None:
    left = """
    1 testl %edx, %edx
    je .L2
    2 movsd 8(%rcx,%rax,8), %xmm2
    movsd %xmm2, (%rsi)
    3 ret
.L2:
    2 movsd (%rcx,%rax,8), %xmm0
    movsd %xmm0, (%rdi)
    3 ret
    """
    right = "    2 movupd (%r14,%r15,8), %xmm5\n    movups %xmm5, (%rdi)\n    3 ret\n"
    assert "accesses merged" not in kinds(left, right)
    pair = "    2 movl %eax, 4(%rdx)\n    movl %ecx, (%rdx)\n    movq %rbx, (%r10)\n    3 ret\n"
    other = pair.replace("%eax", "%r8d").replace("    movq %rbx, (%r10)\n", "")
    assert "accesses merged" not in kinds(pair, other)


def test_a_constant_loaded_twice_is_not_read_again() -> None:
    once = """
    1 movaps .LC24(%rip), %xmm0
    2 movups %xmm0, 124(%rdi)
    3 call warn
    ret
    """
    twice = once.replace("3 call warn", "3 movaps .LC24(%rip), %xmm0\n    movups %xmm0, (%rdi)")
    assert RELOADED not in kinds(once, twice)


def test_turning_a_sign_needs_no_vector() -> None:
    scalar = """
.L3:
    2 movsd (%rax), %xmm0
    xorpd %xmm1, %xmm0
    movsd %xmm0, (%rax)
    1 addq $8, %rax
    cmpq %rax, %rdx
    jne .L3
    3 ret
    """
    vector = scalar.replace("movsd (%rax), %xmm0", "vmovupd (%rax), %ymm0")
    vector = vector.replace("xorpd %xmm1, %xmm0", "vxorpd %ymm1, %ymm0, %ymm0")
    vector = vector.replace("movsd %xmm0, (%rax)", "vmovupd %ymm0, (%rax)").replace("$8", "$32")
    assert {"vector width", "loop vectorised"} & kinds(scalar, vector) == {"loop vectorised"}


@pytest.mark.parametrize(
    "stop",
    [
        "_gfortran_stop_string@PLT",
        "*_RNvNtCsgEmfK2I1SDS_4core9panicking18panic_bounds_check@GOTPCREL(%rip)",
        "_ZSt20__throw_length_errorPKc@PLT",
    ],
)
def test_a_way_that_ends_the_program_is_no_loop(stop: str) -> None:
    shared = f"""
    1 testl %edi, %edi
    js .L9
    cmpl $9, %edi
    jle .L6
    2 movl $28, %edx
.L7:
    2 movq %rbx, %rsi
    call write_text
    call {stop}
.L9:
    3 movl $18, %edx
    call write_text
    jmp .L7
.L6:
    4 ret
    """
    apart = shared.replace(
        "    jmp .L7", f"    2 movq %rbx, %rsi\n    call write_text\n    call {stop}"
    )
    said = kinds(shared, apart) | kinds(apart, shared)
    assert not {"loop removed", "loop unrolled", "check dropped"} & said


def test_a_function_that_ends_another_one_never_returns() -> None:
    text = """
    1 testl %ebp, %ebp
    jle .L12
.L8:
    2 movq %rbx, %rdi
    call level_at
    3 mulsd 248(%rbx), %xmm0
    testl %eax, %eax
    je .L5
    4 call give_up
.L12:
    1 movl $1, %r12d
    jmp .L8
.L5:
    5 ret
    """
    other = _function("    9 call give_up\n", "refuse", 9)
    code = Code((_function(text), other), ("tide.c",), "x86")
    from hot_anvil.core.model.control_flow import bodies

    assert not bodies(code.functions, "x86")["tide"].loops
    assert bodies(code.functions[:1], "x86")["tide"].loops


def test_one_pass_that_is_left_of_a_loop_is_not_gone() -> None:
    left = """
    1 movl $1, -4(%rbp)
.L848:
    1 cmpl %edx, -4(%rbp)
    jg .L865
    2 movl -4(%rbp), %eax
    cltq
    movsd levels(,%rax,8), %xmm0
    movsd %xmm0, (%rcx,%rax,8)
    1 addl $1, -4(%rbp)
    jmp .L848
.L865:
    3 ret
    """
    right = "    2 movsd levels(%rip), %xmm0\n    movsd %xmm0, 384(%r8)\n    3 ret\n"
    assert "nothing of it is needed" not in " ".join(r.text for r in reasons(left, right))


def test_calls_that_stand_as_often_as_a_loop_made_them_are_its_passes() -> None:
    left = """
    1 xorl %ebx, %ebx
.L2:
    2 movq %rbx, %rdi
    call grow
    movl $8, (%r13,%rbx,4)
    imull $3, %eax, %eax
    1 incq %rbx
    cmpq $3, %rbx
    jne .L2
    3 ret
    """
    right = "".join(f"    2 movl ${n}, %edi\n    call grow\n" for n in range(3))
    right += "    2 movaps .LC1(%rip), %xmm0\n    movups %xmm0, (%r13)\n    3 ret\n"
    said = {r.kind: r.text for r in reasons(left, right)}
    assert "loop removed" not in said and "written out" in said["loop unrolled"]


def test_a_counter_that_also_counts_elsewhere_is_a_counter() -> None:
    left = """
.L2:
    2 addsd 216(%rsi), %xmm3
    1 addq $1, %rdi
    addq $8, %rsi
    cmpq %r8, %rdi
    jne .L2
    3 ret
    """
    right = left.replace("cmpq %r8, %rdi", "movl %edi, %eax\n    cmpq %r8, %rdi")
    assert "loop step" not in kinds(left, right)


def test_a_known_function_called_by_a_register_is_not_indirect() -> None:
    named = "    1 movq %r14, %rdi\n    call *level@GOTPCREL(%rip)\n    2 ret\n"
    held = "    1 movq level@GOTPCREL(%rip), %r13\n    movq %r14, %rdi\n    call *%r13\n    2 ret\n"
    assert "call made direct" not in kinds(named, held) | kinds(held, named)


def test_loops_inlined_twice_go_with_the_copies_that_they_are_like() -> None:
    wide = """
.L{0}:
    2 vmovd (%rsi,%r8), %xmm7
    vpaddq %ymm7, %ymm1, %ymm1
    vmovd 4(%rsi,%r8), %xmm8
    vpaddq %ymm8, %ymm2, %ymm2
    vmovd 8(%rsi,%r8), %xmm9
    vpaddq %ymm9, %ymm3, %ymm3
    1 addq $12, %r8
    cmpq %r9, %r8
    jne .L{0}
    """
    small = """
.L{0}:
    2 vmovd (%rsi,%rax), %xmm3
    vpaddq %ymm3, %ymm0, %ymm0
    1 addq $4, %rax
    cmpq %rdx, %rax
    jne .L{0}
    """
    left = f"{wide.format(1).strip()}\n{small.format(2).strip()}\n3 ret"
    right = f"{small.format(1).strip()}\n{wide.format(2).strip()}\n3 ret"
    assert "loop unrolled" not in kinds(left, right)


def test_a_register_written_in_the_pass_before_holds_no_parameter() -> None:
    loop = """
    1 jmp .L5
.L2:
    2 movl {0}, %edx
    addl %edx, %ecx
    leal 1(%rdx), {0}
    3 cmpl %ecx, %r8d
    jne .L2
    4 ret
.L5:
    1 xorl {0}, {0}
    jmp .L2
    """
    assert "other argument" not in kinds(loop.format("%esi"), loop.format("%edi"))


def test_one_bit_of_a_variable_is_no_mask_of_cases() -> None:
    chain = """
    1 cmpl $3, %edi
    je .L2
    cmpl $7, %edi
    je .L2
    cmpl $9, %edi
    je .L2
    2 shrq $62, %rsi
    andl $1, %esi
    movl %esi, %eax
.L2:
    3 ret
    """
    bit = "    1 cmpl $9, %edi\n    ja .L2\n    2 btq $62, %rsi\n    setc %al\n.L2:\n    3 ret\n"
    assert "tests as a bit mask" not in kinds(chain, bit)


def test_a_copy_that_came_with_inlined_code_is_no_copy_more() -> None:
    left = "    1 call prepare\n    2 ret\n"
    right = "    1 movq %r14, %rdi\n    20 call _ZN5gaugeaSERKS_\n    2 ret\n"
    own = _function("    20 call _ZN5gaugeaSERKS_\n    21 ret\n", "prepare", 20)
    titles = {"_ZN5gaugeaSERKS_": "gauge::operator=(gauge const&)"}
    pair = [Code((_function(text), own), ("tide.c",), "x86", titles) for text in (left, right)]
    source = {"tide.c": [f"source line {n};" for n in range(1, 30)]}
    said = compare_codes(pair[0], pair[1], source, flags=OPTIMISED).reasons
    assert "copy left out" not in {reason.kind for reason in said}


def test_a_check_whose_end_is_shared_is_still_made() -> None:
    panic = "call _ZN4core9panicking5panic17h0123456789abcdefE"
    apart = f"""
    1 testl %edi, %edi
    js .L2
    cmpl %edi, %esi
    jb .L3
    ret
.L2:
    4 movl $4, %edx
    {panic}
.L3:
    5 movl $5, %edx
    {panic}
    """
    shared = apart.replace(f"$4, %edx\n    {panic}", "$4, %edx\n    jmp .L9")
    shared = shared.replace(f"5 movl $5, %edx\n    {panic}", f"5 movl $5, %edx\n.L9:\n    {panic}")
    assert "check dropped" not in kinds(apart, shared)


def test_a_recurrence_beside_a_sum_is_no_other_order() -> None:
    left = """
.L2:
    2 movsd 8(%rdi), %xmm1
    mulsd %xmm2, %xmm1
    movsd %xmm1, (%rdi)
    3 subsd %xmm15, %xmm2
    1 subq $8, %rdi
    cmpq %rdi, %rsi
    jne .L2
    4 ret
    """
    right = """
.L2:
    2 vfmadd231sd %xmm2, %xmm9, %xmm1
    vmovsd %xmm1, 8(%rdi)
    vfmadd231sd %xmm2, %xmm8, %xmm6
    vmovsd %xmm6, (%rdi)
    3 vsubsd %xmm15, %xmm2, %xmm2
    1 subq $16, %rdi
    cmpq %rdi, %rsi
    jne .L2
    4 ret
    """
    assert "float operations reassociated" not in kinds(left, right)


def test_code_that_the_other_side_has_not_does_not_stand_in_its_function() -> None:
    whole = _function(
        "    1 testl %edi, %edi\n    js .L9\n    2 call keep\n    ret\n.L9:\n    nop\n"
    )
    cold = _function("    2 call _ZSt20__throw_length_errorPKc\n", "tide.cold")
    without = _function("    1 cmovnsl %eax, %edi\n    2 call keep\n    ret\n")
    source = {"tide.c": [f"source line {n};" for n in range(1, 30)]}
    sides = [
        Code((whole, cold._replace(parent="tide")), ("tide.c",), "x86"),
        Code((without,), ("tide.c",), "x86"),
    ]
    said = compare_codes(sides[0], sides[1], source, flags=OPTIMISED).reasons
    assert "stands in the function itself" not in " ".join(reason.text for reason in said)
