"""What the parts of the telling rest on: expressions, memory, touches, deciding branches."""

import pytest

from hot_anvil.core.arch import state_of
from hot_anvil.core.asm.reading import read_text
from hot_anvil.core.binary.locations import Op
from hot_anvil.core.binary.types import Member, Type
from hot_anvil.core.model.control_flow import bodies
from hot_anvil.core.trace.control import deciders
from hot_anvil.core.trace.locating import View, contents, locate
from hot_anvil.core.trace.memory import Memory
from hot_anvil.core.trace.values import number_text, part_over, parts_of

HEAD = "\t.text\n\t.type quay, @function\nquay:\n"
SHORT, REAL = Type("int", 2, "int16_t"), Type("float", 8, "double")
GAUGE = Type(
    "struct", 24, "struct gauge",
    members=(Member("height", 0, SHORT), Member("scale", 8, REAL),
             Member("last", 16, Type("array", 4, "int16_t[]", to=SHORT))),
)  # fmt: skip


def view(memory: Memory) -> View:
    registers = {"rax": 7, "rbp": 0x1000, "r28": 0x12}
    return View(
        registers.get, registers.get, memory.read, lambda: 0x2000,
        (Op("call_frame_cfa"),), {"rdi": 5}.get, 8,
    )  # fmt: skip


@pytest.mark.parametrize(
    ("ops", "value"),
    [
        ((Op("reg", register="rax"),), 7),
        ((Op("fbreg", (-16,)),), 0x11),
        ((Op("breg", (8,), "rbp"),), 0x22),
        ((Op("breg", (3,), "rax"), Op("constu", (2,)), Op("mul"), Op("stack_value")), 20),
        ((Op("consts", (-1,)), Op("constu", (60,)), Op("shr"), Op("stack_value")), 15),
        ((Op("entry_value", inner=(Op("reg", register="rdi"),)), Op("stack_value")), 5),
        ((Op("reg", register="rbx"),), None),  # not recorded
        ((Op("breg", (16,), "rbp"),), None),  # memory that nobody told of
        ((Op("of_another_standard"), Op("stack_value")), None),
    ],
)
def test_a_place_is_worked_out_or_not_known(ops: tuple[Op, ...], value: int | None) -> None:
    memory = Memory()
    memory.write(0x2000 - 16, bytes((0x11, 0, 0, 0)))
    memory.write(0x1008, bytes((0x22, 0, 0, 0)))
    data = contents(locate(ops, view(memory)), 4, view(memory))
    assert (None if data is None else int.from_bytes(data, "little")) == value


def test_a_variable_in_pieces_is_put_together() -> None:
    ops = (Op("reg", register="rax"), Op("piece", (1,)), Op("reg", register="r28"),
           Op("piece", (1,)))  # fmt: skip
    assert contents(locate(ops, view(Memory())), 2, view(Memory())) == bytes((7, 0x12))


def test_memory_knows_only_what_it_was_told() -> None:
    memory = Memory()
    memory.write(254, b"\1\2\3\4")
    assert memory.read(254, 4) == b"\1\2\3\4" and memory.read(253, 2) is None
    assert memory.look(253, 3) == (b"\0\1\2", b"\0\1\1")


def test_numbers_of_a_variable_by_their_paths() -> None:
    assert [(p.path, p.offset) for p in parts_of(GAUGE)] == [
        (".height", 0), (".scale", 8), (".last[0]", 16), (".last[1]", 18),
    ]  # fmt: skip
    assert [found and found.path for found in (part_over(GAUGE, at) for at in (1, 4, 15, 19))] == [
        ".height", None, ".scale", ".last[1]",
    ]  # fmt: skip
    assert number_text(REAL, bytes.fromhex("182d4454fb210940")) == "3.14159265358979"
    assert number_text(SHORT, b"\xff\xff") == "-1"


@pytest.mark.parametrize(
    ("text", "touched"),
    [
        ("mov %ax, -4(%rbp,%rcx,2)", [(True, 2, -4, 2)]),
        ("movups (%rsi,%rdx), %xmm5", [(False, 16, 0, 1)]),
        ("vmovups %ymm0, (%rsi)", [(True, 32, 0, 1)]),
        ("push 8(%rax)", [(False, 8, 8, 1), (True, 8, -8, 1)]),
        ("fldt 8(%rsp)", [(False, 10, 8, 1)]),
        ("rep movsq %ds:(%rsi), %es:(%rdi)", [(False, 8, 0, 1), (True, 8, 0, 1)]),
        ("vaddps (%rsi){1to8}, %ymm0, %ymm1", [(False, 4, 0, 1)]),
        ("pmovsxbw (%rax), %xmm0", [(False, 8, 0, 1)]),
        ("vcvtdq2pd (%rax), %ymm0", [(False, 16, 0, 1)]),
        ("incl total+4(%rip)", [(True, 4, 0x4004, 1)]),
        ("vmovdqu8 %zmm0, (%rax){%k1}", []),  # which of its bytes is not known
        ("vpgatherdd %ymm1, (%rax,%ymm2,4), %ymm0", []),
        ("lea 8(%rax), %rdx", []),
    ],
)
def test_what_an_instruction_touches(text: str, touched: list[tuple[bool, int, int, int]]) -> None:
    code = read_text(HEAD + f"\t{text}\n", "", "x86")
    (item,) = code.functions[0].instructions
    find = {"total": 0x4000}.get
    touches = state_of("x86").touches
    found = touches(item, find) if touches else []
    assert [(t.stores, t.size, t.away, t.scale) for t in found] == touched


def test_branches_that_decide() -> None:
    text = """\ttest %edi, %edi
\tje .L2
.L3:
\tcmp %esi, %edi
\tjl .L4
\tmov %eax, (%rdx)
.L4:
\tdec %edi
\tjne .L3
.L2:
\tret
"""
    code = read_text(HEAD + text, "", "x86")
    body = bodies(code.functions, "x86")["quay"]
    found = deciders(body)
    store = body.block_of[4]
    assert found[store] == {body.block_of[3]}  # whether it stores
    assert found[body.block_of[2]] == {body.block_of[1], body.block_of[6]}  # whether it goes round
    assert body.block_of[7] not in found  # it always comes there
