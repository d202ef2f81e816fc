"""Where code and data end up, and what a linked view calls."""

import re
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import document, hot_anvil, refused, write_bench

NEED = Callable[..., None]
SOURCE = """
extern int gauge(int);
void free(void *);
static const int table[64] = {1, 2, 3};
int zeroed[100];
int set = 7;
int all(char *a, int n) { free(a); return gauge(n) + table[n & 63] + zeroed[n] + set; }
int last(int n) { return gauge(n + 1); }
"""
SCRIPT = """SECTIONS {
  . = 0x8000; .text : { *(.text*) }
  . = 0x10000; .fast : { *(.fast) }
  . = 0x20000; .data : { *(.data*) } .bss : { *(.bss*) *(COMMON) }
}
"""


def source(folder: Path) -> Path:
    file = folder / "level.c"
    file.write_text(SOURCE)
    return file


def test_sections_are_those_that_the_tools_read(
    tmp_path: Path, need: NEED, monkeypatch: pytest.MonkeyPatch
) -> None:
    need("gcc-12", "readelf")
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))  # its store holds this image alone
    build = "gcc-12 -O2"
    (one,) = document("image", source(tmp_path), "--build", build)["images"]
    assert one["linked"] and one["totals"]["zeroed data"] == 400
    by_name = {s["name"]: s for s in one["sections"]}
    (image,) = tmp_path.rglob("artefacts/*/image")
    listed = subprocess.run(["readelf", "-SW", image], capture_output=True, text=True, check=True)
    rows = re.findall(
        r"\] (\S+) +\w+ +([0-9a-f]{8,}) [0-9a-f]+ ([0-9a-f]+) \d\d +(\w*) +\d+ +\d+ +(\d+)",
        listed.stdout,
    )
    wanted = {n: (int(a, 16), int(s, 16), int(align)) for n, a, s, f, align in rows if "A" in f}
    assert by_name.keys() <= wanted.keys() and {".text", ".bss", ".data"} <= by_name.keys()
    for name, section in by_name.items():
        assert (section["address"], section["bytes"], section["alignment"]) == wanted[name], name
    names = {thing["name"]: s for s in one["sections"] for thing in s["things"]}
    assert {name: s["holds"] for name, s in names.items()} == {
        "all": "code", "last": "code", "table": "read-only data", "set": "data",
        "zeroed": "zeroed data",
    }  # fmt: skip
    text = hot_anvil("image", source(tmp_path), "--build", build, COLUMNS="80").stdout
    assert all(len(line) <= 80 for line in text.split("\n"))


@pytest.mark.parametrize(
    "build",
    ["gcc-12 -O2", "clang-16 -O2", "aarch64-linux-gnu-gcc -O2", "riscv64-linux-gnu-gcc -O2",
     "arm-linux-gnueabihf-gcc -O2", "arm-none-eabi-gcc -Os -mthumb -mcpu=cortex-m3",
     "clang-16@riscv64 -O2", "avr-gcc -Os -mmcu=atmega328p"],
)  # fmt: skip
def test_calls_of_what_an_image_does_not_hold_have_their_names(
    build: str, tmp_path: Path, need: NEED
) -> None:
    need(build.split()[0].partition("@")[0])
    words = (source(tmp_path), build, "--build", build, "--view", "linked", "--entry", "all")
    (function,) = document("listing", *words)["functions"]
    called = [
        i["operands"][-1]
        for line in function["lines"]
        for i in line["instructions"]
        if i["operands"] and i["operands"][-1] in ("free", "gauge")
    ]
    assert called == ["free", "gauge"], called


@pytest.mark.parametrize("chain", ["arm-none-eabi-gcc", "clang-16@thumb"])
def test_a_linker_script_places_code_of_other_targets(
    chain: str, tmp_path: Path, need: NEED
) -> None:
    need(chain.partition("@")[0], "arm-none-eabi-ld")
    text = (
        '[flags]\nsmall = "-Os -mthumb -mcpu=cortex-m3"\n'
        f'[grid]\ntoolchains = ["{chain}"]\n'
        '[[snippet]]\nname = "quick"\nsources = ["quick.c"]\nlink_flags = "-T quick.ld"\n'
    )
    placed = (
        'int kept[4] = {1};\n__attribute__((section(".fast"))) int quick(int a)'
        " { return kept[a & 3]; }\nint slow(int a) { return a * 3; }\n"
    )
    write_bench(tmp_path, text, quick=placed)
    (tmp_path / "quick.ld").write_text(SCRIPT)

    def at() -> dict[str, int]:
        (one,) = document("image", tmp_path)["images"]
        return {t["name"]: t["address"] for s in one["sections"] for t in s["things"]}

    functions = {f["function"]: f["facts"] for f in document("facts", tmp_path)["functions"]}
    assert functions["quick"]["section"]["value"] == ".fast" and "section" not in functions["slow"]
    found = at()
    assert (found["quick"], found["slow"], found["kept"]) == (0x10000, 0x8000, 0x20000)
    shown = hot_anvil("listing", tmp_path, "--view", "linked").stdout
    assert "linked with -T quick.ld" in shown and re.search(r"^ +10000 ", shown, re.M)
    (tmp_path / "quick.ld").write_text(SCRIPT.replace("0x10000", "0x18000"))
    assert at()["quick"] == 0x18000  # an edited script is linked again


def test_what_does_not_link_is_shown_by_object(tmp_path: Path, need: NEED) -> None:
    need("gcc-12")
    text = (
        '[flags]\nfast = "-O2"\n[grid]\ntoolchains = ["gcc-12"]\n'
        '[[snippet]]\nname = "level"\nsources = ["level.c"]\n'
        'link_flags = "-T none.ld"\n'
    )
    write_bench(tmp_path, text, level=SOURCE)
    (one,) = document("image", tmp_path)["images"]
    assert not one["linked"] and "none.ld" in one["why"]
    assert {s["object"] for s in one["sections"]} == {"level.c"}
    assert {s["address"] for s in one["sections"]} == {None}
    assert "nothing has an address" in hot_anvil("image", tmp_path).stdout
    shutil.rmtree(tmp_path / ".hot-anvil")
    (tmp_path / "level.c").write_text("int broken(\n")
    (one,) = document("image", tmp_path)["images"]
    assert one["sections"] == [] and one["why"].startswith("refused")
    assert "--entry" in refused("image", tmp_path, "--entry", "all")
