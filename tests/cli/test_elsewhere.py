"""Code for other processors runs under emulators: judged as here, counted, never timed."""

import json
import re
from collections.abc import Callable, Sequence
from pathlib import Path
from shutil import which
from typing import Any

import pytest

from conftest import document, hot_anvil, write_bench

BOARD = "arm-none-eabi on a board"
TARGETS = {
    "arm-none-eabi": ("quay-m4", "clang-16@thumb", "qemu-arm"),
    BOARD: ("board-m4", "board-clang", "qemu-system-arm"),
    "aarch64-linux-gnu": ("aarch64-linux-gnu-gcc", "clang-16@aarch64", "qemu-aarch64"),
    "arm-linux-gnueabihf": ("arm-linux-gnueabihf-gcc", "clang-16@arm", "qemu-arm"),
    "i686-linux-gnu": ("i686-linux-gnu-gcc", "clang-16@i386", "qemu-i386"),
    "riscv64-linux-gnu": ("riscv64-linux-gnu-gcc", "clang-16@riscv64", "qemu-riscv64"),
}
# A chip's code, its floats in registers for whole numbers; it runs as a program for Linux.
CHIP = '[toolchain.quay-m4]\ncommand = "{}"\nfamily = "gcc"\nflags = "-mcpu=cortex-m4 -mthumb"\n'
# Code that asks for what only the chip answers, and so runs on an emulated board.
ON_BOARD = """[toolchain.board-m4]
command = "{}"
family = "gcc"
flags = "-mcpu=cortex-m4 -mthumb -DON_BOARD"
[toolchain.board-clang]
command = "{}"
family = "clang"
flags = "--target=thumbv7em-none-eabi -mcpu=cortex-m4 -DON_BOARD"
"""
ASKS = """#ifdef ON_BOARD
#define ASK unsigned mask; __asm__ volatile("mrs %0, primask" : "=r"(mask));
#else
#define ASK
#endif
#line 1
"""
SOUND = r"""#include <stdint.h>
void *memcpy(void *, const void *, __SIZE_TYPE__);
double sqrt(double), fabs(double);
typedef struct { int16_t high; int16_t low; float depth; } tide;
int32_t total(const int16_t *levels, int32_t n) { int32_t sum = 0;
    for (int32_t i = 0; i < n; i++) sum += levels[i]; return sum; }
void feet(float *out, const float *metres, int32_t n) {
    for (int32_t i = 0; i < n; i++) out[i] = metres[i] * 3.28084f; }
#if __ARM_PCS_VFP || !__arm__ /* else the library's takes its floats in other registers */
double root(double depth) { return sqrt(fabs(depth)); }
#endif
uint64_t mixed(uint8_t a, int16_t b, uint32_t c, int64_t d, float e, double f) {
    return a + (uint64_t)b * 3 + c * 5ull + (uint64_t)d * 7 + (e > 0) + (f > 0); }
int32_t range(tide one) { return one.high - one.low + (one.depth > 1.0f); }
tide turned(int16_t high, int16_t low) { tide t = { low, high, (float)high }; return t; }
int32_t first_above(const int32_t *levels, int32_t n, int32_t limit) {
    for (int32_t i = 0; i < n; i++) if (levels[i] > limit) return i;
    return -1; }
void sorted(int32_t *levels, int32_t n) {
    for (int32_t i = 1; i < n; i++) for (int32_t k = i; k && levels[k - 1] > levels[k]; k--) {
        int32_t t = levels[k]; levels[k] = levels[k - 1]; levels[k - 1] = t; } }
uint16_t crc(const uint8_t *frame, int32_t n) { uint16_t c = 0xffff;
    for (int32_t i = 0; i < n; i++) { c ^= (uint16_t)(frame[i] << 8);
        for (int k = 0; k < 8; k++) c = (uint16_t)(c & 0x8000 ? c << 1 ^ 0x1021 : c << 1); }
    return c; }
uint32_t turned_by(uint32_t mark, int32_t by) { by &= 31; return by ? mark << by | mark >> (32 - by)
    : mark; }
int32_t halves(int32_t level, int32_t parts) { return parts ? level / parts : level % 7; }
void copied(uint8_t *out, const uint8_t *frame, int32_t n) { memcpy(out, frame, n); }
const char *pier(const char *names, int32_t n) { return names + n / 2; }
"""
INPUTS = (
    "levels = { fill = 'uniform(-500, 500)', count = 'n' }\nn = 40\n"
    "limit = 300\nout = { fill = 'zeros', count = 'n' }\nframe = { fill = 'uniform(0, 255)', "
    "count = 'n' }\nmetres = { fill = 'uniform(-9, 9)', count = 'n' }\ndepth = 2.5\na = 3\nb = -4\n"
    "c = 5\nd = -6\ne = 1.5\nf = -2.5\none = { members = { high = 9, low = -3, depth = 2.0 } }\n"
    "high = 7\nlow = -2\n"
    "level = 100\nparts = 7\nmark = 7\nby = 5\n"
    "names = { fill = 'text(\"red green\")', count = 'n' }\n"
)
ENTRIES = ("turned_by", "total", "feet", "root", "mixed", "range", "turned", "first_above",
           "sorted", "crc", "halves", "copied", "pier")  # fmt: skip


def bench(folder: Path, targets: Sequence[str], source: str, snippets: dict[str, str]) -> Path:
    """Write a bench of entries and their inputs, here and under both compilers of each target."""
    names = ["gcc", *(name for target in targets for name in TARGETS[target][:2])]
    bare = {*TARGETS["arm-none-eabi"], *TARGETS[BOARD]}
    hard = [name for name in names if name not in bare]
    parts = (
        f'[[snippet]]\nname = "{name}"\nsources = ["gauge.c"]\nentries = ["{name}"]\n'
        f"toolchains = {json.dumps(hard if name == 'root' else names)}\n{inputs}"
        for name, inputs in snippets.items()
    )
    grid = f'[grid]\ntoolchains = {json.dumps(names)}\nreference = "gcc:a"\n'
    flags = '[flags]\na = "-O0"\nb = "-O2"\n'
    gcc, clang = which("arm-none-eabi-gcc"), which("clang-16")
    grid += CHIP.format(gcc) if "arm-none-eabi" in targets else ""
    grid += ON_BOARD.format(gcc, clang) if BOARD in targets else ""
    source = ASKS + re.sub(r"(?m)(^\w.*\) \{)", r"\1 ASK", source)
    return write_bench(folder, flags + grid + "".join(parts), gauge=source)


def command(target: str) -> str:
    """Return the compiler command that a target needs."""
    return "arm-none-eabi-gcc" if target.startswith("arm-none-eabi") else TARGETS[target][0]


def taken(name: str) -> str:
    """Return the inputs that one sound entry takes."""
    declared = re.search(rf"\b{name}\(([^)]*)\)", SOUND)
    assert declared
    names = {word.lstrip("*") for word in re.findall(r"(\*?\w+)(?:,|$)", declared[1])}
    lines = [line for line in INPUTS.splitlines() if line.split(" ")[0] in names]
    return "[snippet.inputs]\n" + "\n".join(lines) + "\n"


Judged = dict[tuple[str, str], dict[str, Any]]  # (entry, build) -> verdict


def judged(folder: Path, source: str, snippets: dict[str, str], code: int) -> Judged:
    """Return the verdicts on a bench under all targets that can be tried here."""
    here = [t for t in TARGETS if which(TARGETS[t][2]) and which(command(t)) and which("clang-16")]
    words = ["--call-seconds", "0.3", "--trust"]
    found = document("check", bench(folder, here, source, snippets), *words, code=code)["verdicts"]
    return {(v["entry"], v["build"]): v for v in found}


def of_target(found: Judged, target: str) -> Judged:
    """Return the verdicts on what is built for one target."""
    return {key: v for key, v in found.items() if key[1].partition(":")[0] in TARGETS[target]}


@pytest.fixture(scope="module")
def sound(tmp_path_factory: pytest.TempPathFactory) -> Judged:
    folder = tmp_path_factory.mktemp("sound")
    return judged(folder, SOUND, {name: taken(name) for name in ENTRIES}, 0)


@pytest.mark.parametrize("target", TARGETS)
def test_sound_code_is_correct_under_every_build_of_another_machine(
    sound: Judged, target: str, need: Callable[..., None]
) -> None:
    need(TARGETS[target][2], command(target), "clang-16")
    found = of_target(sound, target)
    assert len(found) == 4 * (len(ENTRIES) - target.startswith("arm-none-eabi"))
    assert {v["verdict"] for v in found.values()} == {"correct"}
    name = "QEMU board mps2-an386 (Cortex-M4)" if target == BOARD else TARGETS[target][2]
    assert {v["emulator"] for v in found.values()} == {name}


BROKEN = """#include <stdint.h>
int32_t total(const int16_t *levels, int32_t n) { int32_t sum = 0;
    for (int32_t i = 0; i < n; i++) sum += levels[i]; return sum; }
int32_t total_beyond(const int16_t *levels, int32_t n) { int32_t sum = 0;
#ifndef __x86_64__
    n++;
#endif
    for (int32_t i = 0; i < n; i++)
        sum += levels[i];
    return sum; }
int32_t total_endless(const int16_t *levels, int32_t n) { int32_t sum = 0;
    for (int32_t i = 0; i < n; i++) sum += levels[i];
#ifndef __x86_64__
    for (;;)
        __asm__ volatile("");
#endif
    return sum; }
int32_t total_signed(const char *marks, int32_t n) { int32_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += marks[i];
    return sum; }
int32_t total_long(const long *levels, int32_t n) { long sum = 0;
    for (int32_t i = 0; i < n; i++) sum ^= levels[i];
    return (int32_t)sum; }
"""


LEVELS = '[snippet.inputs]\nlevels = { fill = "uniform(1, 500)", count = "n" }\nn = 40\n'


MARKS = LEVELS.replace("levels", "marks").replace("(1, 500)", "(-99, 99)")


@pytest.fixture(scope="module")
def broken(tmp_path_factory: pytest.TempPathFactory) -> Judged:
    plain = 'flags = ["a"]\n'  # one build of each target is enough to see a line
    inputs = {
        "total_beyond": plain + LEVELS,
        "total_endless": 'flags = ["b"]\n' + LEVELS,
        "total_signed": plain + MARKS,
        "total_long": plain + LEVELS,
    }
    return judged(tmp_path_factory.mktemp("broken"), BROKEN, inputs, 1)


@pytest.mark.parametrize("target", TARGETS)
def test_broken_code_is_caught_there_with_its_line(
    broken: Judged, target: str, need: Callable[..., None]
) -> None:
    need(TARGETS[target][2], command(target), "clang-16")
    gcc = TARGETS[target][0]
    beyond = broken["total_beyond", f"{gcc}:a"]
    assert (beyond["verdict"], beyond["place"]["line"]) == ("crashed", 9), beyond
    assert re.match(r"(reads|touches) levels\[40\], beyond its 40 elements", beyond["why"])
    assert broken["total_beyond", "gcc-12:a"]["verdict"] == "correct"
    endless = broken["total_endless", f"{gcc}:b"]
    assert endless["verdict"] == "hung" and endless["place"]["line"] in (14, 15), endless
    if target != "i686-linux-gnu":
        signed = broken["total_signed", f"{gcc}:a"]
        assert signed["verdict"] == "wrong", signed
        assert any("plain char is signed" in text for text in signed["suspects"]), signed
    if not target.endswith("64-linux-gnu"):
        long = broken["total_long", f"{gcc}:a"]
        assert long["verdict"] == "not run" and "to 8 bytes" in long["why"], long


def test_what_runs_elsewhere_is_ranked_by_exact_counts_and_has_no_time(
    tmp_path: Path, need: Callable[..., None]
) -> None:
    need("qemu-aarch64", "aarch64-linux-gnu-gcc", "clang-16")
    folder = bench(tmp_path, ["aarch64-linux-gnu"], BROKEN, {"total": LEVELS})
    rows = [document("measure", folder, "--seconds", "0.1") for _ in range(2)]
    first, again = (row["elsewhere"] for row in rows)
    assert first == again and first[0]["target"] == "aarch64-linux-gnu"
    counts = {c["candidate"]: c["counts"][0]["instructions"] for c in first[0]["candidates"]}
    assert len(counts) == 4 and counts["aarch64-linux-gnu-gcc:a"] > 3 * min(counts.values())
    assert {r["candidate"] for r in rows[0]["results"]} == {"gcc-12:a", "gcc-12:b"}
    picked = document("pick", folder, "--seconds", "0.1")
    assert picked["choice"]["total"].startswith("gcc-12")
    (fewest,) = picked["elsewhere"]["total"].values()
    assert fewest and counts[fewest[0]] == min(counts.values())


def test_a_program_for_another_machine_runs_too(tmp_path: Path, need: Callable[..., None]) -> None:
    need("qemu-aarch64", "aarch64-linux-gnu-gcc")
    (tmp_path / "log.c").write_text(
        "#include <stdio.h>\nint main(void)\n{\n    char low = -1;\n"
        '    puts(low < 0 ? "low water" : "high water");\n'
        "#ifdef BROKEN\n    *(volatile int *)8 = 1;\n#endif\n    return 0;\n}\n"
    )
    builds = ["--build", "gcc -O1", "--build", "aarch64-linux-gnu-gcc -O1 -fsigned-char"]
    fine = document("check", tmp_path / "log.c", *builds)["verdicts"]
    assert [v["verdict"] for v in fine] == ["correct", "correct"]
    builds = [*builds[:3], "aarch64-linux-gnu-gcc -O1 -DBROKEN"]
    told = document("check", tmp_path / "log.c", *builds, code=1)["verdicts"]
    assert (told[1]["verdict"], told[1]["place"]["line"]) == ("crashed", 7), told[1]
    assert "high water" not in hot_anvil("check", tmp_path / "log.c", *builds).stdout


ONLY_THERE = """#include <stdint.h>
double ldexp(double, int);
double scaled(double level) { return ldexp(level, 1); }
int32_t masked(int32_t level)
{
#ifdef __arm__
    uint32_t mask;
    __asm__ volatile("mrs %0, primask" : "=r"(mask));
#endif
    return level + 1;
}
float mixed(int32_t level, float a, double b) { return (float)(level * b) - a; }
"""


def test_what_a_program_cannot_stand_in_for_is_not_run(
    tmp_path: Path, need: Callable[..., None]
) -> None:
    need("qemu-arm", "arm-none-eabi-gcc")
    (tmp_path / "gate.c").write_text(ONLY_THERE)
    chip = "arm-none-eabi-gcc -O1 -mcpu=cortex-m33 -mthumb"
    hard = f"{chip} -mfloat-abi=hard -mfpu=fpv5-sp-d16"
    words: list[str | Path] = ["check", tmp_path / "gate.c"]
    words += [word for flags in ("gcc -O1", chip, hard) for word in ("--build", flags)]
    level = ["--inputs", "level = 21"]

    def judged(*more: str) -> list[tuple[str, str]]:
        rows = document(*words, *more)["verdicts"]  # one of a Cortex-M33 has no board here
        return [(row["verdict"], row["why"]) for row in rows[1:]]

    soft, fine = judged("--entry", "scaled", "--inputs", "level = 2.5")
    assert fine == ("correct", "") and soft[0] == "not run" and "other registers" in soft[1]
    for verdict, why in judged("--entry", "masked", *level):
        assert verdict == "not run" and "primask' at gate.c:8, which only the chip" in why
    (tmp_path / "gate.c").write_text(ONLY_THERE.replace("ldexp(level, 1)", "level * 2"))
    more = ["--inputs", "a = 0.5", "--inputs", "b = 3.25"]
    assert judged("--entry", "mixed", *level, *more) == [("correct", "")] * 2
