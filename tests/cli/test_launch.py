"""Kernels at the command: judged, launched, followed; and what is said of a wrong bench."""

import shutil
from pathlib import Path
from typing import Any

import pytest

from conftest import DEMO, document, hot_anvil, lacking, refused

CLANG = "clang-16@nvptx64:fast"
KERNELS = """typedef int int32_t;
extern "C" __global__ void good(const int32_t *in, int32_t *out, int32_t n)
{
    int i = blockIdx.x * blockDim.x + threadIdx.x;
    if (i < n)
        out[i] = in[i] / 3;
}
extern "C" __global__ void off(const int32_t *in, int32_t *out, int32_t n)
{
    int i = blockIdx.x * blockDim.x + threadIdx.x;
    if (i < n)
        out[i] = (in[i] + 1) / 3;
}
extern "C" __global__ void far(const int32_t *in, int32_t *out, int32_t n)
{
    int i = blockIdx.x * blockDim.x + threadIdx.x;
    out[i] = in[i] / 3;
}
extern "C" __global__ void writes(const int32_t *in, int32_t *out, int32_t n)
{
    ((int32_t *)in)[threadIdx.x] = 1;
}
"""
BENCH = """[flags]
fast = {{ clang = "-O2 --cuda-gpu-arch=sm_80" }}
[grid]
toolchains = ["clang-16@nvptx64"]
[[snippet]]
name = "third"
sources = ["third.cu"]
entries = ["good", "off", "far", "writes"]
{launch}
[snippet.inputs]
in = {{ fill = "uniform(-99, 99)", count = "n" }}
out = {{ fill = "zeros", count = "n" }}
n = 100
"""
SHAPE = 'launch = { grid = "(n + 63) // 64", block = 64 }'


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The example of kernels, under clang alone: it comes from a package."""
    if not shutil.which("clang-16"):
        lacking("clang-16")
    folder: Path = tmp_path_factory.mktemp("gpu") / "year"
    shutil.copytree(DEMO.parent / "gpu", folder)
    file = folder / "anvil.toml"
    file.write_text(file.read_text().replace('"nvcc", ', ""))
    return folder


def third(folder: Path, launch: str = SHAPE, source: str = KERNELS) -> Path:
    if not shutil.which("clang-16"):
        lacking("clang-16")
    folder.mkdir(exist_ok=True)
    (folder / "third.cu").write_text(source)
    (folder / "anvil.toml").write_text(BENCH.format(launch=launch))
    return folder


def test_check_judges_kernels_by_a_c_function(bench: Path) -> None:
    found = document("check", bench, "--snippet", "mean", code=1)
    verdicts = {v["entry"]: v["verdict"] for v in found["verdicts"]}
    assert verdicts == {"year_mean": "correct", "year_mean_hasty": "undefined"}
    assert found["references"]["mean"].startswith("mean_of_days@gcc")
    races = {(u["place"]["file"], u["place"]["line"]) for u in found["undefined"]}
    lines = (bench / "year.cu").read_text().splitlines()
    hasty = next(n for n, line in enumerate(lines) if "year_mean_hasty" in line)
    adding = next(n for n, line in enumerate(lines, 1) if n > hasty and "+= sums" in line)
    assert races == {("year.cu", adding)}


def test_check_tells_wrong_kernels_apart(tmp_path: Path) -> None:
    found = document("check", third(tmp_path), code=1)
    told = {v["entry"]: v for v in found["verdicts"]}
    assert {name: c["verdict"] for name, c in told.items()} == {
        "good": "correct", "off": "wrong", "far": "crashed", "writes": "crashed",
    }  # fmt: skip
    assert "in[100], outside the buffer" in told["far"]["why"]
    assert told["far"]["place"] == {"file": "third.cu", "line": 17}
    assert "writes to in, which it promises not to write" in told["writes"]["why"]
    text = hot_anvil("measure", tmp_path).stdout
    assert "nothing runs on this machine itself" in text and "launch counts" in text


def test_a_kernel_that_writes_nothing_is_not_called_compared(tmp_path: Path) -> None:
    quiet = KERNELS.replace(
        "const int32_t *in, int32_t *out, int32_t n)", "const int32_t *in, int32_t n)", 1
    )
    source = quiet.replace(
        "    if (i < n)\n        out[i] = in[i] / 3;", '    if (i < n && in[i] > 999) asm("trap;");'
    )
    first = document("check", third(tmp_path, source=source), code=1)["verdicts"][0]
    assert (first["entry"], first["verdict"]) == ("good", "correct")
    assert "nothing was compared" in first["why"]


def test_launch_counts_by_line_and_maps_blocks(bench: Path) -> None:
    words = ("--snippet", "clamp", "--scheduler", "spread", "--scheduler", "packed")
    (one,) = document("launch", bench, CLANG, *words, "--processors", "3")["launches"]
    assert (one["grid"][0], one["block"][0], one["target"]) == (35, 256, "sm_80")
    assert one["thread_instructions"] == sum(r["thread_instructions"] for r in one["lines"])
    kept = [r for r in one["lines"] if r["sectors"]]
    assert [r["least_sectors"] for r in kept] == [548, 548]  # 8760 levels of 2 bytes, read, kept
    spread, packed = ([b["processor"] for b in m["blocks"]] for m in one["maps"])
    assert spread[:4] == [0, 1, 2, 0] and packed[:9] == [0] * 8 + [1]
    assert [sorted(m["blocks"][n]["block"] for n in range(35)) for m in one["maps"]] == [
        list(range(35)), list(range(35)),
    ]  # fmt: skip
    text = hot_anvil("launch", bench, CLANG, *words).stdout
    assert "packed" in text and "counts, never times" in text and "0-7" in text


def test_launches_side_by_side_name_what_races(bench: Path) -> None:
    answer = hot_anvil("launch", bench)
    assert answer.returncode == 1
    rows = {line.split()[0]: line for line in answer.stdout.splitlines() if "@clang" in line}
    assert "data race" in rows[f"year_mean_hasty@{CLANG}"]
    assert "data race" not in rows[f"year_mean@{CLANG}"]
    narrow = hot_anvil("launch", bench, COLUMNS="80").stdout
    assert max(map(len, narrow.splitlines())) <= 80
    assert "left out, for the width: threads" in narrow and "threads  " in answer.stdout
    assert answer.stdout.count("data race:") == 1


def test_what_the_device_does_not_know_is_a_row_of_its_own(tmp_path: Path) -> None:
    read = 'int v; asm volatile("mov.u32 %0, %%clock;" : "=r"(v)); out[i] = v'
    source = KERNELS.replace("out[i] = in[i] / 3", f"{{ {read}; }}", 1)
    found = document("launch", third(tmp_path, source=source), code=1)["launches"]
    first, second = found[0], found[1]
    assert (first["snippet"], first["ending"], second["ending"]) == ("third", "not run", "returned")
    assert "clock" in first["why"]
    assert "not run" in hot_anvil("launch", tmp_path).stdout
    assert "cannot be launched" in refused("launch", tmp_path, f"good@{CLANG}")
    verdicts = document("check", tmp_path, code=1)["verdicts"]
    assert "not run" in {v["verdict"] for v in verdicts}


def test_start_lays_out_a_bench_of_kernels(tmp_path: Path) -> None:
    third(tmp_path)
    (tmp_path / "anvil.toml").unlink()
    answer = hot_anvil("start", tmp_path / "third.cu")
    assert "next: hot-anvil check" in answer.stdout
    file = tmp_path / "anvil.toml"
    assert file.read_text().count('grid = "(n + 127) // 128", block = 128') == 4
    file.write_text(file.read_text().replace('"nvcc", ', ""))
    found = document("launch", tmp_path, CLANG, code=1)["launches"]
    assert {(one["snippet"], one["ending"]) for one in found} == {
        ("good", "returned"), ("off", "returned"), ("far", "crashed"), ("writes", "crashed"),
    }  # fmt: skip
    assert "third.cu:17: crashed: thread 64" in hot_anvil("launch", tmp_path).stdout
    source = tmp_path / "other" / "one.cu"
    source.parent.mkdir()
    source.write_text("struct s { int a; };\n__global__ void k(struct s *a, float2 b) { }\n")
    assert "only numbers and buffers" in refused("start", source)


def test_a_thread_is_followed(bench: Path) -> None:
    word = f"year_mean@{CLANG}"
    found = document("step", bench, word, "--block", "3", "--limit", "9999")
    steps = found["steps"]
    assert found["block_number"] == 3 and found["threads"] == [0]
    stored = [(a["name"], a["offset"], a["bytes"]) for s in steps for a in s["accesses"]
              if a["stored"]]  # fmt: skip
    sums = [int.from_bytes(bytes.fromhex(b), "little", signed=True)
            for name, offset, b in stored if (name, offset) == ("sums", 0)]  # fmt: skip
    assert len(sums) == 8  # its own level, and seven halvings
    mean = int(sums[-1] / 128)
    assert stored[-1] == ("means", 12, mean.to_bytes(4, "little", signed=True).hex())
    watched = document("step", bench, word, "--block", "3", "--watch", "means")["steps"]
    assert [s["told"] for s in watched] == [[f"means[3] = {mean} (was 0)"]]


def test_a_warp_is_followed(bench: Path) -> None:
    found: Any = document("step", bench, f"year_mean@{CLANG}", "--warp", "0", "--limit", "9999")
    assert found["threads"] == list(range(32))
    own = [s["threads"] for s in found["steps"] if s["text"].startswith("st.shared")]
    assert [len(threads) for threads in own] == [32, 32, 32, 16, 8, 4, 2, 1]
    text = hot_anvil("step", bench, f"year_mean@{CLANG}", "--warp", "0", "--words").stdout
    assert "threads 0-15" in text and "wait for the block's threads" in text
    rows = hot_anvil("step", bench, f"year_mean@{CLANG}", "--format", "csv").stdout.splitlines()
    assert rows[0] == "step,file,line,instruction,threads,told" and len(rows) > 40


def test_the_reference_beside_kernels_is_stepped_as_ever(bench: Path) -> None:
    found = document("step", bench, "mean_of_days@gcc:fast", "--limit", "5")
    assert found["entry"] == "mean_of_days" and len(found["steps"]) == 5


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("launch", "--entry", "nope"), "no kernel is called so"),
        (("launch", "gcc:fast"), "makes no PTX"),
        (("launch", "--size", "n=3", "--snippet", "mean"), "has no sweep of sizes"),
        (("launch", "--processors", "999"), "from 1 to 256"),
        (("step", CLANG, "--snippet", "clamp", "--block", "99"), "blocks 0 to 34"),
        (("step", CLANG, "--snippet", "clamp", "--thread", "256"), "threads 0 to 255"),
        (("step", CLANG, "--snippet", "clamp", "--warp", "8"), "warps 0 to 7"),
        (("step", CLANG, "--snippet", "mean"), "name one with --entry"),
        (("step", CLANG, "--snippet", "clamp", "--passes", "1"), "not for kernels"),
        (("step", "mean_of_days@gcc:fast", "--warp", "1"), "--warp is for kernels"),
        (("hotspots", "--snippet", "mean"), "no times here"),
    ],
)
def test_what_cannot_be_done_is_said(bench: Path, words: tuple[str, ...], said: str) -> None:
    assert said in refused(words[0], bench, *words[1:])


@pytest.mark.parametrize(
    ("launch", "said"),
    [
        ("", "kernels need a shape"),
        ("launch = { grid = 1, block = 2048 }", "launch.block: 2048 is not from 1 to 1024"),
        ('launch = { grid = "n - n", block = 32 }', "launch.grid: 0 is not from 1"),
        ('launch = { grid = "m", block = 32 }', "m"),
        ("launch = { block = 32 }", "grid"),
    ],
)
def test_a_wrong_shape_is_refused(tmp_path: Path, launch: str, said: str) -> None:
    error = refused("launch", third(tmp_path, launch))
    assert said in error and "anvil.toml" in error
