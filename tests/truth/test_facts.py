"""Facts: decided functions, loops really executed, side by side, lines without code, frames."""

import csv
import io
import re
import subprocess
import tomllib
from pathlib import Path

import facts as benchmark
import pytest
import stepping
from hypothesis import given
from hypothesis import strategies as st

from conftest import CORPUS, NEED_ALL, ROOT, document, hot_anvil, refused
from hot_anvil.core.facts.records import ALL, FUNCTION_FACTS, LOOP_FACTS, Fact, FunctionFacts
from hot_anvil.core.facts.table import Column, make_table
from hot_anvil.core.model.streams import Stream


def test_facts_agree_with_hand_decided_truth() -> None:
    cases = tomllib.loads((CORPUS / "facts.toml").read_text())["case"]
    assert len(cases) >= 60
    said: list[str] = []
    tallies, skipped = benchmark.judge(cases, CORPUS, said.append)
    assert not (NEED_ALL and skipped)
    assert sum(tally[0] for tally in tallies.values()) > 100
    assert said == []


def test_every_pass_executed_is_as_long_as_the_fact_says(tmp_path: Path) -> None:
    stepper = stepping.make_stepper(tmp_path)
    said: list[str] = []
    calls = {"tide.c": ("nested", "weigh", "first_quiet"), "levels.c": ("blend", "sum_levels")}
    try:
        tallies = [
            tally
            for source, names in calls.items()
            for tally in stepping.check_source(
                CORPUS / source, ["gcc -O0", "gcc -O3", "gcc -O2 -funroll-loops"],
                {name: stepping.CALLS[source][name] for name in names}, stepper, said.append,
            )
        ]  # fmt: skip
    except subprocess.CalledProcessError as error:
        if error.returncode == 3:
            pytest.skip("processes may not be traced here")
        raise
    assert said == []
    assert sum(tally.passes for tally in tallies) > 250


@given(st.integers(1, 8), st.integers(1, 4), st.lists(st.integers(0, 3), min_size=1, max_size=3))
def test_copies_of_a_pattern_are_counted(copies: int, size: int, parts: list[int]) -> None:
    """A record of unlike fields, repeated: as many copies as there are records."""
    record = [(8 * k, size + k) for k in sorted(set(parts))]
    length = 32
    accesses = tuple((length * n + at, bytes_) for n in range(copies) for at, bytes_ in record)
    for step in (length * copies, -length * copies):
        assert Stream((), False, step, accesses).copies == copies


def test_each_fact_has_evidence_in_the_code_and_a_place_in_the_docs() -> None:
    text = (ROOT / "docs" / "facts.md").read_text()
    assert [n for n in (*FUNCTION_FACTS, *LOOP_FACTS) if f"`{n}`" not in text] == []
    found = document("facts", CORPUS / "tide.c", "--build", "gcc -O2", "--evidence")
    counted = 0
    for function in found["functions"]:
        total = function["facts"]["instructions"]["value"]
        groups = [function["facts"], *(loop["facts"] for loop in function["loops"])]
        for name, fact in ((n, f) for group in groups for n, f in group.items()):
            if fact["value"] in (None, 0, [], False, "", 1):
                continue
            places = fact["evidence"]
            assert places == "all" or (places and max(places) < total), (name, fact)
            assert places == "all" or len(fact["instructions"]) == len(places)
            counted += 1
    assert counted > 100


CLOCK = """#define N 4
static int half(int v) { return v / 2; }
int tide(const int *level, int n)
{
    int sum = 0;
    int waste = n *
        7;
    for (int i = 0; i < n; i++)
        sum += half(level[i]);
    return sum;
}
int day(void)
{
    int hours = 24;
    return hours * 3600;
}
void pause(void)
{
    for (volatile int i = 0; i < 50; i++)
        ;
}
void wait(void)
{
    for (int i = 0; i < 50; i++)
        ;
}
"""


@pytest.fixture
def clock(tmp_path: Path) -> Path:
    """A source with a delay loop, a constant, an inlined call and a useless line."""
    path = tmp_path / "clock.c"
    path.write_text(CLOCK)
    return path


def test_builds_stand_side_by_side_and_only_what_differs_is_shown(clock: Path) -> None:
    builds = ["--build", "gcc -O0", "--build", "gcc -O2"]
    shown = hot_anvil("facts", clock, *builds, "--entry", "tide").stdout
    rows = [line.split() for line in shown.split("\n")]
    assert ["per", "pass"] in [row[:2] for row in rows]
    assert not any(row[:1] == ["vector"] for row in rows)  # scalar in both
    everything = hot_anvil("facts", clock, *builds, "--entry", "tide", "--all").stdout
    assert re.search(r"vector +scalar +scalar", everything)
    assert re.search(r"inlined +- +half from line 9", shown)
    assert re.search(r"not inlined +half +-", shown)
    only = hot_anvil("facts", clock, *builds, "--entry", "tide", "--fact", "frame").stdout
    assert "frame" in only and "per pass" not in only and "No code" not in only


def test_what_should_be_pointed_out_is(clock: Path) -> None:
    words = hot_anvil("facts", clock, "--build", "gcc -O0", "--build", "gcc -O2").stdout
    plain = " ".join(words.split())
    assert "day is the constant 86400 under gcc" in plain
    assert re.search(r"wait, line 24: .* \(gcc\S* -O0: \d+ instructions a pass; .*deleted\)", plain)
    assert re.search(r"pause, line 19: .* \(gcc\S* -O0: \d+ [^;]*; gcc\S* -O2: \d+ instr", plain)
    found = document("facts", clock, "--build", "gcc -O0", "--build", "gcc -O2")
    silent = {line["line"]: line for line in found["lines_without_code"]}
    assert silent[6]["builds"] and not silent[6]["everywhere"]
    assert 7 not in silent  # the rest of line 6's statement
    assert {t["function"] for t in found["timing_loops"]} == {"pause", "wait"}


def test_arithmetic_on_a_constant_in_memory_is_no_constant(tmp_path: Path) -> None:
    source = tmp_path / "half.c"
    source.write_text(
        "float half(float level) { return level * 0.5f; }\n"
        "float size(float level) { return __builtin_fabsf(level); }\n"
        "float quarter(void) { return 0.25f; }\n"
    )
    builds = ["--build", "gcc -O2", "--build", "gcc -O2 -mavx2", "--build", "clang -O2"]
    found = document("facts", source, *builds, "--all")["functions"]
    told = {(f["function"], f["build"]): f["facts"]["constant"]["value"] for f in found}
    assert {value for (name, _), value in told.items() if name in ("half", "size")} == {None}
    assert {value for (name, _), value in told.items() if name == "quarter"} == {"0.25"}


def test_facts_as_csv_and_bad_requests(clock: Path, tmp_path: Path) -> None:
    said = hot_anvil("facts", clock, "--build", "gcc -O2", "--format", "csv", "--fact", "per_pass")
    rows = list(csv.DictReader(io.StringIO(said.stdout)))
    assert {row["function"] for row in rows} == {"tide", "pause"}
    assert all(int(row["value"]) > 0 and row["fact"] == "per pass" for row in rows)
    message = refused("facts", clock, "--build", "gcc -O2", "--fact", "per-pas")
    assert "Did you mean 'per pass'?" in message
    assert "--format" in refused("frame", clock, "--build", "gcc -O2", "--format", "csv")
    broken = tmp_path / "broken.c"
    broken.write_text("int f(void) { return }\n")
    answer = hot_anvil("facts", broken, "--build", "gcc -O2")
    assert answer.returncode == 0 and "refused by gcc" in answer.stdout


def test_a_compilers_variant_stands_beside_the_plain_function() -> None:
    one, other = (
        FunctionFacts(name, name, "t.c", 3, (Fact("instructions", 4, ALL),), ())
        for name in ("walk", "walk.constprop.0")
    )
    table = make_table("t", [Column("a", (one,)), Column("b", (other,))])
    assert [(f.title, f.there) for f in table.functions] == [("walk", (True, True))]
    both = make_table("t", [Column("a", (one, other))])
    assert [f.name for f in both.functions] == ["walk", "walk.constprop.0"]


FRAME = """struct station { int id; short height[3]; double feet; };
extern void send(struct station *s, int *n);
int tally(const short *level, int n)
{
    struct station here = { n, { 1, 2, 3 }, 0.5 };
    int count = 0, unused = 7;
    for (int i = 0; i < n; i++)
        count += level[i];
    send(&here, &count);
    return count;
}
"""


@pytest.mark.parametrize("compiler", ["gcc", "clang", "aarch64-linux-gnu-gcc", "avr-gcc"])
def test_variables_are_where_their_initialisation_stores(compiler: str, tmp_path: Path) -> None:
    path = tmp_path / "frame.c"
    path.write_text(FRAME)
    build = f"{compiler} -O0"
    if hot_anvil("compile", path, "--build", build).returncode:
        assert not NEED_ALL
        pytest.skip(f"{compiler} is missing")
    (tally,) = document("frame", path, "--build", build)["functions"]
    assert tally["same_code"]
    known = {v["name"]: v for v in tally["variables"]}
    assert set(known) == {"level", "n", "here", "count", "unused", "i"}
    register, distance = re.fullmatch(
        r"(\w+?)([+-]\d+)", known["unused"]["places"][0]["where"]
    ).groups()  # type: ignore[union-attr]
    listed = document("listing", path, "--build", build)["functions"][0]["lines"]
    line = next(row for row in listed if row["line"] == 6)
    texts = " ".join(i["text"] for i in line["instructions"])
    forms = {
        "avr-gcc": f"Y+{int(distance)},", "aarch64-linux-gnu-gcc": f"[{register}, {int(distance)}]",
    }  # fmt: skip
    assert forms.get(compiler, f"{int(distance)}(%{register})") in texts
    members = {m["name"]: m["offset"] for m in known["here"]["members"]}
    assert members["id"] == 0 and members["height"] > 0 and members["feet"] > members["height"]


def test_frames_of_optimised_code(tmp_path: Path) -> None:
    path = tmp_path / "frame.c"
    path.write_text(FRAME)
    (tally,) = document("frame", path, "--build", "gcc -O2")["functions"]
    known = {v["name"]: v for v in tally["variables"]}
    assert known["unused"]["places"][0] == known["unused"]["places"][0] | {
        "kind": "constant", "where": "7",
    }  # fmt: skip
    assert known["level"]["places"][0]["where"] == "rdi"
    assert known["count"]["places"][0]["kind"] == "stack"
    kinds = [region["text"] for region in tally["layout"]]
    assert kinds[0] == "return address" and any("here" in text for text in kinds)
    text = hot_anvil("frame", path, "--build", "gcc -O2").stdout
    assert "return address" in text and "entry, no longer kept" in text
    assert "no such function" in refused("frame", path, "--build", "gcc -O2", "--entry", "tallly")
    assert "frame shows one build" in refused(
        "frame", path, "--build", "gcc -O2", "--build", "gcc -O1"
    )


@pytest.mark.parametrize(
    ("build", "address"),
    [
        ("gcc -O0", 8), ("gcc -O3", 8), ("aarch64-linux-gnu-gcc -O0", 0),
        ("aarch64-linux-gnu-gcc -O2", 0), ("riscv64-linux-gnu-gcc -O2", 0),
        ("arm-linux-gnueabihf-gcc -O2", 0), ("avr-gcc -mmcu=atmega328p -O0", 2),
    ],
)  # fmt: skip
def test_frames_are_as_large_as_the_compiler_says(build: str, address: int, tmp_path: Path) -> None:
    """gcc tells the stack of each function, return address included, red zone not."""
    compared = 0
    for source in ("board.c", "values.c", "gate.c"):
        words = [*build.split(), "-fstack-usage", "-w", "-c", str(CORPUS / source)]
        try:
            subprocess.run([*words, "-o", tmp_path / "out.o"], check=True)
        except FileNotFoundError:
            assert not NEED_ALL
            pytest.skip(f"{build} is missing")
        rows = [line.split("\t") for line in (tmp_path / "out.su").read_text().splitlines()]
        told = {row[0].rpartition(":")[2]: int(row[1]) for row in rows}
        found = document("facts", CORPUS / source, "--build", build, "--fact", "frame")
        for function in found["functions"]:
            frame = function["facts"]["frame"]
            below = re.match(r"(\d+) of it below", frame["note"])
            own = frame["value"] - (int(below[1]) if below else 0)
            assert own + address == told[function["symbol"]], (source, function["symbol"])
            compared += 1
    assert compared > 25


def test_a_librarys_loop_stands_where_the_source_calls_it(tmp_path: Path) -> None:
    path = tmp_path / "year.cpp"
    path.write_text(
        "#include <algorithm>\n"
        "void lift(int *level, int n)\n"
        "{\n"
        "    std::for_each(level, level + n, [](int &v) { v *= 3; });\n"
        "}\n"
    )
    builds = ["--build", "g++ -O2 -fno-tree-vectorize", "--build", "g++ -O3"]
    found = document("facts", path, *builds, "--entry", "lift")["functions"]
    mains = [loop for f in found for loop in f["loops"] if loop["part"] == "main"]
    assert [(loop["first_line"], loop["file"]) for loop in mains] == [(4, "year.cpp")] * 2
    assert [loop["facts"]["vector"]["value"] for loop in mains] == [1, 4]


def test_code_made_while_linking_has_facts_too(demo: Path) -> None:
    found = document("facts", demo, "gcc:whole", "--snippet", "frame")["functions"]
    known = {f["function"]: f for f in found}
    split = known["frame_crc_split"]["facts"]
    assert split["calls"]["value"] == [] and known["frame_crc_split"]["loops"]
    assert any("from line" in text for text in split["inlined"]["value"])
    assert "made while linking" in refused("frame", demo, "gcc:whole", "--snippet", "frame")
