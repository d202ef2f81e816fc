"""The store: nothing is compiled twice, nothing stale is shown, nothing half-written stays."""

import ctypes
import functools
import os
import shutil
import signal
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import COMMAND, document, hot_anvil, write_bench
from hot_anvil.system.store.store import Store

BENCH = """
[toolchain.quaycc]
command = "bin/quaycc"
family = "gcc"
[flags]
plain = "-O0 -Iinclude"
fast = "-O2 -Iinclude"
[grid]
toolchains = ["quaycc"]
[[snippet]]
name = "ebb"
sources = ["ebb.c"]
[[snippet]]
name = "flow"
sources = ["flow.c"]
"""
EBB = '#include "tide.h"\nint ebb(int level) { return level - STEP; }\n'
FLOW = "int flow(int level) { return level + 3; }\n"
# A compiler that keeps count of how often it makes assembly.
QUAYCC = """#!/bin/sh
case " $* " in *" -S "*) echo "$*" >> "{log}" ;; esac
exec gcc "$@"
"""


class Quay:
    """A bench with a compiler that counts."""

    def __init__(self, folder: Path) -> None:
        self.folder = write_bench(folder / "quay; a 'b'", BENCH, ebb=EBB, flow=FLOW)
        for name in ("bin", "include"):
            (self.folder / name).mkdir()
        self.header = self.folder / "include" / "tide.h"
        self.header.write_text("#define STEP 1\n")
        self.log = folder / "log"
        self.compiler = self.folder / "bin" / "quaycc"
        self.set_compiler("")

    def set_compiler(self, extra: str) -> None:
        made = self.compiler.with_name("new")  # the old one may be running
        made.write_text(QUAYCC.format(log=self.log) + extra)
        made.chmod(0o755)
        made.replace(self.compiler)

    def compiled(self) -> list[str]:
        """Run compile; return the sources that a compiler ran for, once per build."""
        self.log.write_text("")
        answer = hot_anvil("compile", self.folder, "--trust")
        assert answer.returncode == 0, answer.stdout + answer.stderr
        lines = self.log.read_text().splitlines()
        return sorted("ebb" if "ebb.c" in line else "flow" for line in lines)

    def constant(self) -> str:
        """Return the operand of the subtraction that ``ebb`` is made of."""
        found = document("listing", self.folder, "quaycc:fast", "--trust", "--entry", "ebb")
        texts: list[str] = [
            i["text"] for line in found["functions"][0]["lines"] for i in line["instructions"]
        ]
        return texts[0]


@pytest.fixture
def quay(tmp_path: Path) -> Quay:
    return Quay(tmp_path)


def test_only_what_changed_is_compiled_again(quay: Quay) -> None:
    assert quay.compiled() == ["ebb", "ebb", "flow", "flow"]
    assert quay.compiled() == []
    quay.header.write_text("#define STEP 20\n")
    assert quay.compiled() == ["ebb", "ebb"]
    assert "20" in quay.constant()
    quay.set_compiler("# another build of it\n")
    assert quay.compiled() == ["ebb", "ebb", "flow", "flow"]
    os.utime(quay.folder / "flow.c")  # a newer time alone changes nothing
    assert quay.compiled() == []


def test_an_edit_of_the_same_length_and_time_is_seen(quay: Quay) -> None:
    quay.compiled()
    before = quay.header.stat()
    quay.header.write_text("#define STEP 7\n")
    os.utime(quay.header, ns=(before.st_atime_ns, before.st_mtime_ns))
    assert quay.compiled() == ["ebb", "ebb"]
    assert "7" in quay.constant()


def test_a_new_header_found_earlier_is_seen(quay: Quay) -> None:
    quay.compiled()
    (quay.folder / "tide.h").write_text("#define STEP 99\n")
    assert quay.compiled() == ["ebb", "ebb"]
    assert "99" in quay.constant()


def test_a_refused_source_stops_nobody_else_and_is_shown_by_line(quay: Quay) -> None:
    (quay.folder / "ebb.c").write_text('#include "tide.h"\nint ebb(int level) { return }\n')
    found = document("compile", quay.folder, "--trust")
    states = {(b["snippet"], b["status"]) for b in found["builds"]}
    assert states == {("ebb", "refused"), ("flow", "compiled")}
    (complaint,) = next(b for b in found["builds"] if b["snippet"] == "ebb")["diagnostics"]
    assert (complaint["file"], complaint["line"], complaint["severity"]) == ("ebb.c", 2, "error")
    assert "ebb.c:2:" in hot_anvil("compile", quay.folder, "--trust").stdout


@pytest.mark.parametrize(
    ("compiler", "source", "text", "lacks", "then"),
    [
        ("gcc", "ebb.c", '#include "late.h"\nint ebb(int a) { return LATE(a); }\n', "late.h",
         "#define LATE(a) (a)\n"),
        ("clang", "ebb.c", '#include "late.h"\nint ebb(int a) { return LATE(a); }\n', "late.h",
         "#define LATE(a) (a)\n"),
        ("rustc", "ebb.rs", "mod late;\n#[no_mangle] pub extern fn ebb(a: i32) -> i32 "
         "{ late::late(a) }\n", "late.rs", "pub fn late(a: i32) -> i32 { a }\n"),
    ],
)  # fmt: skip
def test_a_file_that_was_missing_and_is_there_now_is_seen(
    compiler: str, source: str, text: str, lacks: str, then: str,
    tmp_path: Path, need: Callable[..., None],
) -> None:  # fmt: skip
    need(compiler if compiler != "clang" else "clang-16")
    (tmp_path / source).write_text(text)
    build = f"{compiler} {'-O2' if compiler != 'rustc' else '-O'}"
    (before,) = document("compile", tmp_path / source, "--build", build, code=1)["builds"]
    assert before["status"] == "refused" and Path(lacks).stem in before["why"]
    (tmp_path / lacks).write_text(then)
    (after,) = document("compile", tmp_path / source, "--build", build)["builds"]
    assert after["status"] == "compiled"


def test_two_at_once_and_a_damaged_store_end_well(quay: Quay) -> None:
    words = [str(COMMAND), "compile", str(quay.folder), "--trust", "--format", "json"]
    both = [subprocess.Popen(words, stdout=subprocess.PIPE) for _ in range(2)]
    assert [process.communicate()[0] != b"" for process in both] == [True, True]
    assert [process.returncode for process in both] == [0, 0]
    assert quay.compiled() == []
    for file in (quay.folder / ".hot-anvil").rglob("*.json"):
        file.write_text("{damaged")
    assert quay.compiled() == ["ebb", "ebb", "flow", "flow"]
    assert quay.compiled() == []
    shutil.rmtree(quay.folder / ".hot-anvil")
    assert quay.compiled() == ["ebb", "ebb", "flow", "flow"]


def _signal_another_thread(process: "subprocess.Popen[str]", how: int) -> None:
    """Send a signal as the system may: to a thread that is not the main one."""
    tasks = Path("/proc", str(process.pid), "task")
    send = ctypes.CDLL(None).tgkill
    deadline = time.monotonic() + 10
    while time.monotonic() < deadline:
        others = [int(task.name) for task in tasks.iterdir() if int(task.name) != process.pid]
        if others and not send(process.pid, max(others), how):  # it may have ended just now
            return
        time.sleep(0.02)
    raise AssertionError("there is no other thread")


@pytest.mark.parametrize(
    ("how", "code", "send"),
    [
        (signal.SIGINT, 130, subprocess.Popen.send_signal),
        (signal.SIGINT, 130, _signal_another_thread),
        (signal.SIGKILL, -9, subprocess.Popen.send_signal),
    ],
)
def test_an_interrupted_compile_leaves_nothing_half_done(
    quay: Quay, how: int, code: int, send: Callable[["subprocess.Popen[str]", int], None]
) -> None:
    quay.compiler.write_text('#!/bin/sh\ncase "$*" in *flow.c*) sleep 60 ;; esac\nexec gcc "$@"')
    words = [str(COMMAND), "compile", str(quay.folder), "--trust"]
    # What runs in the background may have been told to ignore an interrupt.
    process = subprocess.Popen(
        words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        preexec_fn=functools.partial(signal.signal, signal.SIGINT, signal.SIG_DFL),
    )  # fmt: skip
    store = quay.folder / ".hot-anvil"
    deadline = time.monotonic() + 30
    while len(list((store / "recipes").glob("*.json"))) < 2 and time.monotonic() < deadline:
        time.sleep(0.02)
    send(process, how)
    _, told = process.communicate(timeout=20)
    assert process.returncode == code
    assert "Traceback" not in told
    if how == signal.SIGINT:
        assert "interrupted" in told
        assert not list((store / "work").iterdir())
    kept = sorted(path.name for path in (store / "artefacts").iterdir())
    assert len(kept) == 2  # both builds of ebb were finished
    _kill_sleepers(quay)
    quay.set_compiler("")
    quay.compiled()
    assert not list((store / "work").iterdir())


def _kill_sleepers(quay: Quay) -> None:
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            if str(quay.compiler) in (entry / "cmdline").read_text():
                os.killpg(int(entry.name), signal.SIGKILL)
        except OSError:
            continue


def test_a_bench_that_cannot_be_written_to_is_kept_in_the_cache(tmp_path: Path) -> None:
    bench = write_bench(tmp_path / "quay", '[[snippet]]\nsources = ["flow.c"]\n', flow=FLOW)
    (bench / ".hot-anvil").write_text("in the way")
    answer = hot_anvil("compile", bench)
    assert answer.returncode == 0 and "gcc-12" in answer.stdout
    assert answer.stderr.count("cannot be written to: what is made is kept in") == 1
    assert (bench / ".hot-anvil").read_text() == "in the way"


def test_checks_and_measurements_are_kept(demo: Path) -> None:
    import sqlite3

    document("check", demo, "--snippet", "crossings", code=1)
    document("check", demo, "--snippet", "crossings", code=1)
    base = sqlite3.connect(demo / ".hot-anvil" / "results.sqlite")
    rows: list[Any] = base.execute("SELECT kind, subject FROM results").fetchall()
    base.close()
    assert rows.count(("check", "crossings")) >= 2


@pytest.mark.parametrize("linked", ["work", "artefacts", "recipes"])
def test_a_link_in_the_store_is_not_followed(quay: Quay, linked: str, tmp_path: Path) -> None:
    elsewhere = tmp_path / "elsewhere"
    for name in ("4194305-7", "tide-tables"):  # no process has the first one's number
        (elsewhere / name).mkdir(parents=True)
        (elsewhere / name / "kept.txt").write_text("levels")
    (quay.folder / ".hot-anvil").mkdir()
    (quay.folder / ".hot-anvil" / linked).symlink_to(elsewhere)
    answer = hot_anvil("compile", quay.folder, "--trust")
    assert (answer.returncode, "is a link" in answer.stderr) == (2, True)
    kept = sorted(str(file.relative_to(elsewhere)) for file in elsewhere.rglob("*"))
    assert kept == ["4194305-7", "4194305-7/kept.txt", "tide-tables", "tide-tables/kept.txt"]


def test_only_scratch_folders_that_are_ours_are_removed(quay: Quay, tmp_path: Path) -> None:
    quay.compiled()
    work = quay.folder / ".hot-anvil" / "work"
    left, foreign = work / "4194305-7", tmp_path / "elsewhere"
    for folder in (left, work / "4194305-tides", foreign):
        folder.mkdir()
    (left / "inner").symlink_to(foreign)
    (foreign / "kept.txt").write_text("levels")
    (work / "4194305-8").symlink_to(foreign)
    store = Store(str(quay.folder))
    store.sweep()
    assert not left.exists()
    assert (work / "4194305-tides").is_dir() and (foreign / "kept.txt").exists()
    moved = quay.folder / ".hot-anvil" / "work-copy"  # the mark of another folder says nothing
    shutil.copytree(work, moved, symlinks=True)
    shutil.rmtree(work)
    moved.rename(work)
    left.mkdir()
    store.sweep()
    assert left.exists()


def test_what_calls_the_code_is_compiled_once_for_all_benches(tmp_path: Path) -> None:
    def checked(name: str, cache: Path) -> tuple[int, int]:
        """Return how many compiled workers lie in the bench and in the cache after a check."""
        text = '[flags]\nplain = "-O1"\n[grid]\ntoolchains = ["gcc"]\n[[snippet]]\nname = "flow"\n'
        inputs = 'sources = ["flow.c"]\n[snippet.inputs]\nlevel = 3\n'
        folder = write_bench(tmp_path / name, text + inputs, flow=FLOW)
        answer = hot_anvil("check", folder, XDG_CACHE_HOME=str(cache))
        assert answer.returncode == 0, answer.stderr
        here, there = (len(list(place.rglob("worker.o"))) for place in (folder, cache))
        return here, there

    cache = tmp_path / "cache"
    cache.mkdir()
    assert [checked(name, cache) for name in ("quay", "pier")] == [(0, 1), (0, 1)]
    (kept,) = cache.rglob("worker.o")
    kept.write_bytes(b"damaged")
    assert checked("lock", cache) == (0, 1) and kept.read_bytes() != b"damaged"
    in_the_way = tmp_path / "closed"
    (in_the_way / "hot-anvil").mkdir(parents=True)
    (in_the_way / "hot-anvil" / "tools").write_text("a file where the folder would be")
    assert checked("mole", in_the_way) == (1, 0)
