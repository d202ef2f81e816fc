"""What stands beside times: counts, growth, hotspots, programs, outside times, history."""

import json
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import document, hot_anvil, refused, write_bench
from hot_anvil.core.measure.hotspots import share_of
from hot_anvil.core.measure.imported_times import read_times
from hot_anvil.core.measure.scaling import fit_line, gain_of
from hot_anvil.core.measure.sharing import reaches
from hot_anvil.errors import RequestError


def bench(folder: Path, source: str, tables: str, flags: str = 'fast = "-O2"') -> Path:
    """Write a bench with one snippet, ``tide``, for gcc."""
    (folder / "tide.c").write_text(source)
    return write_bench(
        folder,
        f'[flags]\n{flags}\n[grid]\ntoolchains = ["gcc"]\n'
        f'[[snippet]]\nname = "tide"\nsources = ["tide.c"]\n{tables}\n',
    )


LOOP = """
__asm__(".globl swell\\n.type swell, @function\\nswell:\\n"
        "  mov %edi, %eax\\n1: dec %eax\\n  jnz 1b\\n"
        "  lea -64(%rsp), %rdi\\n  mov $5, %ecx\\n  rep stosb\\n  ret\\n"
        ".size swell, .-swell");
int swell(int n);
int ebb(int n) { return swell(n) + 1; }
"""


def test_counts_are_exact_and_repeated_strings_count_once(
    tmp_path: Path, need: Callable[..., None]
) -> None:
    need("qemu-x86_64")
    where = bench(
        tmp_path, LOOP, 'entries = ["ebb"]\n[snippet.sweep]\nn = [1, 50]\n[snippet.inputs]\nn = "n"'
    )
    found = document("measure", where, "--seconds", "0.05", "--count")
    listed = document("listing", where, "gcc:fast", "--entry", "ebb")
    (own,) = listed["functions"]
    around = sum(len(line["instructions"]) for line in own["lines"])
    # mov, lea, mov, rep stosb, ret; and two for each of n passes.
    expected = {f"n={n}": around + 5 + 2 * n for n in (1, 50)}
    assert {r["inputs"]: r["instructions"] for r in found["results"]} == expected
    assert "QEMU" in found["results"][0]["counted_by"]
    asks = "import ctypes; print(ctypes.CDLL(None).ptrace(0, 0, 0, 0))"  # to be traced
    if subprocess.check_output([sys.executable, "-c", asks], text=True).strip() != "0":
        return  # this system lets nobody step through a process
    # Where no emulator can, the processor itself is stepped: the same, to the instruction.
    tools = tmp_path / "bin"
    tools.mkdir()
    for name in ("gcc", "g++", "as", "ld", "objdump", "objcopy", "sh"):
        (tools / name).symlink_to(str(shutil.which(name)))
    words: list[str | Path] = ["measure", where, "--seconds", "0.05", "--count", "--format", "json"]
    stepped = json.loads(hot_anvil(*words, PATH=str(tools)).stdout)["results"]
    assert {r["inputs"]: r["instructions"] for r in stepped} == expected
    assert "stepped through on this processor" in stepped[0]["counted_by"]


SUM = """
#include <stdlib.h>
#define N __attribute__((noinline))
static N long cheap(int n) { return n * 2; }
static N long dear(const int *levels, int n)
{
    long s = 1;
    for (int i = 0; i < n; i++)
        s += (s ^ levels[i]) / (i | 7);
    return s;
}
long tide(const int *levels, int n) { return cheap(n) + dear(levels, n); }
"""
INPUTS = '[snippet.inputs]\nlevels = { fill = "uniform(0, 99)", count = "n" }\nn = "n"'
SIZES = "[snippet.sweep]\nn = [64, 512, 4096]\n"


def test_times_over_sizes_give_costs_per_call_and_per_element(tmp_path: Path) -> None:
    where = bench(tmp_path, SUM, f'entries = ["tide"]\nper = "n"\n{SIZES}{INPUTS}')
    found = document("measure", where, "--seconds", "0.2")
    (line,) = found["scaling"]
    assert line["straight"] and line["per_element"] > 1e-10
    for row in found["results"]:
        if row["inputs"] != "all":
            n = int(row["inputs"].removeprefix("n="))
            assert row["seconds_per_element"] == pytest.approx(row["seconds_per_call"] / n)
            assert row["first_seconds"] > 0


@settings(deadline=None)
@given(st.floats(0, 1e-6), st.floats(1e-10, 1e-8))
def test_a_straight_line_is_found_again(fixed: float, each: float) -> None:
    sizes = (16, 256, 4096, 65536)
    found = fit_line(sizes, [fixed + each * n for n in sizes])
    assert found == pytest.approx((fixed, each, 0), rel=1e-6, abs=1e-9)


def test_where_the_time_goes_is_found_by_line_and_function(tmp_path: Path) -> None:
    where = bench(tmp_path, SUM, f'entries = ["tide"]\n{SIZES}{INPUTS}', 'fast = "-O1"')
    found = document("hotspots", where, "gcc:fast", "--seconds", "0.4", "--at", "n=4096")
    (one,) = found["candidates"]
    shares = {f["name"]: f["share"] for f in one["functions"]}
    assert shares["dear"] > 0.9 and shares.get("cheap", 0) < 0.05
    hot = {line["line"] for line in one["lines"] if line["share"] > 0.05}
    assert hot <= {8, 9} and 9 in hot
    for line in one["lines"]:
        assert sum(i["samples"] for i in line["instructions"]) == line["samples"]
    text = hot_anvil("hotspots", where, "gcc:fast", "--at", "n=4096", "--seconds", "0.1").stdout
    assert "s += (s ^ levels[i]) / (i | 7);" in text
    assert "n=64, n=512" in refused("hotspots", where, "--at", "n=1")


def test_two_builds_are_looked_at_beside_their_diff_where_a_bench_has_both(demo: Path) -> None:
    # Other snippets of the demo have no gcc:lean.
    words = ("hotspots", demo, "gcc:lean", "gcc:fast", "--entry", "clamp_branch")
    found = document(*words, "--seconds", "0.1")
    assert [one["snippet"] for one in found["candidates"]] == ["clamp", "clamp"]
    states = {line["state"] for one in found["candidates"] for line in one["lines"]}
    assert "changed" in states
    text = hot_anvil(*words, "--seconds", "0.1", COLUMNS="80").stdout
    assert "[1] clamp_branch@gcc-12:lean" in text and max(map(len, text.splitlines())) <= 80


@settings(deadline=None)
@given(st.lists(st.integers(0, 100), min_size=2, max_size=6))
def test_shares_are_of_all_looks_and_their_error_covers_the_processes(hits: list[int]) -> None:
    found = share_of(hits, [100] * len(hits))
    assert found.share == pytest.approx(sum(hits) / (100 * len(hits)))
    alike = share_of([sum(hits)], [100 * len(hits)])
    assert found.error >= alike.error


PROGRAM = """
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
long tide(const int *levels, int n);
int main(int argc, char **argv)
{
    static int levels[4096];
    int n = atoi(argv[1]), wide = argc > 2 ? 32 << 20 : 1;
    volatile char *much = malloc(wide);
    for (int i = 0; i < wide; i += 512) much[i] = 1;
    for (int i = 0; i < 4096; i++) levels[i] = i % 50;
    long sum = 0;
    for (int r = 0; r < n; r++) sum += tide(levels, 4096);
    printf("%ld\\n", sum);
    return 0;
}
"""


def test_programs_are_timed_with_memory_and_an_entrys_share_is_measured(tmp_path: Path) -> None:
    (tmp_path / "main.c").write_text(PROGRAM)
    runs = "".join(f"[[snippet.run]]\narguments = {a}\n" for a in (["40"], ["400", "wide"]))
    where = bench(
        tmp_path,
        TWICE,
        f'entries = ["tide"]\nshare = {{ program = "whole" }}\n{SIZES}{INPUTS}\n'
        f'[[snippet]]\nname = "whole"\nsources = ["main.c", "tide.c"]\nprogram = true\n{runs}',
        'plain = "-O0 -DTIMES=2"\nfast = "-O2 -DTIMES=2"',
    )
    found = document("measure", where, "--snippet", "whole", "--seconds", "0.1")
    rows = {(r["inputs"].split()[1], r["candidate"]): r for r in found["results"]}
    short, long = (rows[number, "gcc-12:fast"] for number in ("1", "2"))
    assert long["seconds_per_call"] > 2 * short["seconds_per_call"]
    assert short["cpu_seconds"] < 1 and short["peak_bytes"] < 16 << 20 < long["peak_bytes"]
    picked = document("pick", where, "--snippet", "tide", "--seconds", "0.05")
    assert 0.05 < picked["share"]["tide"] <= 1
    against = 1 - picked["share"]["tide"]
    assert against < picked["gain"]["tide"] < 1  # -O2 takes less than the baseline's -O0
    assert gain_of(0.5, 0.4) == pytest.approx(0.8)


TWICE = """
long tide(const int *levels, int n)
{
    long s = 0;
    for (int r = 0; r < TIMES; r++)
        for (int i = 0; i < n; i++) s ^= levels[i] * s;
    return s;
}
"""


def test_automation_fails_when_something_is_slower_and_the_choice_goes_by_preference(
    tmp_path: Path,
) -> None:
    flags = 'once = "-O1 -DTIMES=1"\ntwice = "-O1 -DTIMES=2"'
    where = bench(tmp_path, TWICE, f'entries = ["tide"]\n{SIZES}{INPUTS}', flags)
    given = ("--seconds", "0.1", "--fail-if-slower-than")
    found = document("measure", where, *given, "gcc:once", code=1)
    assert {row["candidate"] for row in found["slower"]} == {"gcc-12:twice"}
    picked = hot_anvil("pick", where, *given, "gcc:once", "--prefer", "compile,code")
    assert picked.returncode == 0 and "nothing is told slower than under gcc:once" in picked.stdout
    assert "gcc-12:once" in refused("measure", where, *given, "gcc:onec")
    assert "no order" in refused("pick", where, "--prefer", "speed")


def test_several_threads_call_at_once(tmp_path: Path) -> None:
    where = bench(tmp_path, SUM, f'entries = ["tide"]\nthreads = 2\n{SIZES}{INPUTS}')
    found = document("measure", where, "--seconds", "0.1")
    assert all(row["seconds_per_call"] > 0 for row in found["results"] if row["inputs"] != "all")
    assert found["measurements"][0]["one_process"] == []


OUTSIDE = "candidate,value,unit,run,calls\n"


def outside_rows(unit: str, values: dict[str, list[float]]) -> str:
    rows = [f"{name},{v},{unit},{run},1\n" for name, row in values.items()
            for run, v in enumerate(row)]  # fmt: skip
    return OUTSIDE + "".join(rows)


def test_imported_times_take_part_in_the_statistics_whatever_their_unit(tmp_path: Path) -> None:
    flags = 'once = "-O1 -DTIMES=1"\ntwice = "-O1 -DTIMES=2"'
    where = bench(tmp_path, TWICE, f'entries = ["tide"]\n{SIZES}{INPUTS}', flags)
    drift = [1.0, 1.3, 0.8, 1.1, 1.7, 0.9, 1.2, 1.05]
    seconds = {"gcc-12:once": [2e-3 * d for d in drift], "gcc-12:twice": [4e-3 * d for d in drift]}
    file = tmp_path / "times.csv"
    seen = []
    for unit, rows in (
        ("s", seconds),
        ("ms", {k: [v * 1e3 for v in row] for k, row in seconds.items()}),
        ("kHz", {k: [1e-3 / v for v in row] for k, row in seconds.items()}),
        ("cycles@16MHz", {k: [v * 16e6 for v in row] for k, row in seconds.items()}),
    ):
        file.write_text(outside_rows(unit, rows))
        found = document("measure", where, "--imported", file)
        slow = next(r for r in found["results"] if r["candidate"] == "gcc-12:twice")
        seen.append((slow["seconds_per_call"], slow["ratio"], slow["word"]))
    assert seen[0][1:] == (pytest.approx(2), "slower")
    for other in seen[1:]:
        assert other[:2] == pytest.approx(seen[0][:2], rel=1e-9) and other[2] == "slower"


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("candidate,value\n", "unit is missing"),
        ("candidate,value,unit,clock\n", "no column 'clock'"),
        (OUTSIDE + "a,1,week,1,1\n", "t.csv:2: 'week' is no unit"),
        (OUTSIDE + "a,1,ms,1,1\n\na,-3,ms,2,1\n", "t.csv:4: value: '-3' is not a number above 0"),
        (OUTSIDE, "no times"),
        ("", "first row"),
    ],
)
def test_wrong_files_of_times_are_told_by_line(text: str, told: str) -> None:
    with pytest.raises(RequestError, match=None) as raised:
        read_times(text, "t.csv")
    assert told in str(raised.value)


def test_history_compares_by_code_that_did_not_change(tmp_path: Path) -> None:
    source = TWICE.replace("long tide", "long (tide)")
    flags = 'once = "-O1 -DTIMES=1"\nedited = "-O1 -DTIMES=EDITED"'
    where = bench(tmp_path, "#define EDITED 1\n" + source, f"{SIZES}{INPUTS}", flags)
    assert "nothing was measured" in refused("history", where)
    quick = ("--seconds", "0.1")
    hot_anvil("measure", where, *quick)
    (tmp_path / "tide.c").write_text("#define EDITED 4\n" + source)
    hot_anvil("measure", where, *quick)
    kept = document("history", where)["measurements"]
    assert len(kept) == 6 and len({m["machine"] for m in kept}) == 1
    found: dict[str, Any] = {}
    for one in document("history", where, "--compare")["compared"]:
        assert one["yardstick"] == "gcc-12:once"
        found = {change["candidate"]: change for change in one["changes"]}
        assert found["gcc-12:edited"]["word"] == "slower" and found["gcc-12:edited"]["ratio"] > 2
        assert found["gcc-12:edited"]["changed"] == "code"
        assert found["gcc-12:once"]["changed"] == "nothing"
    assert "yardstick" in hot_anvil("history", where, "--compare").stdout
    assert "no such measurement" in refused("history", where, "--compare", "1", "999")


def test_earlier_code_is_measured_beside_the_code_now(tmp_path: Path) -> None:
    both = TWICE + TWICE.replace("long tide", "long swell")
    flags = 'lean = "-O1 -DTIMES=1"\nfast = "-O1 -funroll-loops -DTIMES=1"'
    where = bench(tmp_path, both, f'entries = ["tide", "swell"]\n{SIZES}{INPUTS}', flags)
    quick = ("--seconds", "0.1")
    assert "nothing was measured" in refused("measure", where, *quick, "--earlier")
    hot_anvil("measure", where, *quick)
    assert "other than the code now" in refused("measure", where, *quick, "--earlier")
    # The same result, three times the work; the rival stays as it was.
    edited = TWICE.replace("r < TIMES", "r < 3 * TIMES")
    (tmp_path / "tide.c").write_text(edited + TWICE.replace("long tide", "long swell"))
    found = document("measure", where, *quick, "--earlier")
    changed = {(r["candidate"], r["inputs"]): r for r in found["earlier"] if not r["same_code"]}
    assert {name for name, _ in changed} == {"tide@gcc-12:lean", "tide@gcc-12:fast"}
    for (name, inputs), row in changed.items():
        assert row["earlier"].startswith(f"{name}#") and inputs
        assert row["word"] in ("slower", "not enough data") and row["ratio"] > 2
    same = [row for row in found["earlier"] if row["same_code"]]
    assert len(same) == 6 and not any(
        row["word"] == "faster" and row["ratio"] < 0.5 for row in same
    )
    kept = document("history", where)["measurements"]
    first = str(kept[0]["number"])
    text = hot_anvil("measure", where, *quick, "--earlier", first).stdout
    assert "beside earlier code" in text and "6 more have the same code as then" in text
    assert not any("#" in entry["candidate"] for state in kept for entry in state["entries"])
    assert "no such measurement" in refused("measure", where, "--earlier", "99")
    given = ("--earlier", first, "--fail-if-slower-than", "earlier")
    slower = document("measure", where, "--seconds", "0.4", *given, code=1)["slower"]
    assert {row["candidate"] for row in slower} <= {"tide@gcc-12:lean", "tide@gcc-12:fast"}
    assert "No build is called 'earlier'" in refused("measure", where, *given[2:])
    told = document("history", where, "--compare", first, str(kept[3]["number"]))["compared"][0]
    assert told["yardstick"].startswith("swell")
    assert {c["changed"] for c in told["changes"] if c["candidate"].startswith("swell")} == {
        "nothing"
    }


@pytest.mark.parametrize(
    ("symbols", "first"),
    [
        (("memcpy@GLIBC_2.14", "sqrtf", "__stack_chk_fail", "__udivti3"), ""),
        (("memcpy", "malloc"), "malloc"),
        (("printf", "strtok"), "printf"),
    ],
)
def test_only_what_keeps_to_itself_shares_a_process(symbols: tuple[str, ...], first: str) -> None:
    assert reaches(symbols) == first


def test_a_build_that_cannot_share_is_timed_in_a_process_of_its_own(tmp_path: Path) -> None:
    source = SUM.replace("return s;", "void *p = malloc(8); free(p); return s + !p;")
    where = bench(tmp_path, source, f'entries = ["tide"]\n{SIZES}{INPUTS}', 'fast = "-O2"')
    found = document("measure", where, "--seconds", "0.05")
    assert (
        found["measurements"][0]["one_process"] == []
        and found["results"][0]["seconds_per_call"] > 0
    )
    shared = bench(tmp_path, SUM, f'entries = ["tide"]\n{SIZES}{INPUTS}')
    for more, process in (((), ["gcc-12:fast"]), (("--apart",), [])):
        found = document("measure", shared, "--seconds", "0.05", *more)
        assert found["measurements"][0]["one_process"] == process
