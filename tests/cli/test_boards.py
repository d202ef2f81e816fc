"""Code for Cortex-M that needs the chip itself runs on an emulated board, with its faults."""

import json
from collections.abc import Callable
from pathlib import Path
from shutil import which

import pytest

from conftest import document, hot_anvil, refused, write_bench

FAULTS = """#include <stdint.h>
#define ASK uint32_t mask; __asm__ volatile("mrs %0, primask" : "=r"(mask) :: "memory")
int32_t fine(int16_t *levels, int n) { ASK; return n > 0 ? levels[n - 1] : 0; }
int32_t nothing(int16_t *levels, int n) { ASK;
    return *(volatile int *)0 + n; }
int32_t nowhere(int16_t *levels, int n) { ASK;
    *(volatile int *)0x70000000 = n; return n; }
int32_t own_code(int16_t *levels, int n) { ASK;
    *(volatile int *)0x1000 = n; return n; }
int32_t service(int16_t *levels, int n) { ASK;
    __asm__ volatile("svc 3"); return n; }
int32_t pending(int16_t *levels, int n) { ASK;
    *(volatile uint32_t *)0xe000e100 = 32; *(volatile uint32_t *)0xe000e200 = 32;
    __asm__ volatile("dsb\\n isb"); return n; }
int32_t odd(int16_t *levels, int n) { ASK;
    __asm__ volatile("ldrd r2, r3, [%0]" :: "r"((char *)levels + 1) : "r2", "r3"); return n; }
int32_t trap(int16_t *levels, int n) { ASK;
    __builtin_trap(); return n; }
int32_t before(int16_t *levels, int n) { ASK;
    levels[-1] = 3; return n; }
int32_t deep(int16_t *levels, int n) { ASK; volatile char held[200]; held[n & 7] = 1;
    return held[3] + deep(levels, n + 1) + held[n & 7]; }
int32_t off(int16_t *levels, int n) { ASK;
    __asm__ volatile("cpsid i"); return n > 0 ? levels[n - 1] : 0; }
"""
WORDS = {
    "nothing": ("reads through a null pointer", 5),
    "nowhere": ("writes memory that is not there", 7),
    "own_code": ("writes a constant, or code", 9),
    "service": ("raises a supervisor call, for which it has no handler", 11),
    "pending": ("raises interrupt 5, for which it has no handler", 14),
    "odd": ("touches a misaligned address", 16),
    "trap": ("runs into a trap of the compiler's", 18),
    "before": ("writes levels[-1], before its start", 20),
    "deep": ("the stack overflowed", None),
}
INPUTS = '[snippet.inputs]\nlevels = { fill = "uniform(1, 500)", count = "n" }\nn = 40\n'
GRID = '[flags]\na = "-O1 -mcpu={} -mthumb"\n[grid]\ntoolchains = ["arm-none-eabi-gcc"]\n'


def bench(folder: Path, source: str, processor: str, *entries: str) -> Path:
    """Write a bench of entries for a processor, each a snippet of its own."""
    each = (
        f'[[snippet]]\nname = "{name}"\nsources = ["gauge.c"]\nentries = ["{name}"]\n{INPUTS}'
        for name in entries
    )
    return write_bench(folder, GRID.format(processor) + "".join(each), gauge=source)


def test_faults_on_a_board_are_told_with_their_lines(
    tmp_path: Path, need: Callable[..., None]
) -> None:
    need("qemu-system-arm", "arm-none-eabi-gcc", "qemu-arm")
    folder = bench(tmp_path, FAULTS, "cortex-m3", "fine", *WORDS)
    rivals = folder / "anvil.toml"
    rivals.write_text(rivals.read_text().replace('["fine"]', '["fine", "off"]'))
    found = {v["entry"]: v for v in document("check", folder, code=1)["verdicts"]}
    assert found["fine"]["verdict"] == "correct"
    assert "interrupts, which are off" in found["off"]["why"], found["off"]
    for name, (words, line) in WORDS.items():
        told = found[name]
        assert told["verdict"] == "crashed" and told["why"].startswith(words), told
        assert (told["place"] or {}).get("line") == line, told


DEPTHS = """#include <stdint.h>
int32_t kept(const int16_t *levels, int32_t n)
{
#ifdef ASK
    uint32_t mask;
    __asm__ volatile("mrs %0, primask" : "=r"(mask) :: "memory");
#endif
    volatile int16_t held[60];
    int32_t sum = 0;
    for (int i = 0; i < 60; i++) held[i] = i < n ? levels[i] : 0;
    for (int i = 0; i < 60; i++) sum += held[i] / 3;
    return sum;
}
"""


@pytest.mark.parametrize("processor", ["cortex-m0", "cortex-m4", "cortex-m7"])
def test_a_board_counts_as_a_program_does_and_says_the_stack(
    tmp_path: Path, need: Callable[..., None], processor: str
) -> None:
    need("qemu-system-arm", "arm-none-eabi-gcc", "qemu-arm")
    counted = {}
    for name, more in (("program", ""), ("board", "#define ASK\n")):
        folder = bench(tmp_path / name, more + DEPTHS, processor, "kept")
        (one,) = document("measure", folder)["elsewhere"]
        assert ("board" in one["counted_by"]) == (name == "board"), one
        (candidate,) = one["candidates"]
        assert 120 <= candidate["stack_bytes"] < 180, candidate
        counted[name] = candidate["counts"][0]["instructions"]
    assert counted["board"] == counted["program"] + 1  # the question itself


def test_a_target_among_the_flags_is_sent_to_the_toolchain(
    tmp_path: Path, need: Callable[..., None]
) -> None:
    need("clang-16")
    (tmp_path / "gauge.c").write_text(FAULTS)
    build = "clang-16 --target=thumbv7em-none-eabi -O2"
    told = refused("compile", tmp_path / "gauge.c", "--build", build)
    assert "clang-16@thumb, or one in a [toolchain.NAME]" in told, told


def test_without_an_emulator_a_board_is_missed_by_name(
    tmp_path: Path, need: Callable[..., None]
) -> None:
    need("arm-none-eabi-gcc", "qemu-arm", "arm-linux-gnueabihf-gcc")
    tools = tmp_path / "tools"
    tools.mkdir()
    for name in ("arm-none-eabi-gcc", "arm-none-eabi-objdump", "gcc", "ld", "as", "sh", "objcopy"):
        (tools / name).symlink_to(str(which(name)))
    folder = bench(tmp_path / "bench", FAULTS, "cortex-m3", "fine")
    told = hot_anvil("check", folder, PATH=str(tools)).stdout
    assert "needs qemu-arm to run here" in " ".join(told.split()), told
    for name in ("qemu-arm", "arm-linux-gnueabihf-gcc"):
        (tools / name).symlink_to(str(which(name)))
    told = hot_anvil("check", folder, PATH=str(tools)).stdout
    board = "needs qemu-system-arm (apt install qemu-system-arm)"
    assert (
        f"primask' at gauge.c:3, which only the chip itself can do; an emulated board {board}"
        in (" ".join(told.split()))
    )
    listed = json.loads(hot_anvil("toolchains", "--format", "json", PATH=str(tools)).stdout)
    (chip,) = (row for row in listed["toolchains"] if row["name"] == "arm-none-eabi-gcc")
    assert board in chip["lacks"] and chip["can"]["emulate"], chip
