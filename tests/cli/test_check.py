"""Check: real candidates that are right, wrong, crash, hang or change their mind."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest

from conftest import document, hot_anvil, refused
from hot_anvil.api import open_source
from hot_anvil.core.toolchain.records import Toolchain

SOURCE = """#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>
typedef int16_t level_t;
enum tide { EBB, FLOW };

int total(const level_t *levels, int n) { int s = 0; for (int i = 0; i < n; i++) s += levels[i];
    return s; }
int one_too_many(const level_t *levels, int n) { int s = 0;
    for (int i = 0; i <= n; i++) s += levels[i] * (i < n); return s; }
int stops_dead(const level_t *levels, int n) { return n > 5 ? total(levels, n) : abort(), 0; }
int never_ends(volatile int *levels) { for (;;) *levels += 1; }
void dwell(int n) { for (volatile int i = 0; i < n; i++) { } }
int moody(const level_t *levels, int n) { return total(levels, n) + (getpid() & 0xffff); }
int talkative(int n) { for (int i = 0; i < 3000000; i++) puts("high water"); return n; }
double scaled(const double *heights, float factor, int n) { double s = 0;
    for (int i = 0; i < n; i++) s += heights[i] * factor; return s; }
uint64_t mixed(uint8_t a, int16_t b, uint32_t c, int64_t d, float e, double f, _Bool g,
               enum tide h) { return a + b + c + d + (uint64_t)e + (uint64_t)f + g + h; }
level_t *highest(level_t *levels, int n) { level_t *best = levels;
    for (int i = 1; i < n; i++) if (levels[i] > *best) best = levels + i; return best; }
void blend(level_t *out, const level_t *a, const level_t *b, int n)
    { for (int i = 0; i < n; i++) out[i] = (level_t)((a[i] + b[i]) / 2); }
int pointed(char **names) { return names[0][0]; }
static int hidden(int x) { return x; }
int uses(int x) { return hidden(x); }
"""
LEVELS = 'levels = { fill = "uniform(-900, 900)", count = "n" }'


@pytest.fixture
def source(tmp_path: Path) -> Path:
    file = tmp_path / "gauge.c"
    file.write_text(SOURCE)
    return file


def verdict(source: Path, entry: str, *inputs: str, code: int = 0) -> dict[str, Any]:
    words = [word for text in inputs for word in ("--inputs", text)]
    found = document("check", source, "--build", "gcc -O1", "--entry", entry,
                     "--call-seconds", "2", *words, code=code)  # fmt: skip
    (only,) = found["verdicts"]
    assert isinstance(only, dict)
    return only


def test_each_way_to_fail_has_its_verdict(source: Path) -> None:
    assert verdict(source, "total", LEVELS, "n = 33")["verdict"] == "correct"
    beyond = verdict(source, "one_too_many", LEVELS, "n = 33", code=1)
    assert (beyond["verdict"], beyond["place"]["line"]) == ("crashed", 11)
    assert beyond["why"].startswith("reads levels[33], beyond its 33 elements")
    dead = verdict(source, "stops_dead", LEVELS, "n = 3", code=1)
    assert (dead["verdict"], "SIGABRT" in dead["why"]) == ("crashed", True), dead["why"]
    endless = verdict(source, "never_ends", 'levels = { fill = "zeros", count = 4 }', code=1)
    assert (endless["verdict"], "2 s" in endless["why"]) == ("hung", True)
    moody = verdict(source, "moody", LEVELS, "n = 3", code=1)
    assert (moody["verdict"], len(moody["tally"])) == ("unstable", 6)  # processes
    assert verdict(source, "talkative", "n = 3")["verdict"] == "correct"
    assert "nothing was compared" in verdict(source, "dwell", "n = 3")["why"]


def test_every_scalar_type_arrives_as_given(source: Path) -> None:
    anvil = open_source(
        source, ["gcc -O0", "gcc -O2"], ["mixed"],
        ["a = 200", "b = -5", "c = 4000000000", "d = -1", "e = 2.5", "f = 7.5", "g = 1", "h = 1"],
    )  # fmt: skip
    (checked,) = anvil.check()
    assert [v.verdict for v in checked.verdicts] == ["correct", "correct"]
    (signature,) = checked.signatures
    assert signature.text == (
        "uint64_t mixed(uint8_t a, int16_t b, uint32_t c, int64_t d, float e, double f, "
        "_Bool g, enum tide h)"
    )


def test_rivals_with_other_types_floats_pointers_and_overlap_are_compared(source: Path) -> None:
    assert verdict(source, "scaled", 'heights = { fill = "normal(0, 3)", count = 9 }',
                   "factor = 0.5", "n = 9")["verdict"] == "correct"  # fmt: skip
    assert verdict(source, "highest", LEVELS, "n = 40")["verdict"] == "correct"
    overlap = ['out = { fill = "ramp(0, 3)", count = 20 }', 'a = { alias = "out" }',
               'b = { fill = "ramp(5)", count = 20 }', "n = 20"]  # fmt: skip
    assert verdict(source, "blend", *overlap)["verdict"] == "correct"


def test_what_cannot_be_called_is_said_with_what_can(source: Path) -> None:
    words: list[str | Path] = ["check", source, "--build", "gcc -O1"]
    assert "pointer *" in refused(*words, "--entry", "pointed", "--inputs", "names = 1")
    told = refused(*words, "--entry", "hiden", "--inputs", "x = 1")
    assert "'hiden'" in told and "total" in told and "hidden" not in told
    told = refused(*words, "--entry", "total", "--inputs", "n = 3")
    assert "int total(const level_t *levels, int n)" in told
    assert "--inputs 'levels = { fill" in told
    told = refused(*words, "--entry", "total", "--inputs", LEVELS, "--inputs", "m = 3",
                   "--inputs", "n = 3")  # fmt: skip
    assert "inputs.m is no parameter of total" in told and "levels, n" in told
    assert "does not fit" in refused(*words, "--entry", "uses", "--inputs", "x = 3000000000")


def test_undefined_behaviour_shows_only_when_optimised(demo: Path) -> None:
    found = document("check", demo, "--snippet", "checksum", code=1)
    state = {v["candidate"]: v["verdict"] for v in found["verdicts"]}
    assert state["checksum_hasty@gcc-12:plain"] == "undefined"
    assert state["checksum_hasty@gcc-12:fast"] == "wrong"
    assert {v for k, v in state.items() if k.startswith("checksum_careful")} == {"correct"}
    why = next(v["why"] for v in found["verdicts"] if v["verdict"] == "wrong")
    assert "returned" in why and "expected" in why
    (undefined,) = found["undefined"]
    assert undefined["entry"] == "checksum_hasty" and "overflow" in undefined["message"]


def test_the_first_wrong_element_is_shown(tmp_path: Path) -> None:
    (tmp_path / "raise.c").write_text(
        "void raise_all(const short *levels, short *out, int n)\n"
        "{ for (int i = 0; i < n; i++) out[i] = levels[i] + (i == 7 ? OFF : 0); }\n"
    )
    answer = hot_anvil(
        "check", tmp_path / "raise.c", "--build", "gcc -O1 -DOFF=0", "--build", "gcc -O1 -DOFF=2",
        "--inputs", 'levels = { fill = "zeros", count = 12 }',
        "--inputs", 'out = { fill = "zeros", count = 12 }', "--inputs", "n = 12",
    )  # fmt: skip
    assert answer.returncode == 1
    assert "out[7] is 2, expected 0" in answer.stdout


def test_cplusplus_entries_are_called_by_their_mangled_names(
    tmp_path: Path, toolchains: Sequence[Toolchain]
) -> None:
    text = (Path(__file__).parents[1] / "sources" / "gauge.cpp").read_text()
    (tmp_path / "gauge.cpp").write_text(text)
    builds = [f"{chain.name} -O{level}" for chain in toolchains for level in (0, 2)]
    anvil = open_source(
        tmp_path / "gauge.cpp", builds, ["count_above"],
        ['levels = { fill = "uniform(0, 99)", count = "n" }', "n = 50",
         'highest = { fill = "zeros", count = 1 }'],
        not_promised=['empty = "a gauge has at least one level"'],
    )  # fmt: skip
    (checked,) = anvil.check()
    assert {v.verdict for v in checked.verdicts} == {"correct"}, checked.verdicts


def test_a_crashing_reference_stops_the_comparison_only(source: Path) -> None:
    found = document("pick", source, "--build", "gcc -O1", "--build", "gcc -O2",
                     "--entry", "one_too_many", "--inputs", LEVELS, "--inputs", "n = 64",
                     code=1)  # fmt: skip
    assert found["choice"] == {"gauge": None}
    verdicts = {row["candidate"]: row["verdict"] for row in found["excluded"]}
    assert verdicts == {"gcc-12 -O1": "crashed", "gcc-12 -O2": "not run"}
