"""What is said of the real machine: the assembler's report, occupancy, numbers in words."""

import pytest

from hot_anvil.core.kernels.assembler import Resources, read_report
from hot_anvil.core.kernels.machine_code import read_machine_code
from hot_anvil.core.kernels.occupancy import occupancy
from hot_anvil.views.text.launch import numbers

REPORT = """ptxas info    : 0 bytes gmem, 64 bytes cmem[3]
ptxas info    : Compiling entry function 'year_clamp' for 'sm_80'
ptxas info    : Function properties for year_clamp
    0 bytes stack frame, 0 bytes spill stores, 0 bytes spill loads
ptxas info    : Used 10 registers, used 0 barriers, 380 bytes cmem[0]
ptxas info    : Compile time = 1.705 ms
ptxas info    : Compiling entry function '_Z4tilePf' for 'sm_80'
ptxas info    : Function properties for _Z4tilePf
    48 bytes stack frame, 92 bytes spill stores, 88 bytes spill loads
ptxas info    : Used 32 registers, used 1 barriers, 48 bytes cumulative stack size, 2048 bytes smem, 372 bytes cmem[0], 8 bytes cmem[2]
ptxas info    : Compiling entry function 'other' for 'sm_80'
ptxas info    : something that this version says otherwise
"""  # noqa: E501


def test_the_assemblers_report() -> None:
    assert read_report(REPORT) == {
        "year_clamp": Resources(10, 0, 0, 0, 0, 380),
        "_Z4tilePf": Resources(32, 92, 88, 48, 2048, 380),
    }
    assert read_report("") == {}


CODE = """	.target	sm_80
//--------------------- .text.year_places         --------------------------
	.section	.text.year_places,"ax",@progbits
        .global         year_places
year_places:
.text.year_places:
	//## File "/quay/year.cu", line 72
        /*0000*/                   IMAD.MOV.U32 R1, RZ, RZ, c[0x0][0x28] ;
        /*0050*/              @!P1 STS [R0], RZ ;
.L_x_1:
	//## File "/usr/include/atomics.hpp", line 107
        /*0060*/               @P0 BRA `(.L_x_1) ;
.L_x_18:
//--------------------- .nv.shared.other --------------------------
        /*0000*/                   NOT.CODE ;
"""


def test_the_disassemblers_listing() -> None:
    (items,) = read_machine_code(CODE, "/quay").values()
    assert [(i.offset, i.text, i.file, i.line, i.label) for i in items] == [
        (0, "IMAD.MOV.U32 R1, RZ, RZ, c[0x0][0x28]", "year.cu", 72, ""),
        (0x50, "@!P1 STS [R0], RZ", "year.cu", 72, ""),
        (0x60, "@P0 BRA .L_x_1", "/usr/include/atomics.hpp", 107, ".L_x_1"),
    ]


@pytest.mark.parametrize(
    ("target", "threads", "registers", "shared", "blocks", "warps", "by"),
    [
        ("sm_80", 128, 10, 512, 16, 64, ("warps",)),
        ("sm_80", 32, 16, 0, 32, 32, ("blocks",)),
        ("sm_80", 256, 64, 0, 4, 32, ("registers",)),
        ("sm_80", 256, 65, 0, 3, 24, ("registers",)),  # 65 * 32 goes up to 2304 a warp
        ("sm_80", 64, 16, 48 << 10, 3, 6, ("shared memory",)),  # with 1 KiB each for the system
        ("sm_75", 1024, 64, 0, 1, 32, ("warps", "registers")),
        ("sm_86", 100, 0, 0, 12, 48, ("warps",)),  # registers are not known
    ],
)
def test_occupancy(
    target: str, threads: int, registers: int, shared: int, blocks: int, warps: int,
    by: tuple[str, ...],
) -> None:  # fmt: skip
    found = occupancy(target, threads, registers, shared)
    assert found
    assert (found.blocks, found.warps, found.limited_by) == (blocks, warps, by)


def test_occupancy_of_a_target_that_is_not_known() -> None:
    assert occupancy("sm_999", 128, 10, 0) is None


@pytest.mark.parametrize(
    ("values", "said"),
    [
        ([0, 1, 2, 3], "0-3"),
        ([0, 4, 8], "0, 4, 8"),
        ([0, 4, 8, 12], "0, 4 … 12"),
        ([5], "5"),
        ([0, 1, 2, 7, 9], "0-2, 7, 9"),
    ],
)
def test_numbers_in_words(values: list[int], said: str) -> None:
    assert numbers(values) == said
