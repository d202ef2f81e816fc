"""Which numbers of code and source become inputs."""

from hot_anvil.core.code.records import Function, Instruction
from hot_anvil.core.inputs.constants import in_code, in_source, with_neighbours


def test_numbers_are_read_as_the_languages_write_them() -> None:
    text = """
    /* 99 */ if (level == 0x1F || level < -40 || c == 'm' || bits & 0b101) // 98
        say("97"); case 017: return 1'000L; let n = 12_500i32; x = 3.5; v7 = y2;
    """
    assert set(in_source(text)) == {31, -40, ord("m"), 5, 15, 1000, 12500}


def test_a_range_that_is_moved_to_zero_gives_both_its_ends() -> None:
    rows = (("subl", ("$4000", "%edi")), ("cmpl", ("$4", "%edi")), ("addl", ("$8", "%eax")))
    items = tuple(Instruction(m, o, "band.c", 1, k, False) for k, (m, o) in enumerate(rows))
    assert in_code([Function("band", ".text", "", items, {})], "x86") == [4, 4004, 4000]


def test_neighbours_are_tried_and_trivial_numbers_are_not() -> None:
    assert with_neighbours([0, 77, 1]) == (77, 76, 78)
    assert len(with_neighbours(range(100, 900, 10))) <= 72
