"""A save is answered: what it did to the code, however an editor writes, and what is wrong."""

import functools
import json
import os
import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import COMMAND, hot_anvil, refused

NEED = Callable[..., None]
BENCH = """
[flags]
easy = "-O1"
fast = "-O3"
[grid]
toolchains = ["gcc-12"]
[[snippet]]
name = "total"
sources = ["total.c", "other.c"]
[[snippet.expect]]
entry = "total"
builds = ["*:fast"]
loop = "any"
facts = { vector = 4 }
"""
TOTAL = """#include "scale.h"
int total(const int *level, int n)
{
    int sum = 0;
    for (int i = 0; i < n; i++)
        sum += level[i] * SCALE;
    return sum;
}
"""
OTHER = "int other(int a) { return a / 3; }\n"


class Watched:
    """A running watch, whose answers are read one by one."""

    def __init__(self, folder: Path, *words: str) -> None:
        self.folder = folder
        self.running = subprocess.Popen(
            [COMMAND, "watch", folder, *words, "--format", "json"],
            stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
            preexec_fn=functools.partial(signal.signal, signal.SIGINT, signal.SIG_DFL),
        )  # fmt: skip

    def answer(self) -> dict[str, Any]:
        assert self.running.stdout is not None
        line = self.running.stdout.readline()
        assert line, self.running.stderr.read() if self.running.stderr else ""
        return dict(json.loads(line))

    def save(self, name: str, text: str) -> dict[str, Any]:
        """Save as an editor does that writes a new file and renames it."""
        beside = self.folder / f".{name}.new"
        beside.write_text(text)
        beside.rename(self.folder / name)
        return self.answer()

    def end(self) -> int:
        self.running.send_signal(signal.SIGINT)
        return self.running.wait(timeout=60)

    def close(self) -> None:
        self.running.kill()
        self.running.communicate()


@pytest.fixture
def bench(tmp_path: Path, need: NEED) -> Path:
    need("gcc-12")
    folder = tmp_path / "quay"
    folder.mkdir()
    (folder / "anvil.toml").write_text(BENCH)
    (folder / "total.c").write_text(TOTAL)
    (folder / "other.c").write_text(OTHER)
    (folder / "scale.h").write_text("#define SCALE 3\n")
    return folder


@pytest.fixture
def watched(bench: Path) -> Iterator[Watched]:
    made = Watched(bench)
    first = made.answer()
    assert first["number"] == 0 and {b["state"] for b in first["builds"]} == {"same code"}
    yield made
    made.close()


def states(answer: dict[str, Any]) -> dict[str, str]:
    return {one["build"].partition(":")[2]: one["state"] for one in answer["builds"]}


def test_each_save_is_compared_with_the_last_good_state(watched: Watched) -> None:
    made = watched.save("total.c", TOTAL.replace("+= level[i] *", "+= level[i] * level[i] *"))
    assert made["files"] == ["total.c"] and states(made) == {"easy": "changed", "fast": "changed"}
    lines = {line["line"] for one in made["builds"] for line in one["lines"]}
    assert 6 in lines and made["seconds"] >= made["compiling"] > 0
    # A comment changes no code, and moves lines.
    made = watched.save("total.c", "/* a note */\n" + TOTAL.replace("[i] *", "[i] * level[i] *"))
    assert states(made) == {"easy": "same code", "fast": "same code"}
    # What does not compile is told by line; what was good stays what is compared with.
    made = watched.save("total.c", TOTAL.replace("return sum;", "return sun;"))
    assert states(made) == {"easy": "refused", "fast": "refused"}
    error = made["builds"][0]["errors"][0]
    assert (error["file"], error["line"]) == ("total.c", 7) and "sun" in error["message"]
    made = watched.save("total.c", TOTAL.replace("[i] *", "[i] * level[i] *"))
    assert states(made) == {"easy": "same code", "fast": "same code"}
    made = watched.save("total.c", TOTAL)
    assert set(states(made).values()) == {"changed"}
    assert watched.end() == 0


def test_headers_and_other_sources_count_and_touching_does_not(watched: Watched) -> None:
    made = watched.save("scale.h", "#define SCALE 40\n")
    assert made["files"] == ["scale.h"] and set(states(made).values()) == {"changed"}
    os.utime(watched.folder / "scale.h")
    (watched.folder / "unrelated.txt").write_text("no source")
    # An editor that writes twice, at once: one save.
    for part in (OTHER[:10], OTHER.replace("3", "7")):
        (watched.folder / "other.c").write_text(part)
    made = watched.answer()
    assert made["files"] == ["other.c"] and made["number"] == 2
    assert set(states(made).values()) == {"changed"}
    assert [line["line"] for one in made["builds"] for line in one["lines"]] == [1, 1]


def test_facts_and_expectations_that_change_are_named(watched: Watched) -> None:
    scalar = TOTAL.replace("sum += ", "if (level[i] == 9) return i; else sum += ")
    made = watched.save("total.c", scalar)
    facts = {(f["build"].partition(":")[2], f["fact"]): f for f in made["facts"]}
    assert ("fast", "instructions") in facts
    (told,) = made["expectations"]
    assert (told["entry"], told["fact"], told["before"]) == ("total", "vector", "held")
    assert told["after"] == "failed" and told["found"]
    made = watched.save("total.c", TOTAL)
    assert [one["after"] for one in made["expectations"]] == ["held"]


def test_a_bench_file_that_is_half_written_is_waited_out(watched: Watched) -> None:
    made = watched.save("anvil.toml", BENCH + "[half")
    assert "not valid TOML" in made["trouble"]
    made = watched.save("anvil.toml", BENCH.replace('easy = "-O1"', 'easy = "-O2"'))
    assert states(made)["easy"] == "changed"


def test_a_function_a_verdict_and_a_time(bench: Path) -> None:
    text = (bench / "anvil.toml").read_text()
    inputs = '[snippet.inputs]\nlevel = { fill = "ramp(1, 1)", count = 64 }\nn = 64\n'
    entries = 'sources = ["total.c", "other.c"]\nentries = ["total"]\n'
    text = text.replace('sources = ["total.c", "other.c"]\n', entries)
    (bench / "anvil.toml").write_text(text + inputs)
    watch = Watched(bench, "--entry", "total", "--check", "--measure", "--saves", "2")
    watch.answer()
    made = watch.save("other.c", OTHER.replace("3", "5"))
    assert set(states(made).values()) == {"same code"}  # of what was asked for
    made = watch.save("total.c", TOTAL.replace("sum = 0", "sum = n"))
    assert set(states(made).values()) == {"changed"}
    checked, measured = watch.answer(), watch.answer()
    assert {v["verdict"] for v in checked["verdicts"]} == {"correct"}
    assert measured["kind"] == "measure" and len(measured["results"]) == 2
    assert watch.running.wait(timeout=120) == 0
    watch.close()


def test_as_text_it_names_lines_builds_and_errors(bench: Path) -> None:
    running = subprocess.Popen(
        [COMMAND, "watch", bench, "--saves", "2", "--out", bench / "told.txt"],
        env={**os.environ, "COLUMNS": "80"},
    )
    until(lambda: (bench / "told.txt").exists() and "compiled" in told(bench))
    (bench / "total.c").write_text(TOTAL.replace("* SCALE", "/ SCALE"))
    until(lambda: "instructions" in told(bench))
    (bench / "total.c").write_text(TOTAL.replace("* SCALE", "/ SCALES"))
    assert running.wait(timeout=60) == 0
    text = told(bench)
    assert "2 of 2 compiled, of 1 snippet" in text
    assert "sum += level[i] / SCALE;" in text and "gcc-12:easy, gcc-12:fast" in text
    assert "total.c:6: 'SCALES' undeclared" in text
    assert "stays the state to compare" in " ".join(text.split())
    assert all(len(line) <= 80 for line in text.split("\n")), text


def told(bench: Path) -> str:
    return (bench / "told.txt").read_text()


def until(true: Callable[[], bool]) -> None:
    for _ in range(600):
        if true():
            return
        time.sleep(0.1)
    raise AssertionError("it did not come to that")


def test_what_cannot_be_watched_is_said(bench: Path) -> None:
    assert "No build is called" in refused("watch", str(bench), "gcc-12:none")
    shutil.rmtree(bench / ".hot-anvil", ignore_errors=True)
    assert hot_anvil("watch", bench / "nothing.c").returncode == 2
