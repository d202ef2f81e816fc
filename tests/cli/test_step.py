"""``step``: one call told instruction by instruction, two up to where they disagree."""

import csv
import io
import os
import pty
import select
import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import COMMAND, document, hot_anvil, lacking, refused

SOURCE = """#include <stdint.h>
#include <stdlib.h>
#include <string.h>
struct gauge { int16_t height; double scale; int32_t last[2]; };
static int asked;
static int by_height(const void *a, const void *b)
{
    asked++;
    return *(const int16_t *)a - *(const int16_t *)b;
}
double summed(const int16_t *levels, struct gauge *gauge, int32_t n)
{
    int16_t sorted[8];
    double sum = 0;
    memcpy(sorted, levels, 2 * n);
    qsort(sorted, n, sizeof *sorted, by_height);
    for (int32_t i = 0; i < n; i++) {
        gauge->last[i & 1] = sorted[i];
        sum += sorted[i] * gauge->scale;
    }
    return sum;
}
int32_t beyond(const int16_t *levels, int32_t n)
{
    int32_t sum = 0;
    for (int32_t i = 0; i <= n; i++)
        sum += levels[i];
    return sum;
}
int32_t counts(const int16_t *levels, int32_t n)
{
    int32_t count = 0;
    for (int32_t i = 0; i < n; i++)
        count += levels[i] > 100;
    return count;
}
int32_t miscounts(const int16_t *levels, int32_t n)
{
    int32_t count = 0;
    for (int32_t i = 0; i < n; i++)
        count += levels[i] >= 100;
    return count;
}
"""
BENCH = """[flags]
plain = "-O0"
fast = "-O2"
[grid]
toolchains = ["gcc"]
[[snippet]]
name = "sum"
sources = ["quay.c"]
entries = ["summed"]
[snippet.inputs]
levels = { fill = "ramp(30, -10)", count = 3 }
gauge = { fill = "ramp(2, 0)", count = 1 }
n = 3
[[snippet]]
name = "beyond"
sources = ["quay.c"]
entries = ["beyond"]
[snippet.inputs]
levels = { fill = "ramp(1, 1)", count = 3 }
n = 3
[[snippet]]
name = "count"
sources = ["quay.c"]
entries = ["counts", "miscounts"]
[snippet.inputs]
levels = { fill = "ramp(98, 1)", count = 5 }
n = 5
"""


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A bench with a call that goes through a library, one that crashes, and two rivals."""
    if not shutil.which("gcc"):
        lacking("gcc")
    folder = tmp_path_factory.mktemp("step")
    (folder / "quay.c").write_text(SOURCE)
    (folder / "anvil.toml").write_text(BENCH)
    return folder


@pytest.fixture(scope="module")
def told(bench: Path) -> Any:
    """All steps of the call that goes through a library."""
    return document("step", bench, "gcc:plain", "--entry", "summed", "--limit", "9999")


def set_by(steps: Any, name: str) -> list[tuple[int, str]]:
    """Return (line, value) of each time that something is set."""
    return [(s["line"], one["after"]) for s in steps for one in s["set"] if one["name"] == name]


def test_variables_are_told_by_name_and_type(told: Any) -> None:
    steps = told["steps"]
    assert len(steps) == told["summary"]["executed"] == told["recorded"]
    assert set_by(steps, "sum") == [(14, "0"), (19, "20"), (19, "60"), (19, "120")]
    assert set_by(steps, "gauge[0].last[1]") == [(18, "20")]
    assert [v for line, v in set_by(steps, "i") if line == 17] == ["0", "1", "2", "3"]
    loop = [s for s in steps if s["line"] == 19]
    assert [s["passes"] for s in loop][-1] == [3]
    assert told["output"].startswith("returned 120")


def test_code_that_is_not_stepped_through_still_counts(told: Any) -> None:
    steps = told["steps"]
    assert set_by(steps, "sorted[0]")[0][1] == "30"  # by memcpy
    assert [v for _, v in set_by(steps, "sorted[2]")][-1] == "30"  # by qsort
    assert set_by(steps, "asked")[-1][1] == str(sum(s["enters"] == "by_height" for s in steps))
    inner = [s for s in steps if s["function"] == "by_height"]
    assert {s["depth"] for s in inner} == {1}
    calls = {(c["function"], c["stepped"]): c["times"] for c in told["summary"]["calls"]}
    assert calls["qsort", False] == calls["memcpy", False] == 1 and calls["by_height", True] >= 2


def test_the_summary_counts_passes_and_branches(told: Any) -> None:
    (loop,) = told["summary"]["loops"]
    assert (loop["line"], loop["passes"], loop["entered"]) == (17, 3, 1)
    (branch,) = told["summary"]["branches"]
    assert sorted((branch["taken"], branch["not_taken"])) == [1, 3]


def test_steps_are_chosen(bench: Path, told: Any) -> None:
    def numbers(*chosen: str) -> list[int]:
        words = ("--entry", "summed", "--limit", "9999", *chosen)
        return [s["number"] for s in document("step", bench, "gcc:plain", *words)["steps"]]

    every = told["steps"]
    sums = [s["number"] for s in every if any(one["name"] == "sum" for one in s["set"])]
    assert numbers("--watch", "sum") == sums
    assert numbers("--at", "18") == [s["number"] for s in every if s["line"] == 18]
    last = [s["number"] for s in every if not s["passes"] or s["passes"][0] in (1, 4)]
    assert numbers("--passes", "first,last") == last
    assert numbers("--only-changes") == [s["number"] for s in every if s["set"]]
    told_less = document("step", bench, "gcc:plain", "--entry", "summed", "--limit", "3")
    assert len(told_less["steps"]) == 3 and told_less["steps_chosen"] == len(every)


def test_as_text_and_as_a_table(bench: Path) -> None:
    words = ("step", bench, "gcc:plain", "--entry", "summed")
    text = hot_anvil(*words, "--watch", "sum", "--words").stdout
    assert "sum 20 -> 60" in text and "quay.c:19" in text and "pass 2" in text
    lines = hot_anvil(*words, "--lines", "--at", "18").stdout
    assert "gauge[0].last[1]" in lines and "mov " not in lines
    rows = list(csv.DictReader(io.StringIO(hot_anvil(*words, "--format", "csv").stdout)))
    assert {"register", "variable", "buffer"} <= {row["what"] for row in rows}


def test_a_call_that_crashes_shows_its_end(bench: Path) -> None:
    answer = hot_anvil("step", bench, "gcc:plain", "--entry", "beyond", "--limit", "4")
    assert answer.returncode == 1
    assert "beyond its 3 elements" in answer.stdout and "pass 4" in answer.stdout
    assert "steps before" in answer.stdout


def test_two_rivals_are_told_apart_where_they_part(bench: Path) -> None:
    words = ("counts@gcc:plain", "miscounts@gcc:plain", "--snippet", "count")
    found = document("step", bench, *words, code=1)
    assert found["disagree"] and found["name"] == "count"
    left, right = (side["at"] for side in found["sides"])
    assert (left["line"], left["passes"], left["value"]) == (34, [3], "0")
    assert (right["line"], right["passes"], right["value"]) == (41, [3], "1")
    assert found["sides"][1]["steps"][-1]["number"] == right["step"]
    text = hot_anvil("step", bench, *words).stdout
    assert "count is 0 in counts@gcc-12:plain, at quay.c:34, pass 3" in " ".join(text.split())


def test_two_right_builds_do_not_disagree(bench: Path) -> None:
    found = document("step", bench, "gcc:plain", "gcc:fast", "--entry", "counts")
    assert not found["disagree"] and found["compared"] > 0


def test_check_offers_to_step_through_what_is_wrong(bench: Path) -> None:
    said = hot_anvil("check", bench, "--snippet", "count").stdout
    (line,) = {t.strip() for t in said.splitlines() if "step by step: hot-anvil step" in t}
    words = line.partition("hot-anvil ")[2].split()
    assert hot_anvil(*words).returncode == 1


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["gcc:plain"], "say of which snippet"),
        (["gcc:plain", "--entry", "sumed"], "Did you mean 'summed'?"),
        (["gcc:plain", "--entry", "summed", "--passes", "frist"], "--passes frist"),
        (["gcc:plain", "--entry", "summed", "--at", "x"], "--at x"),
        (["gcc:plain", "--entry", "summed", "--size", "n=4"], "--size n=4"),
        (["gcc:plain", "--replay", "nothing"], "--replay no input set"),
        (["gcc:plain", "gcc:fast", "gcc:plain", "--entry", "summed"], "3 are named"),
        (["gcc:plain", "--entry", "summed", "--interactive"], "needs a terminal"),
    ],
)
def test_bad_requests(bench: Path, words: list[str], said: str) -> None:
    assert said in refused("step", bench, *words)


def test_on_a_terminal_one_moves_forward_and_back(bench: Path) -> None:
    with _Terminal("step", bench, "gcc:plain", "--entry", "counts", "--interactive") as terminal:
        assert "h shows the keys" in terminal.until("step 1 of")
        assert "step 2 of" in terminal.press("j", "step 2 of")
        assert "count" in terminal.press("/count\n", "count = 0")
        where = terminal.press("n", "count stays 0")
        assert "pass 1" in where
        assert "pass 2" in terminal.press("]", "pass 2")
        assert "pass 1" in terminal.press("k", "pass 1")
        assert "&levels[0]" in terminal.press("v", "&levels[0]")
        assert "returns" in terminal.press("G", "returns")
        assert "step 1 of" in terminal.press("g", "step 1 of")
        assert "this is the first step" in terminal.press("k", "first step")
        terminal.press("q", "")
    assert terminal.code == 0


class _Terminal:
    """A command in a terminal of its own."""

    def __init__(self, *words: str | Path) -> None:
        self.code = -1
        self._pid, self._fd = pty.fork()
        if not self._pid:
            os.environ["COLUMNS"], os.environ["NO_COLOR"] = "100", "1"
            os.execv(COMMAND, [str(COMMAND), *map(str, words)])

    def __enter__(self) -> "_Terminal":
        return self

    def __exit__(self, *_: object) -> None:
        status = os.waitpid(self._pid, 0)[1]
        self.code = os.waitstatus_to_exitcode(status)
        os.close(self._fd)

    def press(self, keys: str, text: str) -> str:
        os.write(self._fd, keys.encode())
        return self.until(text) if text else ""

    def until(self, text: str) -> str:
        """Return what is shown up to a text; what comes without it fails the test."""
        said, deadline = "", time.monotonic() + 60
        while text not in said:
            ready, _, _ = select.select([self._fd], [], [], max(deadline - time.monotonic(), 0))
            assert ready, f"no '{text}' in {said!r}"
            said += os.read(self._fd, 1 << 16).decode(errors="replace")
        return said


def test_an_emulated_board_is_stepped_through(tmp_path: Path, need: Callable[..., None]) -> None:
    need("arm-none-eabi-gcc", "qemu-system-arm")
    source = tmp_path / "masked.c"
    source.write_text(
        "int masked(const int *levels, int n)\n{\n    int sum = 0;\n    unsigned mask;\n"
        '    __asm__ volatile("mrs %0, primask" : "=r"(mask));\n'
        "    for (int i = 0; i < n; i++)\n        sum += levels[i] + (int)mask;\n"
        "    return sum;\n}\n"
    )
    values = ("--inputs", 'levels = { fill = "ramp(5, 1)", count = 3 }', "--inputs", "n = 3")
    build = ("--build", "arm-none-eabi-gcc -mcpu=cortex-m3 -mthumb -O0")
    found = document("step", source, *build, *values, "--watch", "sum")
    assert found["stepped_by"].startswith("QEMU board")
    assert [v for _, v in set_by(found["steps"], "sum")] == ["0", "5", "11", "18"]
