"""The machine's side: processes, compilers found, linking, workers and their placements."""

import random
import select
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import document, hot_anvil, write_bench
from hot_anvil.api import open_bench, open_source
from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.binary.types import Type
from hot_anvil.core.binary.variables import Placed, Variable
from hot_anvil.core.calling.protocol import HEAD, read_output
from hot_anvil.core.calling.timing import (
    Asked,
    Sample,
    prepare,
    read_batches,
    read_calibration,
    read_probe,
)
from hot_anvil.core.inputs.input_sets import Argument, InputSet
from hot_anvil.core.inputs.spec import InputSpec, point_label, sweep_points
from hot_anvil.core.measure.measurements import BatchSize
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.worker_objects import PLACEMENTS
from hot_anvil.system.check.shrinking import Caller, Side
from hot_anvil.system.execute.workers import Worker, WorkerEnded
from hot_anvil.system.measure.contestants import SHARED, Contestant, Plan, Process
from hot_anvil.system.measure.measuring import generations_and_rounds
from hot_anvil.system.measure.rounds import PlacementSchedule
from hot_anvil.system.process.running import OUTPUT_LIMIT, run
from hot_anvil.usecases.entries import find_callable
from hot_anvil.usecases.linking import link_builds

TOTAL = """int total(const int *levels, int n)
{ int s = 0; for (int i = 0; i < n; i++) s += levels[i]; return s; }
"""


def test_a_time_limit_reaches_children_and_output_is_cut() -> None:
    started = time.monotonic()
    said = run(["sh", "-c", "sleep 30 & sleep 30"], "/", seconds=0.3)
    assert said.timed_out and said.failed and "stopped" in said.ending
    assert time.monotonic() - started < 10
    loud = run([sys.executable, "-c", f"print('w' * {OUTPUT_LIMIT + 5000})"], "/")
    assert len(loud.stdout) == OUTPUT_LIMIT and not loud.failed
    crashed = run(["sh", "-c", "kill -SEGV $$"], "/")
    assert crashed.ending == "killed by SIGSEGV"


def test_commands_that_only_look_like_compilers_are_told_apart(tmp_path: Path) -> None:
    for name, text in {
        "gcc": "echo hello",
        "gcc-9": "exit 7",
        "clang": "kill -9 $$",
    }.items():
        file = tmp_path / name
        file.write_text(f"#!/bin/sh\n{text}\n")
        file.chmod(0o755)
    (tmp_path / "gcc-8").write_text("not a program")
    (tmp_path / "gcc-8").chmod(0o755)
    answer = hot_anvil("toolchains", "--format", "json", PATH=f"{tmp_path}:/nowhere")
    assert answer.returncode == 3 and "Traceback" not in answer.stderr
    for told in (
        "does not answer like a gcc",
        "exit code 7",
        "killed by SIGKILL",
        "cannot be started",
    ):
        assert told in answer.stdout
    told = hot_anvil("toolchains", PATH=str(tmp_path)).stdout
    assert "apt install clang" in told


def test_a_compiler_behind_another_name_and_a_link_to_one(tmp_path: Path) -> None:
    bench = write_bench(
        tmp_path,
        '[toolchain.quay]\ncommand = "./quay"\nfamily = "gcc"\n[flags]\neven = "-O2"\n'
        '[[snippet]]\nsources = ["total.c"]\n',
        total=TOTAL,
    )
    (tmp_path / "quay").write_text('#!/bin/sh\nexec gcc "$@"\n')
    (tmp_path / "quay").chmod(0o755)
    names = {b["build"]: b["code_bytes"] for b in document("compile", bench, "--trust")["builds"]}
    assert names["quay:even"] == names["gcc-12:even"]


def test_a_snippet_of_several_sources_is_one_program(tmp_path: Path) -> None:
    bench = write_bench(
        tmp_path / "quay",
        '[flags]\nplain = "-O0"\neven = "-O2"\n[grid]\ntoolchains = ["gcc"]\n'
        '[[snippet]]\nname = "tides"\nsources = ["sum.c", "half.c"]\nentries = ["mean2"]\n'
        "[snippet.sweep]\na = [1, 8]\nb = [3, 5]\n"
        '[snippet.inputs]\na = "a"\nb = "2 * b"\n',
        sum="int half(int x);\nint mean2(int a, int b) { return half(a + b); }\n",
        half="int half(int x) { return x / 2; }\n",
    )
    (checked,) = open_bench(bench).check()
    assert [v.verdict for v in checked.verdicts] == ["correct", "correct"]
    assert {point_label(p) for p in sweep_points(checked.snippet)} == {
        "a=1 b=3", "a=1 b=5", "a=8 b=3", "a=8 b=5",
    }  # fmt: skip
    found = document("listing", bench, "gcc:even")
    assert {f["name"] for f in found["functions"]} == {"mean2", "half"}
    (bench / "half.c").write_text("int half(int x) { return x >> 1 }\n")
    by_build = document("compile", bench, code=1)["builds"]
    assert {b["status"] for b in by_build} == {"refused"}
    assert all("half.c:1" in b["why"] for b in by_build)
    (bench / "half.c").unlink()
    assert "no such file" in hot_anvil("compile", bench).stdout


def test_what_cannot_be_linked_is_not_run_and_says_why(tmp_path: Path) -> None:
    source = tmp_path / "far.c"
    source.write_text("int elsewhere(int);\nint far(int x) { return elsewhere(x); }\n")
    found = document("check", source, "--build", "gcc -O1", "--inputs", "x = 1", code=1)
    (verdict,) = found["verdicts"]
    assert verdict["verdict"] == "not run" and "elsewhere" in verdict["why"]


def test_flags_that_change_only_the_linking_are_not_the_same_code(tmp_path: Path) -> None:
    """-ffast-math links start-up code that changes how the CPU treats tiny floats."""
    source = tmp_path / "gauge.c"
    source.write_text("int same(int x) { return x + 1; }\n")
    anvil = open_source(source, ["gcc -O1", "gcc -O1 -Wall", "gcc -O1 -ffast-math"])
    signatures = find_callable(anvil.workspace, anvil.bench.snippets[0]).signatures
    plain, warned, fast = link_builds(anvil.workspace, anvil.compile(), signatures, 0).values()
    assert plain.same_code == warned.same_code != fast.same_code


def test_a_worker_that_is_asked_nonsense_ends_and_says_so(
    tmp_path: Path, toolchains: Sequence[Toolchain]
) -> None:
    source = tmp_path / "total.c"
    source.write_text(TOTAL)
    anvil = open_source(source, [f"{toolchains[0].name} -O1"])
    (program,) = link_builds(
        anvil.workspace,
        anvil.compile(),
        find_callable(anvil.workspace, anvil.bench.snippets[0]).signatures,
        0,
    ).values()
    with Worker(program.path) as worker:
        assert 0 < worker.probe() < 1
        with pytest.raises(WorkerEnded) as ended:
            worker.batches([Asked(3, 1, False, 1)], 5)  # nothing was prepared in that slot
    assert ended.value.kind == "crashed"
    huge = InputSet(InputSpec({}), (Argument("levels", "buffer", b"\0" * (64 << 20), 4, False),))
    with Worker(program.path, memory=32 << 20) as small, pytest.raises(WorkerEnded) as ended:
        small.prepare(0, 0, 0, huge)
    assert "memory" in ended.value.why


def test_a_machine_that_stood_still_makes_nothing_hang(
    tmp_path: Path, toolchains: Sequence[Toolchain], monkeypatch: pytest.MonkeyPatch
) -> None:
    """A laptop that slept or a guest that was held: that time is not the call's."""
    source = tmp_path / "still.c"
    source.write_text("int still(int n)\n{ for (volatile int i = n; i; i--); return 1; }\n")
    anvil = open_source(source, [f"{toolchains[0].name} -O1"])
    signatures = find_callable(anvil.workspace, anvil.bench.snippets[0]).signatures
    (program,) = link_builds(anvil.workspace, anvil.compile(), signatures, 0).values()
    away = [0.0]
    plain, clock = select.select, time.monotonic

    def held(*words: Any) -> Any:
        """Let an hour pass at the first look."""
        if not away[0]:
            away[0] = 3600.0
            return [], [], []
        return plain(*words)

    def called(n: int, seconds: float) -> str:
        number = InputSet(
            InputSpec({}),
            (Argument("n", "scalar", n.to_bytes(4, "little", signed=True), 4, False),),
        )
        caller = Caller(Side(program.path, 0, signatures[0]), str(tmp_path), seconds)
        try:
            return caller.call(number).ending
        finally:
            caller.close()

    assert called(-1, 1.0) == "hung"
    monkeypatch.setattr("select.select", held)
    monkeypatch.setattr("time.monotonic", lambda: clock() + away[0])
    assert called(200_000_000, 20.0) == "" and away[0]


POINTS = Signature("found", "found", Type("pointer", 8, "char *"), (), "", 0)

buffers = st.builds(
    lambda name, data, writable: Argument(name, "buffer", data, 1, writable),
    st.sampled_from("abc"),
    st.binary(max_size=40),
    st.booleans(),
)


@given(st.lists(buffers, max_size=5), st.binary(min_size=16, max_size=16))
def test_outputs_are_cut_where_the_buffers_end(arguments: list[Argument], result: bytes) -> None:
    inputs = InputSet(InputSpec({}), tuple(arguments))
    written = [a for a in arguments if a.writable]
    nowhere = b"\xff\xff\xff\xff" + bytes(8)
    left, seen = 8, Variable("seen", "seen", Type("int", 4, "int"))
    made = nowhere + left.to_bytes(4, "little") + result + b"".join(a.data for a in written)
    found = read_output(made + b"tide", inputs, POINTS, [Placed(seen, 64)])
    assert (found.result, found.left, found.variables) == (result, left, ((seen, b"tide"),))
    assert list(found.buffers) == [(a.name, a.data) for a in written]
    asked = b"".join(prepare(2, 0, 1, inputs))
    assert len(asked) == HEAD.size + HEAD.unpack(asked[: HEAD.size])[1]


def test_answers_are_in_seconds() -> None:
    def numbers(*values: int) -> bytes:
        return b"".join(v.to_bytes(8, "little") for v in values)

    assert read_calibration(numbers(7, 2_000_000, 384)) == (7, 0.002, 384)
    asked = [Asked(4, 2, False, 9), Asked(5, 1, True, 9)]
    one = numbers(1_000, 20, 2, 3_000, 2_000, 1_000, 5_000, 4_000, 0)
    first, second = read_batches(one + numbers(2_000, 0, 0, 7_000, 7_000, 0), asked)
    assert (first.probe, first.restoring, first.waits) == (1e-6, 2e-8, 2)
    assert first.samples == (Sample(3e-6, 2e-6, 1e-6), Sample(5e-6, 4e-6, 0.0))
    assert second.samples == (Sample(7e-6, 7e-6, 0.0),)
    assert read_probe(numbers(100_000)) == 1e-4


def plan_of(seconds_a_call: float) -> Plan:
    contestants = (Contestant("c0", "b0", 0), Contestant("c1", "b1", 0))
    images = {
        one.build: {place: f"/{one.build}/{place}/library.so" for place in PLACEMENTS}
        for one in contestants
    }
    batch_sizes = {
        (contestant, 0): BatchSize(1, seconds_a_call, seconds_a_call) for contestant in range(2)
    }
    everyone = frozenset({0, 1})
    return Plan(
        contestants,
        images,
        images,
        "/loader",
        {},
        1,
        0,
        everyone,
        (1,),
        batch_sizes,
        (False,),
        ("",),
    )


def test_long_calls_get_fewer_generations_and_short_ones_all_placements() -> None:
    count, rounds = generations_and_rounds(plan_of(1e-3), 20.0)
    assert count >= 5 * len(PLACEMENTS) + 5 and rounds > 1
    assert generations_and_rounds(plan_of(0.5), 2.0) == (10, 1)
    for seconds in (0.4, 1.0, 5.0):
        plan = plan_of(1e-3)
        count, rounds = generations_and_rounds(plan, seconds)
        assert count * (plan.fixed_seconds() + rounds * plan.round_seconds()) <= seconds * 1.01


@given(st.integers(0, 999))
def test_generations_go_through_all_placements_before_any_comes_again(seed: int) -> None:
    schedule = PlacementSchedule(PLACEMENTS, random.Random(seed))
    drawn = [schedule.draw() for _ in range(2 * len(PLACEMENTS))]
    for half in (drawn[: len(PLACEMENTS)], drawn[len(PLACEMENTS) :]):
        assert sorted(half) == sorted(PLACEMENTS)


def test_a_control_is_another_file_in_the_same_process_and_slots_are_its_own() -> None:
    plan = plan_of(1e-6)
    own, control = plan.process_slot(1, 0), plan.process_slot(2, 0)
    assert own.process == control.process == SHARED and own.contestant == control.contestant == 1
    files = [
        plan.library(process_slot.library, PLACEMENTS[1])
        for process_slot in (plan.process_slot(0, 0), own, control)
    ]
    assert files == ["/b0/77/library.so", "/b1/77/library.so", "/b1/77/control.so"]
    assert len({plan.slot(column, 0) for column in plan.columns}) == 3
    apart = plan._replace(libraries={})
    assert [apart.process_slot(c, 0).process for c in apart.columns] == [
        Process("b0", False), Process("b1", False), Process("b1", True)
    ]  # fmt: skip


MIXED = """
void settle(int *levels, int n)
{
    for (int i = 1; i < n; i++) levels[i] = KIND;
}
"""


@pytest.mark.parametrize(
    ("kind", "reads"),
    [("i", False), ("levels[i] > 9 ? 9 : levels[i]", True), ("levels[i - 1] / 2 + i", True)],
)
def test_calls_that_read_what_they_wrote_are_timed_one_by_one(
    tmp_path: Path, kind: str, reads: bool
) -> None:
    source = tmp_path / "settle.c"
    source.write_text(MIXED.replace("KIND", kind))
    values = ['levels = { fill = "uniform(0, 20)", count = 64 }', "n = 64"]
    given = [word for value in values for word in ("--inputs", value)]
    found = document("measure", source, "--build", "gcc -O1", *given, "--seconds", "0.1")
    (measurements,) = found["measurements"]
    assert measurements["each_call_alone"] == reads and measurements["restoring_seconds"] > 0
