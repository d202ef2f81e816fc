"""Showing less of a listing leaves out what was asked for, counts it, and touches nothing else."""

import pytest

from hot_anvil.core.asm.filters import KINDS, find, hide, only_lines, read_lines
from hot_anvil.core.asm.listing import ListedFunction, list_functions
from hot_anvil.core.code.records import Code, Datum, Function, Instruction, Site
from hot_anvil.errors import RequestError


def item(text: str, line: int, file: str = "surge.c", inlined: bool = False) -> Instruction:
    mnemonic, _, rest = text.partition(" ")
    operands = tuple(rest.split(", ")) if rest else ()
    chain = (Site("surge", "surge.c", 3),) if inlined else ()
    return Instruction(mnemonic, operands, file, line, 1, False, 64, 4, chain=chain)


ITEMS = (
    item("pushq %rbx", 1),
    item("movl (%rdi), %eax", 3),
    item("imull %eax, %eax", 4, inlined=True),
    item("call tide@PLT", 5),
    item("addl $1, %eax", 9, "/usr/include/quay.h"),
    item("xchgw %ax, %ax", 0),
    item("popq %rbx", 6),
    item("ret", 6),
)
DATA = (Datum(7, 1, ".long 5", 4), Datum(8, 1, "(padding) 3 bytes", 3))
CODE = Code((Function("surge", ".text", "", ITEMS, {}, DATA),), ("surge.c",), "x86")


def listed() -> tuple[ListedFunction, ...]:
    return tuple(list_functions(CODE, {"surge.c": ["line"] * 9}))


def shown(functions: tuple[ListedFunction, ...]) -> list[str]:
    return [
        placed.instruction.mnemonic
        for function in functions
        for line in function.lines
        for placed in line.instructions
    ]


@pytest.mark.parametrize(
    ("kind", "gone"),
    [
        ("inlined", {"imull"}),
        ("library", {"addl"}),
        ("compiler-made", {"xchgw"}),
        ("data", set()),
        ("padding", set()),
    ],
)
def test_what_is_hidden_is_gone_and_counted(kind: str, gone: set[str]) -> None:
    (function,) = hide(listed(), [kind])
    assert sorted(shown((function,))) == sorted(i.mnemonic for i in ITEMS if i.mnemonic not in gone)
    assert function.hidden == len(gone)
    kept = {"data": ["(padding) 3 bytes"], "padding": [".long 5"]}.get(
        kind, [datum.text for datum in DATA]
    )
    assert [datum.text for datum in function.data] == kept


def test_lines_and_patterns_choose_and_wrong_ones_are_told() -> None:
    assert sorted(shown(only_lines(listed(), "3-4"))) == ["imull", "movl"]
    assert only_lines(listed(), "77") == ()
    assert shown(find(listed(), "imul", "x86")) == ["imull"]  # the size suffix need not be said
    assert shown(find(listed(), "tide", "x86")) == ["call"]
    assert shown(find(listed(), "mul", "x86")) == []
    assert len(shown(hide(listed(), []))) == len(ITEMS)
    for bad in ("0", "9-3", "x", "3-", ""):
        with pytest.raises(RequestError, match="one line or a range"):
            read_lines(bad)
    with pytest.raises(RequestError, match="the kinds are " + ", ".join(KINDS)):
        hide(listed(), ["inline"])
    with pytest.raises(RequestError):
        find(listed(), "(", "x86")
