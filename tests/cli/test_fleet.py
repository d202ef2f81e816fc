"""Many machines: the same code and verdicts there as here, and what is lost on the way."""

import json
import os
import signal
import subprocess
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from threading import Thread
from typing import Any

import pytest

from conftest import COMMAND, document, hot_anvil, lacking, refused, write_bench
from made_fleet import MadeFleet

SNIPPETS = ("--snippet", "clamp", "--snippet", "crossings", "--snippet", "log")
# Children of a worker that work on a request.
SERVING = "hot_anvil.serving"


@pytest.fixture(scope="module")
def fleet(tmp_path_factory: pytest.TempPathFactory) -> Iterator[MadeFleet]:
    """Four workers, two of them another class."""
    made = MadeFleet(tmp_path_factory.mktemp("fleet"))
    if not made.networks:
        print("networks of their own are not allowed here: all on loopback")
    for name, pretends in (("quay1", ""), ("quay2", ""), ("pier1", "Pier 9"), ("pier2", "Pier 9")):
        made.worker(name, pretends)
    made.wait(4)
    yield made
    made.close()


@pytest.fixture
def bench(demo: Path, tmp_path: Path) -> Path:
    """A copy of the demo, compiled nowhere yet."""
    import shutil

    folder = tmp_path / "tide gauge"
    shutil.copytree(demo, folder, ignore=shutil.ignore_patterns(".hot-anvil"))
    return folder


def units(answer: Any) -> dict[tuple[str, str], Any]:
    """Return what a compile tells of each build's code."""
    keys = ("status", "code_bytes", "why", "instructions", "proof")
    return {(b["snippet"], b["build"]): [b.get(k) for k in keys] for b in answer["builds"]}


def verdicts(rows: Any) -> dict[str, str]:
    return {f"{v['snippet']} {v['candidate']}": v["verdict"] for v in rows}


def test_machines_and_classes(fleet: MadeFleet) -> None:
    told = document("fleet", fleet.address)
    classes = {one["name"]: one for one in told["classes"]}
    assert classes["pier-9"]["processor"] == "Pier 9"
    names = [sorted(m["name"] for m in one["machines"]) for one in told["classes"]]
    assert sorted(names) == [["pier1", "pier2"], ["quay1", "quay2"]]
    machine = classes["pier-9"]["machines"][0]
    assert machine["pretended"] and machine["offers"] == {"measure": 1, "compile": 1}
    here = {c["name"]: c["version"] for c in document("toolchains")["toolchains"]}
    assert {c["name"]: c["version"] for c in machine["compilers"]}.items() <= here.items()


def test_same_code_and_verdicts_as_here(fleet: MadeFleet, bench: Path) -> None:
    there = document("compile", bench, "--on", fleet.address)
    note = next(n for n in there["notes"] if "compiled on the fleet" in n)
    assert int(note.split()[0]) > 20, note
    kept = {p.name: p for p in (bench / ".hot-anvil/artefacts").iterdir()}
    listings = {name: (p / "code.json").read_bytes() for name, p in kept.items()
                if (p / "code.json").exists()}  # fmt: skip
    again = document("compile", bench)
    assert not any(b["fresh"] for b in again["builds"])  # as if made here
    checked = document("check", bench, "--on", fleet.address, *SNIPPETS, code=1)
    assert not checked["differing"]
    subprocess.run(["rm", "-rf", bench / ".hot-anvil"], check=True)
    here = document("compile", bench)
    assert units(here) == units(there)
    made_here = bench / ".hot-anvil/artefacts"
    assert len(listings) > 20
    for name, listing in listings.items():  # the same names, and the same code under them
        assert (made_here / name / "code.json").read_bytes() == listing
    expected = verdicts(document("check", bench, *SNIPPETS, code=1)["verdicts"])
    assert {"wrong", "correct"} <= set(expected.values())
    for one in checked["classes"]:
        assert one["worked"] and not one["missing"]
        assert verdicts(one["answer"]["verdicts"]) == expected


def test_pick_over_classes(fleet: MadeFleet, bench: Path) -> None:
    words = ("pick", bench, "--seconds", "0.1", "--snippet", "clamp", "--snippet", "log")
    found = document(*words, "--on", fleet.address, "--weight", "pier-9=3")
    assert [one["name"] for one in found["classes"]] and not found["differing"]
    here = document("check", bench, "--snippet", "clamp", "--snippet", "log")
    usable = {f"{v['snippet']} {v['candidate']}" for v in here["verdicts"] if not v["why"]}
    for one in found["classes"]:
        assert len(one["worked"]) == 2, one  # a block on each machine
        generations = {m["generations"] for m in one["answer"]["measurements"]["measurements"]}
        assert min(generations) >= 10
        ranked = {f"{r['snippet']} {r['candidate']}" for r in one["answer"]["ranking"]}
        assert ranked == usable
    for choice in found["choices"]:
        assert choice["choice"] == choice["ranking"][0]["candidate"]
        for row in choice["ranking"]:
            ratios = {name: r["ratio"] for name, r in row["by_class"].items()}
            assert row["worst"]["ratio"] == max(ratios.values())
            assert row["worst_class"] == max(ratios, key=lambda name: ratios[name])
    shown = document("show", bench, str(found["classes"][0]["kept"]))
    assert shown["kind"] == "pick" and shown["choice"] == found["classes"][0]["answer"]["choice"]
    states = document("history", bench)["measurements"]
    assert {s["machine"] for s in states} == {one["name"] for one in found["classes"]}


def children(fleet: MadeFleet, name: str) -> list[int]:
    """Return the processes that work on a request for a worker."""
    wanted, out = str(fleet.folder / f"cache-{name}").encode(), []
    for entry in Path("/proc").iterdir():
        if entry.name.isdecimal():
            try:
                if SERVING.encode() not in (entry / "cmdline").read_bytes():
                    continue
                if wanted in (entry / "environ").read_bytes():
                    out.append(int(entry.name))
            except OSError:
                continue
    return out


def when_busy(fleet: MadeFleet, names: Sequence[str], act: Callable[[str], Any]) -> Thread:
    """Do something to the first of these workers that works on a request."""

    def wait() -> None:
        end = time.monotonic() + 120
        while time.monotonic() < end:
            busy = next((name for name in names if children(fleet, name)), "")
            if busy:
                time.sleep(0.4)
                act(busy)
                return
            time.sleep(0.02)

    thread = Thread(target=wait)
    thread.start()
    return thread


def killed(fleet: MadeFleet, name: str) -> None:
    fleet.kill(name)


def stopped(fleet: MadeFleet, name: str) -> None:
    """Let a worker hang; what it has begun goes on, and nobody hears of it."""
    fleet.signal(name, signal.SIGSTOP)


@pytest.mark.parametrize(
    ("phase", "fate"),
    [("compile", killed), ("check", killed), ("pick", killed), ("check", stopped)],
)
def test_a_worker_that_is_lost(
    phase: str, fate: Callable[[MadeFleet, str], None], bench: Path, tmp_path: Path
) -> None:
    # A worker that hangs counts as gone when the scheduler has not heard of it for so long.
    made = MadeFleet(tmp_path, env={"DASK_DISTRIBUTED__SCHEDULER__WORKER_TTL": "5s"})
    lost: list[str] = []

    def lose(name: str) -> None:
        lost.append(name)
        fate(made, name)

    try:
        names = ("quay1", "quay2")
        for name in names:
            made.worker(name)
        made.wait(2)
        if phase != "compile":
            assert hot_anvil("compile", bench).returncode == 0
        words: list[str | Path] = [phase, bench, "--on", made.address]
        words += ["--snippet", "clamp"] if phase != "compile" else []
        words += ["--seconds", "0.3"] if phase == "pick" else []
        thread = when_busy(made, names, lose)
        found = document(*words)
        thread.join()
        assert len(lost) == 1, "none was ever busy"
        if phase == "compile":
            assert all(b["status"] == "compiled" for b in found["builds"])
            return
        (one,) = found["classes"]
        assert [*one["worked"], *lost] in (["quay1", "quay2"], ["quay2", "quay1"])
        answer = one["answer"]
        rows = answer["verdicts"] if phase == "check" else answer["ranking"]
        assert len(rows) == len({r["candidate"] for r in rows}) == 8  # none lost, none twice
        if fate is killed:  # what it had begun ends with it
            time.sleep(2.5)
            assert not children(made, lost[0])
    finally:
        made.close()


def test_a_worker_that_is_cut_off(bench: Path, tmp_path: Path) -> None:
    made = MadeFleet(tmp_path)
    try:
        if not made.networks:
            lacking("the right to make networks")
        made.worker("quay1")
        made.wait(1)
        cut: list[float] = []

        def pull(name: str) -> None:
            made.link(name, False)
            cut.append(time.monotonic())
            time.sleep(20)
            made.link(name, True)

        thread = when_busy(made, ["quay1"], pull)
        found = document("compile", bench, "--on", made.address)
        thread.join()
        assert cut, "it was never busy"
        assert all(b["status"] == "compiled" for b in found["builds"])
        assert len(found["builds"]) == len({(b["snippet"], b["build"]) for b in found["builds"]})
    finally:
        made.close()


def another_gcc(folder: Path) -> str:
    """Make a compiler that answers as gcc-12 does, and is another program; return a PATH."""
    folder.mkdir()
    wrapper = folder / "gcc-12"
    wrapper.write_text('#!/bin/sh\nexec /usr/bin/gcc-12 "$@"\n')
    wrapper.chmod(0o755)
    return f"{folder}:/usr/bin:/bin"


def test_a_compiler_that_only_one_machine_has(tmp_path: Path) -> None:
    made = MadeFleet(tmp_path)
    text = """
[flags]
fast = "-O2"
[grid]
toolchains = ["gcc-12*"]
[[snippet]]
name = "surge"
sources = ["surge.c"]
inputs.levels = { fill = "uniform(-500, 500)", count = 1000 }
inputs.n = 1000
"""
    source = """#include "mean.h"
int surge(const short *levels, int n) { int s = 0; for (int k = 0; k < n; k++) s += levels[k];
return MEAN(s, n); }
"""
    bench = write_bench(tmp_path / "bench", text, surge=source)
    (bench / "mean.h").write_text("#define MEAN(sum, n) ((n) ? (sum) / (n) : 0)\n")
    try:
        made.worker("quay1", env={"PATH": another_gcc(tmp_path / "bin")})
        made.worker("quay2")
        made.wait(2)
        found = document("pick", bench, "--on", made.address, "--seconds", "0.1")
        (one,) = found["classes"]
        assert sorted(one["worked"]) == ["quay1", "quay2"]
        candidates = {r["candidate"] for r in one["answer"]["ranking"]}
        assert candidates == {"gcc-12:fast", "gcc-12+quay1:fast"}
        (ranked,) = {r["same_as"] for r in one["answer"]["ranking"] if r["same_as"]}
        assert ranked in candidates  # the same compiler behind it: the same code
        # It is asked each time: its headers are not here to be looked at.
        made.kill("quay1")
        time.sleep(1)
        told = refused(
            "compile", bench, "--build", "gcc-12+quay1 -O2", "--on", made.address, code=3
        )
        assert "gcc-12+quay1" in told
    finally:
        made.close()


def test_a_scheduler_that_ends(bench: Path, tmp_path: Path) -> None:
    made = MadeFleet(tmp_path)
    try:
        made.worker("quay1")
        made.wait(1)
        thread = when_busy(made, ["quay1"], lambda name: made.kill("scheduler"))
        told = refused("compile", bench, "--on", made.address, code=3)
        thread.join()
        assert "the scheduler is gone. What came back is kept" in told
        assert told.count("\n") == 1
    finally:
        made.close()


def test_workers_that_cannot_be_used(bench: Path, tmp_path: Path) -> None:
    made = MadeFleet(tmp_path)
    try:
        made.worker("quay1", offers="compile=1", env={"PATH": another_gcc(tmp_path / "bin")})
        made.worker("pier1", offers="crane=1")
        made.wait(2)
        found = document("compile", bench, "--on", made.address, "--snippet", "clamp")
        notes = " ".join(found["notes"])
        assert "worker pier1 is not used: it offers neither 'measure' nor 'compile'" in notes
        assert all(b["status"] == "compiled" for b in found["builds"])
        assert not any("compiled on the fleet" in n and n[0] != "0" for n in found["notes"])
        assert "no worker has this very gcc-12" in notes
        told = refused("check", bench, "--on", made.address, "--snippet", "clamp", code=3)
        assert "no worker there offers 'measure'" in told
        for option in ("--replay=x", "--values"):
            told = refused("check", bench, "--on", made.address, option)
            assert "is answered on this machine only: leave --on out" in told
    finally:
        made.close()


def test_a_full_disk_there(bench: Path, tmp_path: Path) -> None:
    small = tmp_path / "small"
    small.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=300k", "quay", small]).returncode:
        lacking("the right to mount")
    made = MadeFleet(tmp_path)
    try:
        made.worker("quay1", env={"XDG_CACHE_HOME": str(small)})
        made.wait(1)
        (small / "ballast").write_bytes(bytes(250_000))
        found = document("compile", bench, "--on", made.address, "--snippet", "clamp")
        assert all(b["status"] == "compiled" for b in found["builds"])
        assert "the disk is full" in " ".join(found["notes"])
        told = refused("check", bench, "--on", made.address, "--snippet", "clamp", code=3)
        assert "disk is full" in told or "No space left on device" in told
    finally:
        made.close()
        subprocess.run(["umount", "-l", small], check=True)


def test_ctrl_c_ends_what_is_begun_there(bench: Path, tmp_path: Path) -> None:
    names = ("quay1", "quay2")
    made = MadeFleet(tmp_path)
    try:
        for name in names:
            made.worker(name, offers="measure=1")
        made.wait(2)
        assert hot_anvil("check", bench, "--snippet", "clamp").returncode == 0
        words = ["pick", bench, "--on", made.address, "--seconds", "20", "--snippet", "clamp"]
        running = subprocess.Popen(
            [COMMAND, *map(str, words)],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            # Whoever runs the tests may ignore it.
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
        )
        end = time.monotonic() + 120
        # A check is on one of them; both are busy only with their blocks.
        while time.monotonic() < end and not all(children(made, name) for name in names):
            time.sleep(0.05)
        time.sleep(1)
        assert all(children(made, name) for name in names)
        os.kill(running.pid, signal.SIGINT)
        _, said = running.communicate(timeout=60)
        assert (running.returncode, b"interrupted" in said) == (130, True), said
        time.sleep(2)
        assert not any(children(made, name) for name in names)
    finally:
        made.close()


def test_with_tls_and_a_scheduler_file(
    bench: Path, tmp_path: Path, need: Callable[..., None]
) -> None:
    need("openssl")
    key, certificate = tmp_path / "node.key", tmp_path / "node.pem"
    makes = ("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "1", "-subj")
    subprocess.run(
        [*makes, "/CN=quay", "-keyout", key, "-out", certificate], check=True, capture_output=True
    )
    start = "DASK_DISTRIBUTED__COMM__TLS__"
    tls = {f"{start}CA_FILE": str(certificate), "DASK_DISTRIBUTED__COMM__REQUIRE_ENCRYPTION": "1"}
    for side in ("CLIENT", "SCHEDULER", "WORKER"):
        tls |= {f"{start}{side}__KEY": str(key), f"{start}{side}__CERT": str(certificate)}
    made = MadeFleet(tmp_path, networks=False, env=tls)
    try:
        made.worker("quay1")
        made.wait(1)
        file = tmp_path / "scheduler.json"
        file.write_text(json.dumps({"address": made.address, "type": "Scheduler"}))
        words = [str(w) for w in (COMMAND, "compile", bench, "--on", file, "--snippet", "clamp")]
        env = {**os.environ, **tls}
        answer = subprocess.run(words, env=env, capture_output=True, text=True, check=False)
        assert answer.returncode == 0 and "compiled on the fleet" in answer.stdout, answer.stderr
        plain = refused("fleet", made.address, code=3)
        assert "Dask's own configuration names none" in plain
        assert "no scheduler answers" in refused("fleet", f"tcp{made.address[3:]}", code=3)
    finally:
        made.close()


def test_machines_that_nothing_joins(bench: Path, tmp_path: Path) -> None:
    words = ("pick", bench, "--snippet", "clamp", "--seconds", "0.05")
    assert hot_anvil(*words, HOT_ANVIL_PRETEND_MACHINE="pier1:Pier 9").returncode == 0
    file = tmp_path / "pier.anvil"
    assert hot_anvil("export", bench, "--snippet", "clamp", "--out", file).returncode == 0
    subprocess.run(["rm", "-rf", bench / ".hot-anvil"], check=True)
    assert hot_anvil(*words).returncode == 0
    found = document("history", bench, "--merge", file)
    origins = {s["origin"] for one in found["classes"] for s in one["sources"]}
    assert len(found["classes"]) == 2 and origins == {None, "pier.anvil"}
    (choice,) = found["choices"]
    assert choice["choice"] and len(choice["ranking"]) == 8 and not choice["missing"]
    text = (bench / "clamp.c").read_text()
    (bench / "clamp.c").write_text(text.replace("if (level < low)", "if (level <= low)"))
    assert hot_anvil(*words).returncode == 0
    (choice,) = document("history", bench, "--merge", file)["choices"]
    # One rival was edited: it is another candidate now, and the other rival is what it was.
    edited = {name.partition("@")[0] for name in choice["missing"] if name.endswith(".anvil")}
    assert len(edited) == 1 and len(choice["ranking"]) >= 4
    assert "no export" in refused("history", bench, "--merge", bench / "clamp.c")
    told = refused("history", bench, "--merge", file, "--weight", "crane=2")
    assert "there is no class 'crane'" in told
    assert "goes with --snippet" in refused("history", bench, "--merge", file, "--compare")


def test_what_is_no_fleet(bench: Path, tmp_path: Path) -> None:
    told = refused("check", bench, "--on", "tcp://127.0.0.1:9", code=3)
    assert "no scheduler answers there" in told and told.count("\n") == 1
    assert "neither a scheduler's address" in refused("fleet", "harbour")
    made = MadeFleet(tmp_path, networks=False)
    try:
        told = refused("fleet", made.address, code=3)
        assert "the scheduler has no workers" in told
    finally:
        made.close()
    told = refused("pick", bench, "--weight", "pier=2")
    assert "--weight is for several classes" in told
