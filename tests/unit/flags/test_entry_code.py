"""When two builds' code of an entry is the same: by everything that can make it act otherwise."""

import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from hot_anvil.core.asm.reading import read_text
from hot_anvil.core.flags.entry_code import ObjectCode, entry_digest
from hot_anvil.core.model.call_graph import reached

NEED = Callable[..., None]
SOURCE = """
static const int table[4] = { 3, 4, 5, 6 };
__attribute__((noinline)) static int feet(int level) { return level * 3; }
int other(int level) { return level + OTHER; }
double level(int code, int x)
{
    switch (code) {
    case 1: return feet(x);
    case 2: return x * 2.5;
    case 3: return table[x & 3];
    case 4: return x - 1;
    case 5: return x ^ 5;
    default: return 0;
    }
}
"""


def digest_of(folder: Path, text: str, *flags: str, entry: str = "level") -> str:
    (folder / "level.c").write_text(text)
    for make, output in (("-S", "level.s"), ("-c", "level.o")):
        command = ["gcc-12", "-O2", "-g1", "-DOTHER=1", *flags, make, "level.c", "-o", output]
        subprocess.run(command, cwd=folder, check=True)
    code = read_text((folder / "level.s").read_text(), str(folder), "x86")
    objects = ObjectCode([(folder / "level.o").read_bytes()])
    return entry_digest(reached(code, entry), entry, objects)


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("{ 3, 4, 5, 6 }", "{ 3, 4, 5, 7 }"),  # a table
        ("x * 2.5", "x * 3.5"),  # a constant behind a label
        ("level * 3", "level * 5"),  # what it calls
        ("return feet(x)", "return -feet(x)"),
        ("x - 1", "x - 2"),
    ],
)
def test_what_can_act_otherwise_is_other_code(
    tmp_path: Path, need: NEED, before: str, after: str
) -> None:
    need("gcc-12")
    assert digest_of(tmp_path, SOURCE) != digest_of(tmp_path, SOURCE.replace(before, after, 1))


def test_what_a_table_of_functions_leads_to_is_part_of_it(tmp_path: Path, need: NEED) -> None:
    need("gcc-12")
    text = """
    static int up(int x) { return x + 1; }
    static int down(int x) { return x - 1; }
    static int (*const ways[])(int) = { up, down, up };
    int way(int code, int x) { return ways[code % 3](x); }
    """
    first = digest_of(tmp_path, text, entry="way")
    other = digest_of(tmp_path, text.replace("x - 1", "x - 2"), entry="way")
    turned = digest_of(tmp_path, text.replace("{ up, down, up }", "{ up, up, down }"), entry="way")
    assert len({first, other, turned}) == 3
    assert digest_of(tmp_path, text + "int last(int a) { return a; }\n", entry="way") == first


def test_what_an_entry_does_not_reach_changes_nothing(tmp_path: Path, need: NEED) -> None:
    need("gcc-12")
    first = digest_of(tmp_path, SOURCE)
    assert digest_of(tmp_path, SOURCE, "-DOTHER=2") != ""
    assert digest_of(tmp_path, SOURCE, "-UOTHER", "-DOTHER=7") == first
    assert digest_of(tmp_path, SOURCE + "int more(int a) { return a / 7; }\n") == first
    # Padding between instructions is code too, though no instruction differs.
    aligned = digest_of(tmp_path, SOURCE, "-falign-jumps=32", "-falign-labels=32")
    assert aligned != first
