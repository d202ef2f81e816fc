"""Code for a chip without a system runs in its simulator: judged as here, its cycles exact."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import document, hot_anvil, write_bench
from hot_anvil.core.arch import costs_of
from hot_anvil.core.code.text import split_operands

CHIPS = ["avr", "msp430"]
MSP430_GRID = (
    '[flags]\nhere = "-O1"\nplain = "-O0"\nsmall = "-Os"\nfast = "-O3"\n[grid]\n'
    'toolchains = ["gcc", "clang-16@msp430"]\n'
    'except = ["clang-16@msp430:here", "gcc:plain", "gcc:small", "gcc:fast"]\n'
)
GRID = (
    '[flags]\nhere = "-O1"\nsmall = "-Os -mmcu=atmega328p"\nfast = "-O3 -mmcu=atmega328p"\n[grid]\n'
    'toolchains = ["gcc", "avr-gcc", "clang-16@avr"]\n'
    'except = ["avr-gcc:here", "clang-16@avr:here", "gcc:small", "gcc:fast"]\n'
)
SOUND = r"""#include <stdint.h>
typedef struct { int16_t high; int16_t low; int16_t depth; } tide;
int32_t total(const int16_t *levels, int16_t n) { int32_t sum = 0;
    for (int16_t i = 0; i < n; i++) sum += levels[i]; return sum; }
uint16_t crc(const uint8_t *frame, uint8_t n) { uint16_t c = 0xffff;
    for (uint8_t i = 0; i < n; i++) { c ^= (uint16_t)((uint16_t)frame[i] << 8);
        for (uint8_t k = 0; k < 8; k++) c = c & 0x8000 ? (uint16_t)(c << 1) ^ 0x1021 : c << 1; }
    return c; }
void clamp(int16_t *levels, uint8_t n, int16_t low, int16_t high) {
    for (uint8_t i = 0; i < n; i++)
        levels[i] = levels[i] < low ? low : levels[i] > high ? high : levels[i]; }
uint64_t mixed(uint8_t a, int16_t b, uint32_t c, int64_t d) {
    return a + (uint64_t)b + c * 3u + (uint64_t)d; }
float feet(float metres) { return metres * 3.25f; }
int32_t spread(tide one) { return (int32_t)one.high - one.low + one.depth; }
tide turned(int16_t high, int16_t low) { tide t = { low, high, 7 }; return t; }
const uint8_t *pier(const uint8_t *frame, uint8_t n) { return frame + n / 2; }
static uint16_t table[8];
void filled(uint8_t by) { for (uint8_t k = 0; k < 8; k++) table[k] = (uint16_t)(by * k); }
int16_t divided(int16_t level, int16_t parts) { return parts > 0 ? level / parts : level % 7; }
void sorted(int16_t *levels, uint8_t n) {
    for (uint8_t i = 1; i < n; i++) for (uint8_t k = i; k && levels[k - 1] > levels[k]; k--) {
        int16_t t = levels[k]; levels[k] = levels[k - 1]; levels[k - 1] = t; } }
int64_t parted(int64_t level, int64_t by) { return by ? level / by * 3 + level % by : 0; }
uint32_t root(uint32_t depth) { uint32_t r = 0;
    for (uint32_t bit = 1ul << 30; bit; bit >>= 2) { uint32_t t = r + bit; r >>= 1;
        if (depth >= t) { depth -= t; r += bit; } } return r; }
"""
LEVELS = "levels = { fill = 'uniform(-500, 500)', count = 'n' }\nn = 40\n"
FRAME = "frame = { fill = 'uniform(0, 255)', count = 'n' }\nn = 9\n"
ENTRIES = {
    "total": LEVELS, "crc": FRAME, "clamp": LEVELS + "low = -200\nhigh = 200\n",
    "mixed": "a = 3\nb = -4\nc = 5\nd = -6\n", "feet": "metres = 2.5\n",
    "spread": "one = { members = { high = 9, low = -3, depth = 2 } }\n",
    "turned": "high = 9\nlow = -3\n", "pier": FRAME, "filled": "by = 3\n",
    "divided": "level = 100\nparts = 7\n", "sorted": LEVELS, "root": "depth = 1000000\n",
    "parted": "level = -123456789012\nby = 1001\n",
}  # fmt: skip


@pytest.fixture(autouse=True)
def simulated(need: Callable[..., None]) -> None:
    need("avr-gcc", "clang-16", "simavr", "ld.lld-16")


def bench(folder: Path, source: str, entries: dict[str, str], grid: str = GRID) -> Path:
    parts = (
        f'[[snippet]]\nname = "{name}"\nsources = ["gauge.c"]\nentries = ["{name}"]\n'
        f"[snippet.inputs]\n{inputs}"
        for name, inputs in entries.items()
    )
    return write_bench(folder, grid + "".join(parts), gauge=source)


@pytest.mark.parametrize("grid", [GRID, MSP430_GRID], ids=CHIPS)
def test_sound_code_is_correct_on_the_chip(tmp_path: Path, grid: str) -> None:
    # Nobody ships float helpers for the MSP430.
    entries = {n: text for n, text in ENTRIES.items() if grid == GRID or n != "feet"}
    source = SOUND if grid == GRID else SOUND.replace("float feet", "// float feet")
    found = document("check", bench(tmp_path, source, entries, grid))["verdicts"]
    builds = {v["build"] for v in found}
    assert len(found) == len(builds) * len(entries) and len(builds) == (5 if grid == GRID else 4)
    assert {v["verdict"] for v in found} == {"correct"}, [v for v in found if v["why"]]
    assert {v["emulator"] for v in found} == {"", "simavr" if grid == GRID else "msp430 simulator"}


BROKEN = """#include <stdint.h>
int32_t beyond(const int16_t *levels, int16_t n) { int32_t sum = 0;
#ifndef __x86_64__
    n++;
#endif
    for (int16_t i = 0; i < n; i++)
        sum += levels[i];
    return sum; }
int16_t scaled(int16_t level, int16_t by) {
    return (int16_t)(level * by / 100); }
uint16_t endless(uint16_t level) {
#ifndef __x86_64__
    while (level)
        __asm__ volatile("");
#endif
    return level; }
uint16_t deep(uint16_t level) { volatile uint8_t kept[40]; kept[level % 40] = 1;
#ifndef __x86_64__
    return (uint16_t)(deep((uint16_t)(level + 1)) + kept[0]);
#endif
    return 1; }
int32_t wide(const int32_t *levels, int16_t n) { int32_t sum = 0;
    for (int16_t i = 0; i < n; i++) sum ^= levels[i]; return sum; }
int16_t nothing(int16_t level) {
#ifndef __x86_64__
    int16_t *kept = 0; __asm__ volatile("" : "+r"(kept)); level += *kept;
#endif
    return level; }
int16_t lost(int16_t level) {
#ifndef __x86_64__
    volatile int16_t *kept = (int16_t *)0x5c0; *kept = level;
#endif
    return level; }
int near(int level, unsigned long by) { return (int)(level + (long)(by % 3)); }
int far(int level) { return level / 2; }
"""


@pytest.mark.parametrize("grid", [GRID, MSP430_GRID], ids=CHIPS)
def test_broken_code_is_caught_there_with_its_line(tmp_path: Path, grid: str) -> None:
    most = 900 if grid == GRID else 6000
    entries = {
        "beyond": LEVELS, "scaled": "level = 300\nby = 200\n", "endless": "level = 1\n",
        "deep": "level = 1\n", "wide": LEVELS.replace("40", str(most)),
        "near": "level = 'uniform(-9, 9)'\nby = 7\n", "far": "level = 100000\n",
        "nothing": "level = 3\n",
        "lost": "level = 3\n",
    }  # fmt: skip
    folder = bench(tmp_path, BROKEN, entries, grid)
    answer = document("check", folder, "--call-seconds", "0.3", code=1)["verdicts"]
    found: dict[str, dict[str, Any]] = {}
    for one in answer:
        found.setdefault(one["snippet"], {})[one["build"]] = one
    for build in {name for name in found["beyond"] if not name.startswith("gcc")}:
        beyond = found["beyond"][build]
        assert (beyond["verdict"], beyond["place"]["line"]) == ("crashed", 7), beyond
        assert beyond["why"].startswith("reads levels[40], beyond its 40 elements")
        assert found["scaled"][build]["verdict"] == "wrong"  # int has 16 bits
        endless = found["endless"][build]
        assert endless["verdict"] == "hung" and endless["place"]["line"] in (13, 14), endless
        deep = found["deep"][build]
        assert deep["verdict"] == "crashed" and "the stack overflowed" in deep["why"], deep
        wide = found["wide"][build]
        assert (wide["verdict"], "do not fit" in wide["why"]) == ("not run", True), wide
        assert "through a null pointer" in found["nothing"][build]["why"]
        assert "address 0x05c" in found["lost"][build]["why"], found["lost"][build]
        far = found["far"][build]
        assert (far["verdict"], "do not fit its types" in far["why"]) == ("not run", True), far
        near = found["near"][build]
        here = next(v for name, v in found["near"].items() if name.startswith("gcc"))
        assert near["verdict"] == "correct"  # the same numbers, in other types
        assert 0 < near["input_sets"] < here["input_sets"]  # an int there does not hold all


LOOPS = {  # by hand from the published table: CALL is not counted, RET (4) is
    "nop\n nop": 2 + 4,
    "ldi r24, 10\n1: dec r24\n brne 1b": 1 + 10 + 9 * 2 + 1 + 4,
    "ldi r24, 200\n1: dec r24\n nop\n brne 1b": 1 + 200 * 2 + 199 * 2 + 1 + 4,
    "ldi r24, 0\n ldi r25, 4\n1: sbiw r24, 1\n brne 1b": 2 + 1024 * 2 + 1023 * 2 + 1 + 4,
    "ldi r18, 3\n2: ldi r24, 5\n1: dec r24\n brne 1b\n dec r18\n brne 2b":
        1 + 3 * (1 + 5 + 4 * 2 + 1 + 1) + 2 * 2 + 1 + 4,
    "push r28\n push r29\n pop r29\n pop r28": 2 * 2 + 2 * 2 + 4,
    "ldi r24, 7\n mul r24, r24\n clr r1": 1 + 2 + 1 + 4,
    "rcall 1f\n rjmp 2f\n1: ret\n2: nop": 3 + 4 + 2 + 1 + 4,
    "sbrc r1, 0\n jmp 0\n nop": 3 + 1 + 4,  # skips two words
    "cpse r1, r1\n nop\n nop": 2 + 1 + 4,
    "clr r30\n clr r31\n lpm r24, Z": 2 + 3 + 4,
    "in r24, 0x3d\n out 0x3d, r24\n lds r24, hot_anvil_entry": 1 + 1 + 2 + 4,
}  # fmt: skip


MSP430_LOOPS = {  # the same; RET takes 3, a word of memory by its address 3, a constant of use 1
    "nop\n nop": 1 + 1 + 3,
    "mov #10, r12\n1: dec r12\n jnz 1b": 2 + 10 * (1 + 2) + 3,
    "mov #200, r12\n1: nop\n sub #1, r12\n jnz 1b": 2 + 200 * (1 + 1 + 2) + 3,
    "mov #3, r13\n2: mov #5, r12\n1: dec r12\n jnz 1b\n dec r13\n jnz 2b":
        2 + 3 * (2 + 5 * (1 + 2) + 1 + 2) + 3,
    "push r10\n pop r10": 3 + 2 + 3,
    "push #1000\n push #8\n add #4, r1": 4 + 3 + 1 + 3,
    "mov &hot_anvil_values, r12\n mov r12, &hot_anvil_values": 3 + 4 + 3,
    "mov #hot_anvil_values, r12\n mov @r12, r13\n mov @r12+, r14\n mov.b -1(r12), r15":
        2 + 2 + 2 + 3 + 3,
    "mov #hot_anvil_values, r12\n rra @r12\n rrc 0(r12)\n add @r12, 0(r12)": 2 + 3 + 4 + 5 + 3,
    "call #1f\n jmp 2f\n1: ret\n2: nop": 5 + 3 + 2 + 1 + 3,
    "br #1f\n nop\n1: rra r12\n rrc r12\n swpb r12\n sxt r12": 3 + 4 + 3,
    "mov #hot_anvil_values, r12\n add #1000, 0(r12)\n bis #1, 0(r12)\n inc &hot_anvil_values":
        2 + 5 + 4 + 4 + 3,
}  # fmt: skip


@pytest.mark.parametrize("chip", CHIPS)
def test_cycles_are_those_of_the_table_and_the_same_every_time(tmp_path: Path, chip: str) -> None:
    loops = LOOPS if chip == "avr" else MSP430_LOOPS
    source = "".join(
        f'__attribute__((naked)) void loop{n}(void) {{ __asm__ volatile("{text}\\n ret"); }}\n'
        for n, text in enumerate(text.replace("\n", "\\n") for text in loops)
    )
    grid = '[flags]\nsmall = "-Os -mmcu=atmega328p"\n[grid]\ntoolchains = ["avr-gcc"]\n'
    if chip == "msp430":
        grid = '[flags]\nsmall = "-Os"\n[grid]\ntoolchains = ["clang-16@msp430"]\n'
    entries = {f"loop{n}": "" for n in range(len(loops))}
    folder = bench(tmp_path, source, entries, grid)
    first, again = (document("measure", folder)["elsewhere"] for _ in range(2))
    assert first == again
    counted = [row["candidates"][0]["counts"][0]["cycles"] for row in first]
    assert counted == list(loops.values())


def test_every_cycle_of_a_call_has_its_line(tmp_path: Path, need: Callable[..., None]) -> None:
    need("qemu-aarch64", "aarch64-linux-gnu-gcc")
    grid = GRID.replace('"avr-gcc", ', '"avr-gcc", "aarch64-linux-gnu-gcc", ').replace(
        "except = [", 'except = ["aarch64*:small", "aarch64*:fast", '
    )
    folder = bench(tmp_path, SOUND, {"crc": ENTRIES["crc"]}, grid)
    (found,) = document("measure", folder, "--seconds", "0.1")["elsewhere"][:1]
    named = {c["candidate"]: c["counts"][0].get("cycles") for c in found["candidates"]}
    seen = document("hotspots", folder, "avr-gcc:small", "aarch64-linux-gnu-gcc:here")
    one, other = seen["candidates"]
    lines = {row["line"]: row["samples"] for row in one["lines"]}
    assert one["cycles"] == sum(lines.values()) == named["avr-gcc:small"]
    assert one["seconds_per_call"] is None and max(lines, key=lambda k: lines[k]) in (7, 8)
    for row in one["lines"]:  # and each instruction its own
        assert sum(i["samples"] for i in row["instructions"]) == row["samples"]
    counted = document("measure", folder, "--seconds", "0.1")["elsewhere"]
    rows = {c["candidate"]: c["counts"][0].get("instructions") for e in counted
            for c in e["candidates"]}  # fmt: skip
    lines = {row["line"]: row["samples"] for row in other["lines"]}
    assert other["instructions"] == sum(lines.values()) == rows["aarch64-linux-gnu-gcc:here"]
    assert other["cycles"] is None and other["seconds_per_call"] is None and not seen["left_out"]


@pytest.mark.parametrize("isa", ["avr", "msp430"])
def test_what_instructions_are_said_to_take_is_what_they_took(tmp_path: Path, isa: str) -> None:
    names = ("crc", "clamp", "sorted", "root", "mixed", "divided", "filled", "turned")
    grid = GRID.replace('"clang-16@avr"', '"avr-gcc"') if isa == "avr" else MSP430_GRID
    folder = bench(
        tmp_path, SOUND.replace("float feet", "// "), {n: ENTRIES[n] for n in names}, grid
    )
    of, seen = costs_of(isa), set()
    assert of
    builds = ("avr-gcc:fast", "avr-gcc:small") if isa == "avr" else (
        "clang-16@msp430:fast", "clang-16@msp430:plain")  # fmt: skip
    for one in document("hotspots", folder, *builds)["candidates"]:
        for row in (row for line in one["lines"] for row in line["instructions"]):
            mnemonic, _, rest = row["text"].partition(" ")
            cost = of.cost(mnemonic, split_operands(rest), row["bytes"])
            assert cost, row
            seen.add(mnemonic)
            took = row["samples"]
            assert row["times"] * cost.least <= took <= row["times"] * cost.most, (row, cost)
    assert len(seen) > 25


COUNTED = """#include <stdint.h>
uint8_t counted(uint8_t n) { uint8_t c = 0;
    do { c ^= n; __asm__("swap %0" : "+r"(c)); } while (--n);
    return c; }
"""


def test_a_loops_pass_has_the_cycles_that_it_takes(tmp_path: Path) -> None:
    source = tmp_path / "count.c"
    source.write_text(COUNTED)
    words: list[str | Path] = [source, "--build", "avr-gcc -mmcu=atmega328p -Os"]
    (loop,) = document("facts", *words, "--all")["functions"][0]["loops"]
    cycles = loop["facts"]["cycles"]["value"]
    costs = []
    for n in (10, 11):
        rows = document("measure", *words, "--inputs", f"n = {n}", "--entry", "counted")[
            "elsewhere"
        ]
        costs.append(rows[0]["candidates"][0]["counts"][0]["cycles"])
    assert costs[1] - costs[0] == cycles == 1 + 1 + 1 + 2
    listed = document("listing", *words)["functions"][0]["lines"]
    branch = next(i for line in listed for i in line["instructions"] if i["mnemonic"] == "brne")
    assert branch["cycles"] == {"least": 1, "most": 2}
    assert "2 if taken" in hot_anvil("explain", "--target", "avr", "brne").stdout


TIMED = """#include <avr/io.h>
static void pause_for(uint8_t n) { while (n--) __asm__ volatile("nop"); }
uint16_t timed(uint8_t n) {
    TCCR1B = 1; TCNT1 = 0; pause_for(n); uint16_t t = TCNT1; TCCR1B = 0; return t; }
void waits(uint8_t n) { pause_for(n); }
"""


def test_a_timer_in_the_firmware_says_the_same(tmp_path: Path) -> None:
    grid = '[flags]\nsmall = "-Os -mmcu=atmega328p"\n[grid]\ntoolchains = ["avr-gcc"]\n'
    differences = set()
    for n in (10, 60, 200):
        folder = bench(
            tmp_path / str(n), TIMED, {"timed": f"n = {n}\n", "waits": f"n = {n}\n"}, grid
        )
        values = document("check", folder, "--values")["values"]
        read = next(int(v["output"].split()[1]) for v in values if v["snippet"] == "timed")
        rows = document("measure", folder)["elsewhere"]
        cycles = {r["snippet"]: r["candidates"][0]["counts"][0]["cycles"] for r in rows}
        differences.add(cycles["waits"] - read)
    assert len(differences) == 1  # the call's own return, and reading the timer


def test_what_a_chip_cannot_do_is_said(tmp_path: Path) -> None:
    feet = {"feet": ENTRIES["feet"]}
    without = bench(tmp_path / "a", SOUND, feet, GRID.replace(" -mmcu=atmega328p", ""))
    found = {v["build"]: v for v in document("check", without)["verdicts"]}
    verdict = found["avr-gcc:small"]
    assert (verdict["verdict"], "-mmcu=" in verdict["why"]) == ("not run", True)
    unknown = bench(tmp_path / "b", SOUND, feet, GRID.replace("atmega328p", "atmega999x"))
    found = {v["build"]: v for v in document("check", unknown)["verdicts"]}
    assert found["avr-gcc:small"]["verdict"] == "refused"


EXPECTING = """
[[snippet.expect]]
entry = "crc"
facts = { cycles = "<= 1200", "deepest stack" = "<= 40" }
at = "n=9"
[[snippet.expect]]
entry = "crc"
builds = ["fast"]
facts = { cycles = "<= 1200" }
"""


def test_cycles_are_expected_grow_and_are_time_by_the_chips_clock(tmp_path: Path) -> None:
    grid = GRID.replace("[grid]\n", "[grid]\nclock_hz = 8e6\n").replace(
        'fast = "', 'fast = "-DF_CPU=16000000UL '
    )
    inputs = ENTRIES["crc"].replace("n = 9", 'n = "n"')
    folder = bench(tmp_path, SOUND, {"crc": inputs}, grid)
    bench_file = folder / "anvil.toml"
    plain = bench_file.read_text() + "[snippet.sweep]\nn = [4, 9, 30]\n"
    bench_file.write_text(plain + EXPECTING)
    (measured,) = document("measure", folder, "--seconds", "0.1")["elsewhere"]
    rows = {row["candidate"]: row for row in measured["candidates"]}
    for build, clock in (("avr-gcc:small", 8e6), ("avr-gcc:fast", 16e6)):
        for count in rows[build]["counts"]:
            assert count["seconds"] == count["cycles"] / clock
    growth = {line["candidate"]: line for line in measured["scaling"]}
    assert growth["avr-gcc:small"]["straight"] and 80 < growth["avr-gcc:small"]["per_element"] < 130
    found = document("expect", folder, code=1)["outcomes"]
    told = {(one["build"], one["fact"], one["line"]): one for one in found}
    first, last = (min(k[2] for k in told), max(k[2] for k in told))
    assert told["avr-gcc:small", "cycles", first]["state"] == "held"
    assert told["avr-gcc:small", "deepest stack", first]["state"] == "held"
    assert told["gcc-12:here", "cycles", first]["state"] == "not known"  # no chip
    failed = told["avr-gcc:fast", "cycles", last]
    assert failed["state"] == "failed" and "(n=30)" in failed["found"], failed
    bench_file.write_text(plain + EXPECTING.replace("n=9", "n=8"))
    said = hot_anvil("expect", folder)
    assert said.returncode == 2 and "there are no inputs 'n=8'" in said.stderr
    bench_file.write_text(plain.replace("8e6", '"8 MHz"'))
    said = hot_anvil("measure", folder)
    assert said.returncode == 2 and "must be a number of hertz" in said.stderr


def test_chips_of_other_sizes_run_too_and_a_refused_build_is_left_out(tmp_path: Path) -> None:
    source = tmp_path / "frame.c"
    kept = "uint8_t kept[40]; const uint8_t marks[10] = { 1 }; int16_t first = 7;\n"
    source.write_text(SOUND + kept + "#ifdef BAD\n#error no\n#endif\n")
    words: list[str | Path] = [source, "--entry", "crc"]
    # Two and three bytes of return address; little memory; a build that does not compile.
    for flags in ("-mmcu=atmega2560", "-mmcu=attiny85", "-mmcu=atmega328p -DBAD"):
        words += ["--build", f"avr-gcc -Os {flags}"]
    words += ["--build", "gcc -O1", "--inputs", ENTRIES["crc"].splitlines()[0], "--inputs", "n = 9"]
    found = document("measure", *words, "--seconds", "0.1")
    rows = [(e["target"], e["candidates"][0]["counts"][0]["cycles"]) for e in found["elsewhere"]]
    assert [chip for chip, _ in rows] == ["atmega2560", "attiny85"]
    for taken in (e["candidates"][0] for e in found["elsewhere"]):
        # Constants lie in RAM too, and the one table that a function fills may be gone.
        assert taken["ram_bytes"] in (40 + 10 + 2, 40 + 10 + 2 + 16), taken
        assert 400 < taken["flash_bytes"] < 4000 and taken["stack_bytes"] < 40
    assert all(500 < cycles < 2000 for _, cycles in rows)
    assert [v["verdict"] for v in found["excluded"]] == ["refused"]
    assert [r["candidate"] for r in found["results"]] == ["gcc-12 -O1"]


def test_helpers_that_stand_in_for_the_chips_own_are_named(tmp_path: Path) -> None:
    source = "unsigned rest(unsigned level, unsigned by) { return level % (by | 1); }\n"
    named: dict[str, list[str]] = {}
    for grid in (GRID, MSP430_GRID):
        inputs = {"rest": "level = 3000\nby = 7\n"}
        folder = bench(tmp_path / str(len(named)), source, inputs, grid)
        for one in document("measure", folder, "--seconds", "0.05")["elsewhere"]:
            named[one["target"]] = sorted({n for c in one["candidates"] for n in c["stand_ins"]})
    assert named == {"atmega328p": [], "msp430": ["__mspabi_remu"]}
