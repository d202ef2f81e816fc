"""What is shown of a candidate counts: verdicts, exit codes, what may be picked."""

import shlex
import subprocess
from pathlib import Path
from typing import Any

import pytest

from conftest import document, hot_anvil, refused, write_bench

HASTY = """#include <stdint.h>
int32_t room(int32_t level, int32_t step)
{
    int32_t sum = level + step;
    return sum > level ? sum : level;
}
"""
GRID = '[flags]\nplain = "-O0"\nwraps = "-O0 -fwrapv"\n[grid]\ntoolchains = ["gcc"]\n'
SNIPPET = (
    '[[snippet]]\nsources = ["room.c"]\n[snippet.inputs]\n'
    'level = "choice(2147483647, 5)"\nstep = "uniform(1, 9)"\n'
)


def states(found: Any) -> dict[str, str]:
    return {row["build"]: row["verdict"] for row in found["verdicts"]}


def test_what_is_shown_to_be_undefined_is_not_picked_unless_accepted(tmp_path: Path) -> None:
    write_bench(tmp_path, GRID + SNIPPET, room=HASTY)
    found = document("check", tmp_path, code=1)
    assert states(found) == {"gcc-12:plain": "undefined", "gcc-12:wraps": "correct"}
    (row,) = (v for v in found["verdicts"] if v["verdict"] == "undefined")
    assert "signed integer overflow" in row["why"] and row["place"]["line"] == 4
    assert hot_anvil("check", tmp_path, "--accept", "undefined").returncode == 0
    assert hot_anvil("check", tmp_path, "--accept", "wrong").returncode == 1
    picked = document("pick", tmp_path, "--seconds", "0.02")
    assert picked["choice"]["room"] == "gcc-12:wraps"
    assert [v["verdict"] for v in picked["excluded"]] == ["undefined"]
    reason = 'accept = { undefined = "levels stay below 10 m" }\n'
    write_bench(tmp_path, GRID.replace('wraps = "-O0 -fwrapv"\n', "") + SNIPPET, room=HASTY)
    assert document("pick", tmp_path, code=1)["choice"] == {"room": None}
    bench = tmp_path / "anvil.toml"
    bench.write_text(bench.read_text().replace("[snippet.inputs]", f"{reason}[snippet.inputs]"))
    assert document("check", tmp_path)["verdicts"][0]["accepted"] == "levels stay below 10 m"
    picked = document("pick", tmp_path, "--seconds", "0.02")
    assert picked["choice"]["room"] == "gcc-12:plain"
    assert "levels stay below 10 m" in picked["caution"]["room"]


def test_what_may_be_accepted_is_checked(tmp_path: Path) -> None:
    wrong = SNIPPET.replace("[snippet.inputs]", 'accept = { undefind = "x" }\n[snippet.inputs]')
    write_bench(tmp_path, GRID + wrong, room=HASTY)
    assert "undefined" in refused("check", tmp_path)
    assert "wrong, unstable" in refused("check", tmp_path, "--accept", "wrng")


def test_a_fault_of_one_snippet_leaves_the_others_their_verdicts(tmp_path: Path) -> None:
    lost = '[[snippet]]\nname = "lost"\nsources = ["room.c"]\nentries = ["rom"]\n'
    write_bench(tmp_path, GRID + SNIPPET + lost, room=HASTY.replace("level + step", "level"))
    found = document("check", tmp_path, code=2)
    assert set(states(found).values()) == {"correct"}
    (fault,) = found["faults"]
    assert fault["snippet"] == "lost" and "'rom'" in fault["why"]
    picked = document("pick", tmp_path, "--seconds", "0.02", code=2)
    assert picked["choice"]["room"] and picked["choice"]["lost"] is None
    assert "could not be checked" in hot_anvil("check", tmp_path).stdout


LEFT = """#include <fenv.h>
#include <signal.h>
#include <stdlib.h>
#include <unistd.h>
int same(int x) { return x + 1; }
int rounds(int x) { fesetround(FE_UPWARD); return x + 1; }
int shuts(int x) { for (int i = 0; i < 200; i++) close(i); return x + 1; }
int goes(int x) { return chdir("/") ? 0 : x + 1; }
int blocks(int x) { sigset_t s; sigfillset(&s); sigprocmask(SIG_BLOCK, &s, 0); return x + 1; }
int sets(int x) { setenv("TIDE", "high", 1); return x + 1; }
int moves(int x) { __asm__ volatile("movd %0, %%mm0" : : "r"(x)); return x + 1; }
"""


LEFT_CHANGED = {
    "rounds": "how floats are rounded", "shuts": "which descriptors are open",
    "goes": "the working folder", "blocks": "which signals are blocked",
    "sets": "the environment", "moves": "the x87 stack",
}  # fmt: skip


def test_what_a_call_leaves_changed_is_told_and_harms_no_later_call(tmp_path: Path) -> None:
    source = tmp_path / "left.c"
    source.write_text(LEFT)
    words: list[str | Path] = ["check", source, "--build", "gcc -O0 -w"]
    words += ["--inputs", 'x = "uniform(0, 9)"']
    entries = [word for name in ("same", *LEFT_CHANGED) for word in ("--entry", name)]
    found = {v["entry"]: v for v in document(*words, *entries, code=1)["verdicts"]}
    assert found.pop("same")["verdict"] == "correct"
    for name, told in LEFT_CHANGED.items():
        assert found[name]["verdict"] == "wrong" and told in found[name]["why"], found[name]
    # What all candidates leave changed is how the code is: judged by its results.
    for name in ("rounds", "shuts"):
        alone = document(*words, "--entry", name)["verdicts"]
        assert alone[0]["verdict"] == "correct", alone


UNSET = """
struct mark { char kind; int level; };
int flag(int x) { int ready; int *volatile p = &ready; if (x > 99) *p = 1; return *p ? x : -x; }
int deep(int x) { int t[80000]; int *volatile p = t; if (x > 99) p[3] = 1; return x + p[3] % 2; }
int padding(int x)
{
    struct mark m;
    struct mark *volatile p = &m;
    p->kind = 1, p->level = x;
    return ((unsigned char *)p)[1];
}
"""


@pytest.mark.parametrize("entry", ["flag", "deep", "padding"])
def test_values_never_set_come_out_otherwise(tmp_path: Path, entry: str) -> None:
    source = tmp_path / "unset.c"
    source.write_text(UNSET)
    words = ["--build", "gcc -O0 -w", "--inputs", "x = 3", "--entry", entry]
    (verdict,) = document("check", source, *words, code=1)["verdicts"]
    assert verdict["verdict"] == "unstable"


def test_a_fill_means_the_same_written_short(tmp_path: Path) -> None:
    source = tmp_path / "band.c"
    source.write_text("int band(int level) { return level == 100 && ODD ? 0 : level; }\n")
    builds = ["--build", "gcc -O1 -DODD=0", "--build", "gcc -O1 -DODD=1"]
    found = [
        document("check", source, *builds, "--inputs", f"level = {text}", code=1)
        for text in ('"uniform(0, 100)"', '{ fill = "uniform(0, 100)" }')
    ]
    assert states(found[0]) == states(found[1]) and "wrong" in states(found[0]).values()
    assert found[0]["verdicts"][0]["input_sets"] == found[1]["verdicts"][0]["input_sets"]


def test_a_file_with_main_is_a_program(tmp_path: Path) -> None:
    source = tmp_path / "log.c"
    source.write_text('#include <stdio.h>\nint main(void)\n{\n    puts("3 tides");\n}\n')
    found = document("check", source, "--build", "gcc -O0", "--build", "gcc -O2")
    assert set(states(found).values()) == {"correct"}
    assert hot_anvil("start", source).returncode == 0
    assert set(states(document("check", tmp_path)).values()) == {"correct"}


ODD_CODE = """#include <stdint.h>
thread_local int32_t seen;
struct none {};
int32_t once(int32_t level) { seen = level; return seen + 1; }
int32_t nothing(none, int32_t level) { return level; }
"""
INLINED = """
int inner(int x) { return x * 3; }
int outer(int x) { return inner(x) + inner(x + 1); }
"""


@pytest.mark.parametrize("compiler", ["g++", "clang++-16"])
def test_thread_local_variables_and_empty_structs_are_no_fault(
    tmp_path: Path, compiler: str
) -> None:
    source = tmp_path / "odd.cpp"
    source.write_text(ODD_CODE)
    words = ["--build", f"{compiler} -O2", "--inputs", "level = 3", "--entry"]
    (verdict,) = document("check", source, *words, "once")["verdicts"]
    assert verdict["verdict"] == "correct"
    assert "struct none" in refused("check", source, *words, "nothing")


@pytest.mark.parametrize("compiler", ["gcc", "clang-16"])
def test_an_entry_that_is_inlined_as_well_can_be_called(tmp_path: Path, compiler: str) -> None:
    source = tmp_path / "inner.c"
    source.write_text(INLINED)
    words = ["--build", f"{compiler} -O2", "--entry", "inner", "--inputs", "x = 3"]
    assert document("check", source, *words)["verdicts"][0]["verdict"] == "correct"


def test_flags_that_make_no_assembly_are_told(tmp_path: Path) -> None:
    source = tmp_path / "inner.c"
    source.write_text(INLINED)
    assert "-emit-llvm" in refused("compile", source, "--build", "clang-16 -O2 -emit-llvm")


RARE = """#include <stdint.h>
int32_t band(int32_t level) { return level == 77 ? ODD : level; }
int32_t port(int32_t level)
{
    switch (level) {
    case 310: return 1;
    case 499: return 2 + ODD;
    case 1207: return 3;
    }
    return 0;
}
int32_t range(int32_t level) { return level >= 4000 && level <= 4004 ? ODD : level; }
int32_t sum(const int16_t *levels, int32_t n)
{
    int32_t all = 0;
    for (int32_t i = 0; i < n; i++) all += levels[i] == 1234 ? ODD : 7;
    return all;
}
"""
LEVELS = 'levels = { fill = "uniform(-3000, 3000)", count = 9 }'


@pytest.mark.parametrize(
    ("entry", "inputs"),
    [
        ("band", ['level = "uniform(0, 9000)"']),
        ("port", ['level = "uniform(0, 9000)"']),
        ("range", ['level = "uniform(0, 9000)"']),
        ("sum", [LEVELS, "n = 9"]),
    ],
)
def test_numbers_that_the_code_compares_with_are_tried(
    tmp_path: Path, entry: str, inputs: list[str]
) -> None:
    source = tmp_path / "rare.c"
    source.write_text(RARE)
    words = [word for text in inputs for word in ("--inputs", text)]
    builds = [word for odd in (0, 1) for word in ("--build", f"gcc -O1 -DODD={odd}")]
    found = document("check", source, "--entry", entry, *builds, *words, code=1)
    assert found["verdicts"][1]["edge"] == "constants"
    # Not beyond the range that the bench gives.
    narrow = [word.replace("9000", "70").replace("3000", "70") for word in words]
    assert set(states(document("check", source, "--entry", entry, *builds, *narrow)).values()) == {
        "correct"
    }


STEPS = """#include <stdint.h>
typedef struct { uint32_t seed; } gauge;
uint32_t next(gauge *g)
{
    uint32_t x = g->seed;
    for (int i = 0; i < 3 * STEPS; i++) __asm__ volatile("imul %0, %0" : "+r"(x));
    return g->seed += 3;
}
"""


def test_short_calls_that_change_their_state_are_not_timed_with_the_clock(tmp_path: Path) -> None:
    source = tmp_path / "next.c"
    source.write_text(STEPS)
    builds = [word for n in (1, 8) for word in ("--build", f"gcc -O1 -DSTEPS={n}")]
    given = ["--inputs", 'g = { fill = "uniform(1, 1000)", count = 1 }', "--seconds", "0.2"]
    found = document("measure", source, *builds, *given)
    (point,) = found["measurements"]
    assert point["each_call_alone"] and point["copies"] > 100
    # One step against eight: with the clock's time in each call it was less than half as much.
    assert found["results"][1]["ratio"] > 2


VARIABLES = """#include <stdint.h>
#ifdef __OPTIMIZE_SIZE__
#define CALLS 1
#else
#define CALLS 0
#endif
int32_t table[16];
static int32_t seen;
int32_t count(void) { return seen; }
void fill(const int16_t *levels, int32_t n)
{
    for (int32_t i = 0; i < n && i < 16; i++) table[i] = levels[i] + (i == 7 ? TABLE : 0);
    seen += n + COUNT;
}
int32_t total(int32_t x)
{
    static int32_t calls;
    calls += x + CALLS;
    return x + (calls > 100000000);
}
"""


@pytest.mark.parametrize(
    ("entry", "off", "told"),
    [("fill", "TABLE", "table[7]"), ("fill", "COUNT", "seen"), ("total", "CALLS", "calls")],
)
def test_results_left_in_variables_are_compared_by_name(
    tmp_path: Path, entry: str, off: str, told: str
) -> None:
    source = tmp_path / "fill.c"
    source.write_text(VARIABLES)
    right = "-DTABLE=0 -DCOUNT=0"
    wrong = right.replace(f"{off}=0", f"{off}=1")
    compilers = ["gcc -O1", "gcc -O3", "clang-16 -O2"]
    builds = [word for how in compilers for word in ("--build", f"{how} {right}")]
    builds += ["--build", f"gcc {'-Os' if off == 'CALLS' else '-O2'} {wrong}"]
    levels = 'levels = { fill = "uniform(-30, 30)", count = "n" }'
    given = [levels, "n = 12"] if entry == "fill" else ['x = "uniform(0, 9)"']
    words = [word for text in given for word in ("--inputs", text)]
    found = document("check", source, "--entry", entry, *builds, *words, code=1)
    assert [v["verdict"] for v in found["verdicts"]] == ["correct"] * 3 + ["wrong"]
    row = found["verdicts"][3]
    assert row["why"].startswith(f"the variable {told} is ")
    if off == "TABLE":  # each call of a search begins with the first values
        assert {one["parameter"]: one["value"] for one in row["smallest"]}["n"] == "8"
        replay = document("check", source, "--entry", entry, *builds, *words,
                          "--replay", row["replay"], code=1)  # fmt: skip
        assert "table[7]" in replay["why"]


RACE = """#include <pthread.h>
#include <stdio.h>
static int level;
static void *raise(void *p)
{
    for (int i = 0; i < 1000; i++) level++;
    return p;
}
int main(void)
{
    pthread_t other;
    pthread_create(&other, 0, raise, 0);
    raise(0);
    pthread_join(other, 0);
    printf("%d tides\\n", level > 0);
    return 0;
}
"""
SHARED = """#include <stdint.h>
int64_t total(const int32_t *levels, int32_t n)
{
    int64_t sum = 0;
#pragma omp parallel for reduction(+ : sum)
    for (int32_t i = 0; i < n; i++) sum += levels[i];
    return sum;
}
"""
HANDED = """#include <pthread.h>
#include <stdatomic.h>
static int level;
static atomic_int ready;
static void *give(void *p)
{
    level = *(int *)p;
    atomic_thread_fence(memory_order_release);
    atomic_store_explicit(&ready, 1, memory_order_relaxed);
    return 0;
}
int hand(int x)
{
    pthread_t other;
    atomic_store(&ready, 0);
    pthread_create(&other, 0, give, &x);
    while (!atomic_load_explicit(&ready, memory_order_relaxed)) continue;
    atomic_thread_fence(memory_order_acquire);
    int got = level;
    pthread_join(other, 0);
    return got + 1;
}
"""


def test_a_race_in_a_program_is_shown_and_it_is_not_picked(tmp_path: Path) -> None:
    source = tmp_path / "race.c"
    source.write_text(RACE)
    found = document("check", source, "--build", "gcc -O2 -pthread", code=1)
    (undefined,) = found["undefined"]
    assert undefined["message"] == "data race" and undefined["place"]["line"] in (5, 6)
    assert set(states(found).values()) <= {"undefined", "unstable"}


@pytest.mark.parametrize(
    ("text", "flag", "inputs"),
    [
        (SHARED, "-fopenmp", ['levels = { fill = "uniform(-9, 9)", count = "n" }', "n = 500"]),
        (HANDED, "-pthread", ["x = 3"]),
    ],
)
def test_hand_overs_that_the_detector_cannot_see_are_no_races(
    tmp_path: Path, text: str, flag: str, inputs: list[str]
) -> None:
    source = tmp_path / "sound.c"
    source.write_text(text)
    words = [word for one in inputs for word in ("--inputs", one)]
    answer = hot_anvil("check", source, "--build", f"gcc -O2 {flag}", *words)
    assert answer.returncode == 0 and "races were not looked for" in answer.stdout


FOLDED = """
int total(void)
{
    int sum = 0;
    for (int i = 0; i < 100; i++) sum += i;
    return sum;
}
void waste(int n)
{
    for (int i = 0; i < n; i++) (void)(i * 3);
}
"""


@pytest.mark.parametrize(
    ("entry", "told", "given"),
    [("total", "returns 4950", []), ("waste", "does nothing", ["--inputs", "n = 9"])],
)
def test_entries_of_which_nothing_is_left_to_time_are_named(
    tmp_path: Path, entry: str, told: str, given: list[str]
) -> None:
    source = tmp_path / "folded.c"
    source.write_text(FOLDED)
    builds = ["--build", "gcc -O0", "--build", "gcc -O2", "--entry", entry]
    answer = hot_anvil("check", source, *builds, *given)
    text = " ".join(answer.stdout.split())
    assert f"{entry} {told}" in text and "under gcc-12 -O2: there is nothing of it to time" in text
    assert "under gcc-12 -O0" not in text


WHIM = """#include <stdio.h>
int main(int count, char **names)
{
    FILE *days = fopen(DAYS, "a+");
    fputc('x', days);
    fseek(days, 0, SEEK_END);
    long day = ftell(days);
    fclose(days);
    puts(day >= 5 && day < 9 ? "high water" : "low water");
    return 0;
}
"""


def test_what_a_check_once_saw_holds_until_the_code_changes(tmp_path: Path) -> None:
    source = tmp_path / "whim.c"
    days = tmp_path / "days"
    source.write_text(WHIM.replace("DAYS", f'"{days}"'))
    build = ["--build", "gcc -O1", "--free"]  # it keeps a file
    seen = document("check", source, *build, "--repeat", "12", code=1)
    assert set(states(seen).values()) == {"unstable"}
    again = document("check", source, *build, code=1)  # its runs all agree now
    assert "an earlier check of this code saw" in again["verdicts"][0]["why"]
    assert document("pick", source, *build, "--seconds", "0.1", code=1)["choice"] == {"whim": None}
    source.write_text(source.read_text().replace("high water", "low water"))
    assert set(states(document("check", source, *build)).values()) == {"correct"}


STRAY = """#include <stdio.h>
#include <unistd.h>
int main(void)
{
    if (fork() == 0) {
        setsid();
        fclose(stdout);
        sleep(60);
    }
    for (int i = 0; i < 5000000; i++) fputs("low\\n", stdout);
    puts(LAST);
    return 0;
}
"""


def test_all_of_an_output_is_compared_and_no_process_is_left(tmp_path: Path) -> None:
    source = tmp_path / "stray.c"
    source.write_text(STRAY)
    builds = [word for tide in ("low", "high") for word in ("--build", f'gcc -O1 -DLAST="{tide}"')]
    builds = [word.replace('"low"', "'\"low\"'").replace('"high"', "'\"high\"'") for word in builds]
    found = document("check", source, *builds, code=1)
    assert [v["verdict"] for v in found["verdicts"]] == ["correct", "wrong"]
    assert "line 5000001" in found["verdicts"][1]["why"]
    alive = subprocess.run(["pgrep", "-f", f"{tmp_path}/.hot-anvil"], capture_output=True)
    assert not alive.stdout


MEAN = """#include "odd.h"
float mean(const float *heights, int n)
{
    float sum = 0;
    for (int i = 0; i < n; i++) sum += heights[i];
    return sum / (n + ODD);
}
"""


def test_a_bare_file_s_failure_is_called_again_by_the_command_that_is_printed(
    tmp_path: Path,
) -> None:
    for folder in ("own", "headers"):
        (tmp_path / folder).mkdir()
    (tmp_path / "headers" / "odd.h").write_text("#define ODD 1\n")
    (tmp_path / "own" / "mean.c").write_text(MEAN)
    # The folder of the header is given as seen from here, not from the source.
    builds = [word for how in ("-O1", "-O3 -ffast-math")
              for word in ("--build", f"gcc {how} -Iheaders")]  # fmt: skip
    words = ["check", "own/mean.c", *builds, "--inputs", "n = 99",
             "--inputs", 'heights = { fill = "uniform(1, 2)", count = "n" }',
             "--not-promised", 'special = "all are read"',
             "--not-promised", 'type_ends = "all are near 1 m"']  # fmt: skip
    answer = hot_anvil(*words, cwd=tmp_path)
    assert answer.returncode == 1, answer.stderr
    (again,) = {line for line in answer.stdout.split("\n") if "again: hot-anvil" in line}
    command = shlex.split(again.partition("hot-anvil ")[2])
    replayed = hot_anvil(*command, cwd=tmp_path)
    assert replayed.returncode == 1 and "expected" in replayed.stdout
    # Sizes are not to blame for rounding; a tolerance is.
    told = " ".join(answer.stdout.split())
    assert "Need mean not take it" not in told and "tolerance = { ulp" in told
    assert hot_anvil(*words, "--tolerance", "ulp = 64", cwd=tmp_path).returncode == 0


REACHED = """#include <stdint.h>
static int32_t far(int32_t level)
{
    if (level < -90000)
        return -1;
    return level;
}
int32_t band(int32_t level)
{
    if (level > 10)
        return far(level);
    if (level * level == 1764 * 3)
        return 7;
    return level;
}
"""


@pytest.mark.parametrize("compiler", ["gcc", "clang-16"])
def test_lines_that_no_checked_call_ran_are_told(tmp_path: Path, compiler: str) -> None:
    source = tmp_path / "band.c"
    source.write_text(REACHED)
    words: list[str | Path] = [
        "check",
        source,
        "--build",
        f"{compiler} -O2",
        "--not-promised",
        'type_ends = "near"',
    ]
    found = document(*words, "--inputs", 'level = "uniform(0, 50)"')
    (row,) = found["unreached"]
    assert (row["entry"], row["file"], row["lines"]) == ("band", "band.c", [5, 13])
    narrow = document(*words, "--inputs", 'level = "uniform(0, 9)"')["unreached"]
    assert {5, 6, 11, 13} <= set(narrow[0]["lines"])
