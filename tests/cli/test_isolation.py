"""A check disturbs nothing and nothing disturbs it: limits, kills, a full disk, two at once."""

import os
import random
import signal
import sqlite3
import subprocess
import time
from pathlib import Path
from typing import Any

import pytest

from conftest import COMMAND, document, hot_anvil, write_bench

SOURCE = r"""#include <dirent.h>
#include <fcntl.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
int32_t open_files(int32_t n) { char link[32], name[512]; int count = 0; (void)n;
    for (int fd = 3; fd < 1024; fd++) { snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
        ssize_t got = readlink(link, name, sizeof name - 1); if (got < 0) continue; name[got] = 0;
        count += !strncmp(name, "pipe:", 5) ? 0 : 1; } return count; }
int32_t writes(int32_t n) { char large[4096]; FILE *f = fopen("tide.txt", "w"); int32_t done = 0;
    if (!f || !getenv("TMPDIR") || getenv("SECRET")) return -1; memset(large, 'a', sizeof large);
    while (done < n && fwrite(large, 1, sizeof large, f) == sizeof large && !fflush(f)) done++;
    fclose(f); char name[512]; snprintf(name, sizeof name, "%s/sub", getenv("TMPDIR"));
    close(open(name, O_CREAT | O_WRONLY, 0600)); return done; }
int32_t greedy(int32_t n) { char *all = malloc((size_t)n << 30); if (!all) return 0;
    for (size_t k = 0; k < (size_t)n << 30; k += 4096) all[k] = 1; return all[5]; }
int32_t asks(int32_t n) { char c = 0;
    return (int32_t)read(0, &c, 1) + (int32_t)write(1, &c, 1) + n; }
int32_t total(const int16_t *levels, int32_t n) { int32_t sum = 0;
    for (int32_t i = 0; i < n; i++) sum += levels[i]; return sum; }
int32_t total_off(const int16_t *levels, int32_t n) { int32_t sum = 0;
    for (int32_t i = 0; i < n; i++) sum += levels[i] + (n > 300 && i == 299); return sum; }
"""


def one(folder: Path, entry: str, n: int, returns: int) -> None:
    """Check one function of a number that must return a value."""
    write_bench(
        folder,
        '[flags]\na = "-O1"\n[grid]\ntoolchains = ["gcc"]\n[[snippet]]\nsources = ["gauge.c"]\n'
        f'entries = ["{entry}"]\ninputs = {{ n = {n} }}\n'
        f"[[snippet.case]]\nexpected = {{ returns = {returns} }}\n",
        gauge=SOURCE,
    )
    (verdict,) = document("check", folder)["verdicts"]
    assert verdict["verdict"] == "correct", verdict


def test_code_under_study_has_its_own_files_memory_and_streams(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("SECRET", "told")
    leak = os.open("/etc/hostname", os.O_RDONLY)
    os.set_inheritable(leak, True)
    try:
        one(tmp_path / "files", "open_files", 1, 0)
    finally:
        os.close(leak)
    one(tmp_path / "writes", "writes", 1000, 256)  # files end at 1 MiB
    assert sorted(p.name for p in (tmp_path / "writes").iterdir()) == [
        ".hot-anvil", "anvil.toml", "gauge.c"
    ]  # fmt: skip
    assert not list((tmp_path / "writes" / ".hot-anvil" / "work").iterdir())
    one(tmp_path / "memory", "greedy", 3, 0)
    one(tmp_path / "streams", "asks", 5, 6)  # nothing to read, somewhere to write


def bench(folder: Path) -> Path:
    return write_bench(
        folder,
        '[flags]\na = "-O0"\nb = "-O2"\n[grid]\ntoolchains = ["gcc"]\n[[snippet]]\n'
        'sources = ["gauge.c"]\nentries = ["total", "total_off"]\n[snippet.inputs]\n'
        'levels = { fill = "uniform(-500, 500)", count = "n" }\nn = 400\n',
        gauge=SOURCE,
    )


def essence(found: Any) -> list[Any]:
    keys = ("candidate", "verdict", "why", "inputs", "smallest", "smallest_why")
    return [[row[key] for key in keys] for row in found["verdicts"]]


def records(folder: Path) -> int:
    base = sqlite3.connect(folder / ".hot-anvil" / "results.sqlite")
    assert base.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    count: int = base.execute("SELECT count(*) FROM results WHERE kind = 'check'").fetchone()[0]
    base.close()
    return count


def test_a_check_killed_at_any_moment_loses_and_leaves_nothing(tmp_path: Path) -> None:
    expected = essence(document("check", bench(tmp_path / "whole"), code=1))
    folder = bench(tmp_path / "killed")
    chance = random.Random(7)
    for _ in range(8):
        process = subprocess.Popen([COMMAND, "check", folder], stdout=subprocess.DEVNULL)
        time.sleep(chance.uniform(0.1, 1.5))
        process.send_signal(signal.SIGKILL)
        process.wait()
    time.sleep(0.3)
    alive = subprocess.run(["pgrep", "-f", f"{folder}/.hot-anvil"], capture_output=True)
    assert not alive.stdout, "a worker outlived the check"
    assert essence(document("check", folder, code=1)) == expected
    assert not list((folder / ".hot-anvil" / "work").iterdir())
    assert 1 <= records(folder) <= 9


def test_checks_at_once_on_one_bench_agree(tmp_path: Path) -> None:
    folder = bench(tmp_path)
    command = [str(COMMAND), "check", str(folder), "--format", "json", "--out"]
    running = [subprocess.Popen([*command, str(tmp_path / f"{k}.json")]) for k in range(3)]
    assert [process.wait() for process in running] == [1, 1, 1]
    texts = {(tmp_path / f"{k}.json").read_text() for k in range(3)}
    assert len(texts) == 1
    assert records(folder) == 3


# Stands for a full disk: after FULL_AFTER bytes nothing more can be written in the bench.
FULL = r"""#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/types.h>
static long left = -1;
static int full(int fd, size_t size)
{
    char link[32], name[4096];
    ssize_t readlink(const char *, char *, size_t);
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t got = readlink(link, name, sizeof name - 1);
    if (got < 0) return 0;
    name[got] = 0;
    if (!strstr(name, "/.hot-anvil/")) return 0;
    if (left < 0) left = atol(getenv("FULL_AFTER"));
    left = (long)size > left ? 0 : left - (long)size;
    if (left) return 0;
    errno = ENOSPC;
    return 1;
}
#define REAL(name) __typeof__(name) *real = (__typeof__(name) *)dlsym(RTLD_NEXT, #name)
ssize_t write(int fd, const void *data, size_t size)
{ REAL(write); return full(fd, size) ? -1 : real(fd, data, size); }
ssize_t pwrite64(int fd, const void *data, size_t size, off_t at)
{ REAL(pwrite64); return full(fd, size) ? -1 : real(fd, data, size, at); }
ssize_t pwrite(int fd, const void *data, size_t size, off_t at)
{ REAL(pwrite); return full(fd, size) ? -1 : real(fd, data, size, at); }
"""


def test_a_full_disk_is_said_and_costs_nothing_that_was_finished(tmp_path: Path) -> None:
    library = tmp_path / "full.so"
    (tmp_path / "full.c").write_text(FULL)
    subprocess.run(["gcc", "-shared", "-fPIC", "-o", library, tmp_path / "full.c", "-ldl"],
                   check=True)  # fmt: skip
    folder = bench(tmp_path / "bench")
    expected = essence(document("check", folder, code=1))
    for after in (0, 3_000, 20_000, 60_000, 200_000):
        source = folder / "gauge.c"
        source.write_text(source.read_text() + f"/* {after} */\n")  # all is made anew
        answer = hot_anvil("check", folder, LD_PRELOAD=str(library), FULL_AFTER=str(after))
        assert "Traceback" not in answer.stderr and "fault" not in answer.stderr, answer.stderr
        if answer.returncode:
            assert answer.returncode in (1, 3) and (answer.stderr or "refused" in answer.stdout)
    assert essence(document("check", folder, code=1)) == expected
    assert records(folder) >= 2
