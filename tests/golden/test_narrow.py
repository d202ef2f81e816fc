"""Flags taken apart, on real compilers: what is found is tried again by hand."""

import shlex
import subprocess
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import pytest

from conftest import document, hot_anvil, refused

NEED = Callable[..., None]
PRODUCT = """
#include <stdint.h>
int64_t product(const int16_t *tide, const int16_t *weight, int32_t n)
{
    int64_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += tide[i] * weight[i];
    return sum;
}
"""
NEAREST = """
#include <stdint.h>
int32_t nearest(const float *gauge, float level, int32_t n)
{
    int32_t best = 0;
    float least = 1e30f;
    for (int32_t i = 0; i < n; i++) {
        float off = gauge[i] - level;
        if (off * off < least) {
            least = off * off;
            best = i;
        }
    }
    return best;
}
float total(const float *gauge, int32_t n)
{
    float sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += gauge[i];
    return sum;
}
"""
CODES = """
#include <stdint.h>
uint32_t level;
const char *harbour(int code)
{
    switch (code) {
    case 1: return "Quay";
    case 2: return "Mole";
    case 3: return "Basin";
    case 4: return "Lock";
    case 5: return "Pier";
    default: level = LEVEL; return "none";
    }
}
"""


def narrowed(file: Path, left: str, right: str, *more: str) -> dict[str, Any]:
    builds = ("--build", left, "--build", right)
    found: dict[str, Any] = document("narrow", file, *builds, *more)["narrowed"][0]
    return found


def code_of(file: Path, command: Sequence[str], folder: Path) -> bytes:
    """Return the code and the constants of a file that holds one function, made by hand."""
    made, raw = folder / "by-hand.o", folder / "by-hand.bin"
    subprocess.run([*command, "-g1", "-c", file, "-o", made], check=True, capture_output=True)
    out = b""
    for section in (".text", ".rodata", ".rodata.cst16", ".rodata.cst32", ".rodata.cst4"):
        copy = ["objcopy", "-O", "binary", "-j", section, made, raw]
        subprocess.run(copy, check=True, capture_output=True)
        out += raw.read_bytes() if raw.exists() else b""
    return out


@pytest.mark.parametrize(
    ("compiler", "left", "right", "level"),
    [
        ("gcc-12", "-O2", "-O3", None),
        ("gcc-12", "-O2", "-O3 -march=x86-64-v3", "x86-64-v3"),
        ("gcc-12", "-O1 -fno-tree-vectorize", "-O3 -ffast-math", None),
        ("clang-16", "-O1", "-O3 -march=x86-64-v4", "x86-64-v3"),
        ("clang-16", "-O2", "-Os", None),
    ],
)
def test_the_set_makes_the_code_and_no_less_does(
    tmp_path: Path, need: NEED, compiler: str, left: str, right: str, level: str | None
) -> None:
    need(compiler, "objcopy")
    file = tmp_path / "product.c"
    file.write_text(PRODUCT)
    one = narrowed(file, f"{compiler} {left}", f"{compiler} {right}")
    goal = code_of(file, [compiler, *right.split()], tmp_path)
    assert not one["same_code"] and one["needed"] and one["compiles"] <= 60
    assert code_of(file, [compiler, *one["flags"]], tmp_path) == goal
    said = shlex.split(one["command"])
    assert said[:-2] == [compiler, *one["flags"]]
    for needed in one["needed"]:
        rest = [flag for flag in one["flags"] if flag not in needed["flags"]]
        assert code_of(file, [compiler, *rest, *needed["dropped"]], tmp_path) != goal
        alone = [f for f in left.split() if f not in needed["dropped"]] + needed["flags"]
        same = code_of(file, [compiler, *alone], tmp_path) == code_of(
            file, [compiler, *left.split()], tmp_path
        )
        assert needed["alone"]["same_code"] is same
    assert one["level"] == level and one["adds_instructions"] is (level is not None)


@pytest.mark.parametrize("compiler", ["aarch64-linux-gnu-gcc", "clang-16@aarch64"])
def test_the_oldest_level_of_another_instruction_set(
    tmp_path: Path, need: NEED, compiler: str
) -> None:
    """A processor by name comes down to the level that brought the one instruction used."""
    need("aarch64-linux-gnu-gcc", "clang-16")
    file = tmp_path / "bump.c"
    file.write_text("int bump(int *n) { return __atomic_fetch_add(n, 3, __ATOMIC_RELAXED); }\n")
    one = narrowed(file, f"{compiler} -O2", f"{compiler} -O3 -mcpu=neoverse-n1")
    assert [n["flags"] for n in one["needed"]] == [["-march=armv8.1-a"]]
    assert one["level"] == "armv8.1-a" and "-mcpu" not in one["command"]


def test_an_entry_is_asked_about_by_itself(tmp_path: Path, need: NEED) -> None:
    """What only another function of the file needs is no part of the answer."""
    need("gcc-12")
    file = tmp_path / "nearest.c"
    file.write_text(NEAREST)
    builds = "gcc-12 -O2", "gcc-12 -O3 -ffast-math -march=x86-64-v2"
    summed = narrowed(file, *builds, "--entry", "total")
    flags = " ".join(flag for needed in summed["needed"] for flag in needed["flags"])
    assert "-fassociative-math" in flags or "-funsafe-math-optimizations" in flags
    assert "vectorised" in str(summed["needed"])
    text = hot_anvil(
        "narrow", file, "--build", builds[0], "--build", builds[0] + " -fipa-pta",
        "--entry", "total",
    ).stdout  # fmt: skip
    assert "the same code under both" in text
    assert "several functions" in refused(
        "narrow", file, "--build", "gcc -O1", "--build", "gcc -O2"
    )


def test_macros_and_what_no_flag_tells(tmp_path: Path, need: NEED) -> None:
    need("gcc-12", "clang-16")
    file = tmp_path / "codes.c"
    file.write_text(CODES)
    one = narrowed(file, "gcc-12 -O2 -DLEVEL=1", "gcc-12 -O2 -DLEVEL=2 -fno-common")
    assert [n["flags"] for n in one["needed"]] == [["-DLEVEL=2"]]
    whole = narrowed(file, "gcc-12 -O2 -DLEVEL=1", "gcc-12 -Os -DLEVEL=1")
    assert [n["flags"] for n in whole["needed"]] == [["-Os"]]
    assert "-Os does more than what is told" in whole["unexplained"]
    said = refused("narrow", file, "--build", "gcc-12 -O2", "--build", "clang-16 -O2")
    assert "of two compilers" in said
    said = refused("narrow", file, "--build", "gcc-12 -O2", "--build", "gcc-12 -O2 -flto")
    assert "without -flto" in said


def test_times_of_each_flag(tmp_path: Path, need: NEED) -> None:
    """What a flag is worth is measured as a build's, under the same check."""
    need("gcc-12")
    file = tmp_path / "product.c"
    file.write_text(PRODUCT)
    fill = '{ fill = "uniform(-9, 9)", count = "n" }'
    values = [f"tide = {fill}", f"weight = {fill}", "n = 4096"]
    one = narrowed(
        file, "gcc-12 -O1", "gcc-12 -O3", "--measure", "--seconds", "0.3",
        *(word for value in values for word in ("--inputs", value)),
    )  # fmt: skip
    timed = {(row["what"], row["change"]): row for row in one["timed"]}
    assert timed["left", None]["word"] == "baseline"
    assert timed["right", None]["word"] == "faster" and timed["right", None]["high"] < 1
    assert all(row["verdict"] == "correct" for row in one["timed"])
