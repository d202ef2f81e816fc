"""Reading anvil.toml: every mistake is named with file, line, table and key."""

import re
import tomllib
from pathlib import Path

import pytest

from conftest import DEMO, document, hot_anvil, refused, write_bench
from hot_anvil.core.build.builds import command_line, find_build
from hot_anvil.core.build.planning import plan_builds
from hot_anvil.core.config.reading import read_bench
from hot_anvil.core.config.records import Bench
from hot_anvil.core.toolchain.records import (
    Driver,
    flags_for_family,
    group_drivers,
    read_identity,
    retarget,
    split_command,
)
from hot_anvil.errors import MissingError, RequestError
from hot_anvil.system.bench.examples import examples
from hot_anvil.system.toolchain.finding import load_families

HEAD = '[[snippet]]\nsources = ["surge.c"]\n'


def bench_of(text: str) -> Bench:
    return read_bench(tomllib.loads(text), text, "anvil.toml", "/quay")


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("title = 3\n" + HEAD, ["anvil.toml:1", "title", "text"]),
        ("titel = 'x'\n" + HEAD, ["anvil.toml:1", "'titel'", "'title'"]),
        ("title = 'x'", ["[[snippet]]"]),
        ("[grid]\nflags = ['fsat']\n[flags]\nfast = '-O3'\n" + HEAD, ["toml:2", "'fast'"]),
        ("[flags]\n\nfast = 3\n" + HEAD, ["anvil.toml:3", "flags.fast"]),
        ("[grid]\ntoolchains = 'gcc'\n" + HEAD, ["anvil.toml:2", "grid.toolchains", "list"]),
        ("[toolchain.quaycc]\nfamily = 'gcc'\n" + HEAD, ["toml:1", "'command' is missing"]),
        (HEAD + HEAD, ["anvil.toml:3", "snippet[2]", "used twice"]),
        ("[[snippet]]\nname = 'a'\n", ["anvil.toml:1", "'sources' is missing"]),
        ("[[snippet]]\nsources = ['surge.pas']\n", ["toml:2", "surge.pas", "ending"]),
        (HEAD + "[snippet.inputs]\nn = { fil = 'zeros' }", ["toml:4", "inputs.n", "'fill'"]),
        (HEAD + "[snippet.inputs]\n\nn = [1]", ["anvil.toml:5", "inputs.n", "number"]),
        (HEAD + "[snippet.inputs]\nn = { count = 3 }", ["toml:4", "or 'alias'"]),
        (HEAD + "[snippet.sweep]\nn = []", ["anvil.toml:4", "sweep.n", "at least one"]),
        (HEAD + "[snippet.sweep]\nn = [true]", ["anvil.toml:4", "whole numbers"]),
        (HEAD + "entries = ['ebb', 'flow']\nreference = 'flo'", ["toml:4", "'flow'"]),
    ],
)
def test_mistakes_are_named_with_their_place(text: str, told: list[str]) -> None:
    with pytest.raises(RequestError) as caught:
        bench_of(text)
    for part in told:
        assert part in str(caught.value)
    assert not str(caught.value).endswith("?.")


def fake(command: str, version: str, language: str = "c") -> Driver:
    family = "clang" if "clang" in command else "gcc"
    return Driver(command, f"/bin/{command}", family, language, version, "x86_64-linux-gnu", "id")


FAMILIES = load_families()
MACHINE = group_drivers(
    [
        fake("gcc", "12.2.0"), fake("gcc-12", "12.2.0"), fake("g++-12", "12.2.0", "c++"),
        fake("gcc-11", "11.3.0"), fake("clang-16", "16.0.6"),
    ],
    {family.name: family for family in FAMILIES},
    "x86_64",
)  # fmt: skip
GRID = """
[flags]
plain = "-O0"
wide = { gcc = "-O3 -mavx2", clang = "-O3" }
gnu = { gcc = "-O2" }
[grid]
toolchains = %s
except = ["gcc-11:plain"]
reference = "gcc:plain"
"""


def test_commands_of_one_compiler_are_one_toolchain() -> None:
    assert [(c.name, sorted(c.aliases)) for c in MACHINE] == [
        ("clang-16", ["clang"]), ("gcc-11", []), ("gcc-12", ["g++-12", "gcc"]),
    ]  # fmt: skip
    assert sorted(MACHINE[2].drivers) == ["assembly", "c", "c++"]


def test_compilers_for_other_machines_go_by_their_command_and_target() -> None:
    gcc, clang = (next(f for f in FAMILIES if f.name == name) for name in ("gcc", "clang"))
    assert split_command("avr-gcc", FAMILIES) == (gcc, "c", "avr")
    assert split_command("arm-none-eabi-g++-12.2", FAMILIES) == (gcc, "c++", "arm-none-eabi")
    assert split_command("avr-clang", FAMILIES) is None and split_command("ag", FAMILIES) is None
    drivers = [
        fake("riscv64-linux-gnu-gcc-12", "12.2.0")._replace(target="riscv64-linux-gnu"),
        fake("riscv64-linux-gnu-gcc", "12.2.0")._replace(target="riscv64-linux-gnu"),
        fake("gcc-12", "12.2.0"),
    ]
    native, cross = group_drivers(drivers, {"gcc": gcc}, "x86_64")
    assert (native.name, native.can["run"]) == ("gcc-12", True)
    assert (cross.name, cross.isa, cross.binutils) == (
        "riscv64-linux-gnu-gcc", "riscv", "riscv64-linux-gnu",
    )  # fmt: skip
    other = retarget(MACHINE[0], clang.targets["avr"], False)
    assert other.name == "clang-16@avr" and other.aliases == ("clang@avr",)
    assert other.flags[0] == "--target=avr" and other.isa == "avr"
    text = GRID % '["gcc*", "clang*", "clang@avr"]' + HEAD
    plan = plan_builds(bench_of(text), (*MACHINE, cross, other), FAMILIES)
    # A glob means compilers for this machine; another target must be named.
    assert {b.toolchain for b in plan.builds} == {"gcc-11", "gcc-12", "clang-16", "clang-16@avr"}


def test_a_snippet_may_ask_for_other_builds_than_the_grid() -> None:
    text = GRID % '["gcc"]' + HEAD + 'flags = ["wide"]\ntoolchains = ["clang"]\n'
    plan = plan_builds(bench_of(text + '[[snippet]]\nsources = ["ebb.c"]\n'), MACHINE, FAMILIES)
    assert [b.name for b in plan.of["surge"]] == ["clang-16:wide"]
    assert {b.toolchain for b in plan.of["ebb"]} == {"gcc-12"}
    flags = {"rustc": "-C opt-level=3", "other": "-O3"}
    assert flags_for_family(flags, "gcc", "") == "-O3"
    assert flags_for_family(flags, "rustc", "") == "-C opt-level=3"


def test_the_grid_takes_globs_aliases_exceptions_and_flags_per_family() -> None:
    plan = plan_builds(bench_of(GRID % '["gcc*", "clang", "icc"]' + HEAD), MACHINE, FAMILIES)
    assert [build.name for build in plan.builds] == [
        "gcc-11:wide", "gcc-11:gnu", "gcc-12:plain", "gcc-12:wide", "gcc-12:gnu",
        "clang-16:plain", "clang-16:wide",
    ]  # fmt: skip
    assert plan.reference.name == "gcc-12:plain"
    assert any("icc" in note for note in plan.notes)
    build = find_build("gcc:wide", plan.builds, MACHINE)
    assert build.flags == ("-O3", "-mavx2")
    line = command_line(build, MACHINE[2], bench_of(HEAD).snippets[0])
    assert line == "gcc-12 -O3 -mavx2 -c surge.c"


def test_a_reference_whose_compiler_is_missing_is_replaced_aloud() -> None:
    plan = plan_builds(bench_of(GRID % '["clang"]' + HEAD), MACHINE, FAMILIES)
    assert plan.reference.name == "clang-16:plain"
    assert any("gcc:plain is not to be had" in note for note in plan.notes)


def test_no_build_at_all_says_what_to_install() -> None:
    with pytest.raises(MissingError, match="apt install"):
        plan_builds(bench_of(GRID % '["icc"]' + HEAD), MACHINE, FAMILIES)


def test_cplusplus_leaves_out_toolchains_without_its_compiler() -> None:
    plan = plan_builds(bench_of('[[snippet]]\nsources = ["a.cpp"]'), MACHINE, FAMILIES)
    assert {build.toolchain for build in plan.builds} == {"gcc-12"}
    assert any("gcc-11 is left out" in note for note in plan.notes)


@pytest.mark.parametrize(
    ("family", "text", "identity"),
    [
        ("gcc", "Target: x86_64-linux-gnu\ngcc version 12.2.0 (Debian 12.2.0-14)", "12.2.0"),
        ("clang", "Debian clang version 14.0.6\nTarget: x86_64-pc-linux-gnu\n", "14.0.6"),
        ("clang", "clang version 18.1.3 (1ubuntu1)\nTarget: aarch64-linux-gnu", "18.1.3"),
        ("gcc", "Target: x86_64-linux-gnu\nclang version 14.0.6", None),
        ("gcc", "segmentation fault", None),
    ],
)
def test_a_compiler_is_known_by_its_own_words(family: str, text: str, identity: str | None) -> None:
    found = read_identity(text, next(f for f in FAMILIES if f.name == family))
    assert (found[0] if found else None) == identity


COMMENTED = """
/* Adds levels up.
 *
 * hot-anvil:
 * [flags]
 * even = "-O2"
 * [grid]
 * toolchains = ["gcc"]
 * [snippet]
 * entries = ["total"]
 * [snippet.inputs]
 * levels = { fill = "ramp(1)", count = "n" }
 * n = 4
 */
int total(const int *levels, int n)
{ int s = 0; for (int i = 0; i < n; i++) s += levels[i]; return s; }
int other(int a) { return a; }
"""


def test_a_source_carries_its_own_settings(tmp_path: Path) -> None:
    source = tmp_path / "total.c"
    for text in (COMMENTED, re.sub(r"(?m)^(/\*| \*/?)", "//", COMMENTED)):
        source.write_text(text)
        (verdict,) = document("check", source)["verdicts"]
        assert (verdict["candidate"], verdict["verdict"]) == ("gcc-12:even", "correct")
    # What the command line says goes before.
    words = ["--build", "gcc -O1", "--entry", "other", "--inputs", "a = 3"]
    told = refused("check", source, *words)
    assert "levels" in told and "no parameter of other" in told
    found = document("check", source, "--build", "gcc -O1", "--inputs", "n = 9")
    assert [v["build"] for v in found["verdicts"]] == ["gcc-12 -O1"]
    source.write_text(COMMENTED.replace('fill = "ramp(1)"', "fil = 3"))
    assert "total.c:12:" in refused("check", source)
    source.write_text(COMMENTED.replace("n = 4", "n ="))
    assert "line 13" in refused("check", source)
    source.write_text("int plain(int a) { return a; } /* hot-anvil:\n[flags]\nfast = 3 */\n")
    assert document("compile", source, "--build", "gcc -O1")["builds"]


def test_broken_toml_and_missing_files_are_told_plainly(tmp_path: Path) -> None:
    bench = write_bench(tmp_path / "quay", "title = \n")
    assert "line 1" in refused("compile", bench)
    (bench / "anvil.toml").write_bytes(b'title = "caf\xe9"')
    assert "UTF-8" in refused("compile", bench)
    assert "anvil.toml" in refused("compile", tmp_path)
    assert "no such file" in refused("compile", tmp_path / "ebb.c")
    assert "--inputs" in refused("check", DEMO, "--inputs", "n = 3")


def test_each_example_is_a_bench_of_its_own(tmp_path: Path) -> None:
    found = examples()
    assert [e.name for e in found] == [
        "clamp", "checksum", "crossings", "frame", "feet", "log", "chip", "between", "gpu",
        "pitfalls", "unseen",
    ]  # fmt: skip
    assert [e["name"] for e in document("start", "--example")["examples"]] == [
        e.name for e in found
    ]
    answer = hot_anvil("start", "--example", "checksum", "--into", tmp_path / "sum")
    assert answer.returncode == 0, answer.stderr
    text = (tmp_path / "sum" / "anvil.toml").read_text()
    assert [s.name for s in bench_of(text).snippets] == ["checksum"]
    assert "not empty" in refused("start", "--example", "clamp", "--into", tmp_path / "sum")
    assert "'clamp'" in refused("start", "--example", "clmp")


def test_start_from_sources_gives_a_bench_that_checks(tmp_path: Path) -> None:
    source = tmp_path / "swell.c"
    source.write_text(
        "int swell(const short *heights, int n)\n{ int s = 0;\n"
        "for (int i = 0; i < n; i++) s += heights[i]; return s; }\n"
        "int ebb(int level) { return level - 1; }\n"
    )
    # Two functions are not rivals unless somebody says so.
    told = refused("check", source)
    assert "swell, ebb" in told and "--entry" in told
    assert hot_anvil("start", source).returncode == 0
    text = (tmp_path / "anvil.toml").read_text()
    assert [s.entries for s in bench_of(text).snippets] == [("swell",), ("ebb",)]
    verdicts = document("check", tmp_path)["verdicts"]
    assert {v["entry"] for v in verdicts} == {"swell", "ebb"}
    assert {v["verdict"] for v in verdicts} == {"correct"}
    assert "there already" in refused("start", source)
