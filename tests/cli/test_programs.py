"""Whole programs and drivers: what comes out is compared, line by line; objects are made apart."""

from pathlib import Path
from typing import Any

import pytest

from conftest import document, hot_anvil, refused, write_bench
from hot_anvil.core.verify.program_runs import RunOutput, first_difference

LOG = r"""#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
int main(int argc, char **argv)
{
    const char *which = argc > 1 ? argv[1] : "";
    if (!strcmp(which, "null")) { int *level = NULL; printf("%d\n", *level); }
    if (!strcmp(which, "wait")) for (volatile int i = 0;; i++) { }
    if (!strcmp(which, "whim")) { struct timespec now;
        timespec_get(&now, TIME_UTC); printf("%ld\n", now.tv_nsec); }
    if (!strcmp(which, "file")) { FILE *f = fopen("tide.txt", "w");
        fprintf(f, "high %s\n", ODD ? "tide" : "water"); fclose(f); }
    if (!strcmp(which, "past")) { char *t = malloc(4); strcpy(t, "quay"); puts(t); free(t); }
    if (!strcmp(which, "flood")) for (;;) if (puts("water water water water") < 0) return 3;
    if (!strcmp(which, "echo")) { char text[80]; int n = 0;
        while (fgets(text, sizeof text, stdin)) fputs(ODD && ++n == 2 ? "?\n" : text, stdout); }
    if (!strcmp(which, "need")) return !fopen("day.txt", "r");
    return !strcmp(which, "code") ? ODD : 0;
}
"""


def check(folder: Path, run: str, code: int = 0) -> Any:
    write_bench(
        folder,
        '[flags]\na = "-O0 -DODD=0"\nb = "-O1 -DODD=1"\n[grid]\ntoolchains = ["gcc"]\n'
        f'[[snippet]]\nsources = ["log.c"]\nprogram = true\n[[snippet.run]]\n{run}\n',
        log=LOG,
    )
    (folder / "day.txt").write_text("310\n1480\n")
    return document("check", folder, "--call-seconds", "1", code=code)


@pytest.mark.parametrize(
    ("run", "first", "second", "told"),
    [
        ('arguments = ["null"]', "crashed", "not run", "null pointer"),
        ('arguments = ["wait"]', "hung", "not run", "did not end within 1 s"),
        ('arguments = ["whim"]', "unstable", "unstable", "two runs differ"),
        ('arguments = ["flood"]', "crashed", "not run", "more than 64 MiB"),
        ('arguments = ["code"]', "correct", "wrong", "exit code 1, expected 0"),
        ('arguments = ["file"]\nwrites = ["tide.txt"]', "correct", "wrong",
         "line 1 of tide.txt is 'high tide', expected 'high water'"),
        ('arguments = ["echo"]\nstdin = { file = "day.txt" }', "correct", "wrong",
         "line 2 of standard output is '?', expected '1480'"),
        ('arguments = ["echo"]\nstdin = "7\\n"\nexpected = { stdout = "8\\n" }', "wrong", "wrong",
         "'7', expected '8'"),
        ('arguments = ["need"]\nneeds = ["day.txt"]\nexpected = { exit = 0 }', "correct", "correct",
         ""),
    ],
)  # fmt: skip
def test_each_way_a_program_ends_is_told(
    tmp_path: Path, run: str, first: str, second: str, told: str
) -> None:
    found = check(tmp_path, run, 0 if {first, second} == {"correct"} else 1)
    plain, odd = found["verdicts"]
    assert (plain["verdict"], odd["verdict"]) == (first, second), found
    assert told in (odd if first == "correct" else plain)["why"]
    if first in ("crashed", "hung") and "MiB" not in told:
        assert plain["place"]["file"] == "log.c"
    assert not list((tmp_path / ".hot-anvil" / "work").iterdir())
    assert not (tmp_path / "tide.txt").exists()


def test_undefined_behaviour_of_a_program_is_told(tmp_path: Path) -> None:
    found = check(tmp_path, 'arguments = ["past"]', 1)
    (undefined,) = found["undefined"]
    assert {v["verdict"] for v in found["verdicts"]} == {"undefined"}
    assert undefined["message"].startswith("heap-buffer-overflow")
    assert undefined["place"] == {"file": "log.c", "line": 14}


def test_programs_are_picked_from_by_the_time_of_their_runs(tmp_path: Path) -> None:
    check(tmp_path, 'arguments = ["code"]', 1)
    found = document("pick", tmp_path, "--seconds", "0.01")
    assert found["choice"]["log"] in {row["candidate"] for row in found["ranking"]}
    for row in found["measurements"]["results"]:
        assert row["seconds_per_call"] > 0 and row["cpu_seconds"] >= 0 and row["peak_bytes"] > 0
    (tmp_path / "log.c").write_text(LOG + "int unused_tide(int n) { return n * 3; }\n")
    (earlier_rows,) = document("measure", tmp_path, "--seconds", "0.01", "--earlier")["earlier"]
    assert earlier_rows["candidate"] == "gcc-12:a" and earlier_rows["earlier"].startswith(
        "gcc-12:a#"
    )
    assert not earlier_rows["same_code"] and 0.2 < earlier_rows["ratio"] < 5


def test_what_a_run_needs_must_be_there(tmp_path: Path) -> None:
    text = '[[snippet]]\nsources = ["log.c"]\nprogram = true\nrun = [{ needs = ["night.txt"] }]\n'
    write_bench(tmp_path, text, log=LOG.replace("ODD", "0"))
    assert "night.txt" in refused("check", tmp_path)


def test_the_first_differing_line_is_shown_and_unprintable_bytes_are_escaped() -> None:
    def output(text: bytes) -> RunOutput:
        return RunOutput(0, text, ())

    assert first_difference(output(b"a\nb\n"), output(b"a\nb\n")) == ""
    told = first_difference(output(b"a\nb\nc\n"), output(b"a\n\xff\x07\n"))
    assert told == ("line 2 of standard output is '\\xff\\x07', expected 'b' (3 lines differ)")
    assert "line 2 of standard output is not there" in first_difference(
        output(b"a\nb\n"), output(b"a\n")
    )


DRIVER = """#include "hot_anvil_driver.h"
#include "tides.hpp"
#include <algorithm>
HOT_ANVIL_PREPARE(const int16_t *levels, int32_t n)
{
    auto *tides = new Tides;
    tides->levels.assign(levels, levels + n);
    return tides;
}
HOT_ANVIL_CALL(sort_tides) { sort_tides(*static_cast<Tides *>(prepared)); }
HOT_ANVIL_CALL(sort_by_hand) { sort_by_hand(*static_cast<Tides *>(prepared)); }
HOT_ANVIL_RESULT(int32_t, int16_t *sorted)
{
    auto *tides = static_cast<Tides *>(prepared);
    std::copy(tides->levels.begin(), tides->levels.end(), sorted);
    return (int32_t)tides->levels.size();
}
HOT_ANVIL_RELEASE { delete static_cast<Tides *>(prepared); }
"""
TIDES = """#include "tides.hpp"
#include <algorithm>
void sort_tides(Tides &tides) { std::sort(tides.levels.begin(), tides.levels.end()); }
void sort_by_hand(Tides &tides)
{
    for (std::size_t i = 1; i < tides.levels.size(); i++)
        for (std::size_t k = i; k > FIRST && tides.levels[k - 1] > tides.levels[k]; k--)
            std::swap(tides.levels[k - 1], tides.levels[k]);
}
"""


def test_a_driver_makes_the_objects_an_entry_takes(tmp_path: Path) -> None:
    write_bench(
        tmp_path,
        '[flags]\nright = "-O2 -DFIRST=0"\noff = "-O2 -DFIRST=1"\n[grid]\ntoolchains = ["gcc"]\n'
        '[[snippet]]\nsources = ["tides.cpp"]\ndriver = "driver.cpp"\n'
        'entries = ["sort_tides", "sort_by_hand"]\n[snippet.inputs]\nn = 40\n'
        'levels = { fill = "uniform(-500, 500)", count = "n" }\n'
        'sorted = { fill = "zeros", count = "n" }\n',
    )
    (tmp_path / "tides.hpp").write_text(
        "#include <cstdint>\n#include <vector>\nstruct Tides { std::vector<int16_t> levels; };\n"
        "void sort_tides(Tides &);\nvoid sort_by_hand(Tides &);\n"
    )
    (tmp_path / "tides.cpp").write_text(TIDES)
    (tmp_path / "driver.cpp").write_text(DRIVER)
    found = document("check", tmp_path, code=1)
    states = {v["candidate"]: v["verdict"] for v in found["verdicts"]}
    assert states == {
        "sort_tides@gcc-12:right": "correct", "sort_tides@gcc-12:off": "correct",
        "sort_by_hand@gcc-12:right": "correct", "sort_by_hand@gcc-12:off": "wrong",
    }  # fmt: skip
    assert {"parameter": "n", "value": "2"} in found["verdicts"][3]["smallest"]
    timed = document("measure", tmp_path, "--seconds", "0.02")
    assert {row["candidate"] for row in timed["results"]} == {
        k for k, v in states.items() if v == "correct"
    }
    listing = hot_anvil("listing", tmp_path, "gcc:right")
    assert "driver.cpp" not in listing.stdout and "hot_anvil" not in listing.stdout
    (tmp_path / "driver.cpp").write_text(DRIVER.replace("CALL(sort_by_hand)", "CALL(sort_byhand)"))
    assert "HOT_ANVIL_CALL(sort_by_hand)" in refused("check", tmp_path)
    (tmp_path / "driver.cpp").write_text(DRIVER.replace("new Tides", "new Tide"))
    assert "driver.cpp does not compile" in refused("check", tmp_path)
