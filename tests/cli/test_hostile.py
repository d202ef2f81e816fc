"""Benches that want more than they may, and machines that give less than is needed."""

import resource
import signal
import subprocess
import time
from pathlib import Path
from typing import Any

import pytest

from conftest import COMMAND, document, hot_anvil, refused, write_bench

EBB = "int ebb(int level) { return level - 1; }\n"
READS = "int first(const char *text) { return text[0]; }\n"
PLAIN = (
    '[flags]\na = "{flags}"\n[grid]\ntoolchains = ["gcc"]\n[[snippet]]\nsources = ["{source}"]\n'
)
SNIPPET = "inputs = { level = 5 }\n"


def bench(folder: Path, flags: str = "-O1", more: str = SNIPPET, source: str = "ebb.c") -> Path:
    return write_bench(
        folder, PLAIN.format(flags=flags, source=source) + more, ebb=EBB, reads=READS
    )


OWN = '[toolchain.quaycc]\ncommand = "./quaycc"\nfamily = "gcc"\n'


def test_a_compiler_of_the_bench_runs_only_when_trusted_and_as_it_was(tmp_path: Path) -> None:
    folder = write_bench(tmp_path, OWN + PLAIN.format(flags="-O1", source="ebb.c"), ebb=EBB)
    quaycc, mark = folder / "quaycc", folder / "ran"
    quaycc.write_text(f'#!/bin/sh\ntouch "{mark}"\nexec gcc "$@"\n')
    quaycc.chmod(0o755)
    for command in ("listing", "compile", "check"):
        assert "--trust" in refused(command, folder) and not mark.exists()
    assert document("compile", folder, "--trust")["builds"] and mark.exists()
    assert document("compile", folder)["builds"]  # it is kept
    mark.unlink()
    quaycc.write_text(quaycc.read_text() + "# another one\n")
    assert "has programs run" in refused("compile", folder) and not mark.exists()


@pytest.mark.parametrize(
    "flags",
    ["-wrapper ./own", "-fplugin=./own.so", "-B./bin", "-specs=own", "-Wl,-plugin,./own.so",
     "-fuse-ld=./own", "@more", "-Xclang -load -Xclang ./own.so", "-fpass-plugin=own.so"],
)  # fmt: skip
def test_flags_that_run_programs_are_asked_about(tmp_path: Path, flags: str) -> None:
    told = refused("compile", bench(tmp_path, flags))
    assert "has programs run" in told and flags.split()[-1].split(",")[-1] in told
    link = bench(tmp_path / "linked", more=f'{SNIPPET}link_flags = "{flags}"\n')
    assert "has programs run" in refused("compile", link)
    (tmp_path / "own.c").write_text(f'// hot-anvil:\n// [flags]\n// a = "{flags}"\n' + EBB)
    assert "has programs run" in refused("compile", tmp_path / "own.c")


def test_ordinary_flags_are_not_asked_about(tmp_path: Path) -> None:
    flags = "-O3 -march=native -Iinclude -DX=1 -fuse-ld=bfd -Wl,-Bsymbolic,-z,now -Wl,--wrap=f"
    assert document("compile", bench(tmp_path, flags))["builds"][0]["status"] == "compiled"


@pytest.mark.parametrize("how", ["absolute", "climbing", "linked"])
def test_a_bench_reads_only_what_is_inside_it(tmp_path: Path, how: str) -> None:
    secret = tmp_path / "secret"
    secret.write_text("high water")
    inner = tmp_path / "bench"
    inner.mkdir()
    (inner / "link").symlink_to(secret)
    name = {"absolute": str(secret), "climbing": "../secret", "linked": "link"}[how]
    more = f"inputs = {{ text = {{ fill = 'file(\"{name}\")', count = 4 }} }}\n"
    assert "lies outside" in refused("check", bench(inner, more=more, source="reads.c"))
    run = f'program = true\n[[snippet.run]]\nneeds = ["{name}"]\n'
    assert "lies outside" in refused("check", bench(inner, more=run))
    given = f"text = {{ fill = 'file(\"{secret}\")', count = 4 }}"  # the person names it
    found = document(
        "check", inner / "reads.c", "--build", "gcc -O1", "--inputs", given, "--values"
    )
    assert found["values"][0]["output"] == f"returned {ord('h')}"


def test_nothing_that_a_terminal_acts_upon_reaches_it(tmp_path: Path) -> None:
    folder = bench(tmp_path, more=f'name = "red\\u001b[31m\\u202etide"\n{SNIPPET}')
    (folder / "ebb.c").write_text("int ebb(int level) { return level - 1; } // \x1b]0;owned\x07\n")
    for words in (["check"], ["listing", ".", "gcc:a"], ["listing", ".", "none"], ["ledger"]):
        told = hot_anvil(*words, cwd=folder)
        assert not set(told.stdout + told.stderr) & {"\x1b", "\x07", "\u202e"}, words
    assert "red\\x1b[31m\\u202etide" in hot_anvil("check", folder).stdout
    assert "\\x1b]0;owned" in hot_anvil("listing", folder, "gcc:a").stdout


MALFORMED = [
    ("tolerance = { ulp = nan }", "finite"), ("inputs = { level = 1e400 }", "does not fit"),
    ('name = "a\\u0000b"', "NUL"), ('inputs = { level = "' + "+".join("1" * 300) + '" }', "sum of"),
    ("inputs = { level = " + "[" * 3000 + "]" * 3000 + " }", "too deep"),
    ('inputs = { level = "uniform(nan, 1)" }', "finite"),
    ('inputs = { level = "normal(0, -1)" }', "not negative"),
    ("inputs = { level = " + "9" * 60 + " }", "127 bits"),
    ("sweep = { n = [" + ",".join(map(str, range(2000))) + "] }", "points"),
]  # fmt: skip


@pytest.mark.parametrize(("more", "told"), MALFORMED)
def test_what_a_bench_cannot_mean_is_told_with_its_line(
    tmp_path: Path, more: str, told: str
) -> None:
    said = refused("check", bench(tmp_path, more=more + "\n"))
    assert told in said and len(said) < 700
    assert "anvil.toml:" in said and ("too deep" in said or "anvil.toml:7" in said), said


def damaged(folder: Path, names: str) -> list[Path]:
    return sorted((folder / ".hot-anvil").rglob(names))


@pytest.mark.parametrize("names", ["worker", "code.o", "*.json", "derived.json", "library.so"])
def test_kept_files_that_were_damaged_are_made_again(tmp_path: Path, names: str) -> None:
    folder = bench(tmp_path)
    words: list[str | Path] = ["check", folder]
    if names == "library.so":
        words = ["pick", folder, "--seconds", "0.02"]
    fine = document(*words)
    for file in damaged(folder, names):
        data = file.read_bytes()
        file.write_bytes(data[: len(data) // 2])
    answer = hot_anvil(*words)
    assert answer.returncode == 0 and "crashed" not in answer.stdout
    again = document(*words)
    key = "choice" if names == "library.so" else "verdicts"
    assert again[key] == fine[key]
    if names in ("worker", "code.o"):
        assert answer.stderr.count("some of what was kept there was damaged") == 1


def test_damaged_results_are_set_aside_and_a_lock_is_said(tmp_path: Path) -> None:
    import sqlite3

    folder = bench(tmp_path)
    document("check", folder)
    base = folder / ".hot-anvil" / "results.sqlite"
    base.write_bytes(b"high water" * 500)
    answer = hot_anvil("check", folder)
    assert answer.returncode == 0 and "set aside as results.sqlite.damaged" in answer.stderr
    assert [p for p in base.parent.iterdir() if "damaged" in p.name]
    with sqlite3.connect(base) as own:
        kinds = own.execute("SELECT kind FROM results ORDER BY id").fetchall()
        assert kinds == [("check",), ("answer",)]


def few(limit: int) -> Any:
    return lambda: resource.setrlimit(resource.RLIMIT_NOFILE, (limit, limit))


@pytest.mark.parametrize("limit", [10, 20, 40, 60])
def test_too_few_descriptors_are_nobodys_crash(tmp_path: Path, limit: int) -> None:
    answer = subprocess.run(
        [COMMAND, "check", bench(tmp_path)], capture_output=True, text=True, check=False,
        preexec_fn=few(limit),
    )  # fmt: skip
    assert "crashed" not in answer.stdout and "Traceback" not in answer.stderr
    assert (answer.returncode, "machine's trouble" in answer.stderr) in ((0, False), (3, True)), (
        answer.stderr
    )


def test_a_killed_linker_is_no_verdict(tmp_path: Path) -> None:
    tools = tmp_path / "bin"
    tools.mkdir()
    (tools / "ld").write_text("#!/bin/sh\nkill -9 $PPID\n")
    (tools / "ld").chmod(0o755)
    folder = bench(tmp_path / "bench")
    answer = hot_anvil("check", folder, "--build", f"gcc -O1 -B{tools}")
    assert answer.returncode == 3 and "the machine's trouble" in answer.stderr
    assert "correct" not in answer.stdout


def test_an_interrupt_at_any_early_moment_ends_in_a_word(tmp_path: Path) -> None:
    folder = bench(tmp_path)
    for number in range(12):
        process = subprocess.Popen(
            [COMMAND, "check", folder], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler) and None,
        )  # fmt: skip
        time.sleep(0.06 + 0.03 * number)
        process.send_signal(signal.SIGINT)
        _, told = process.communicate(timeout=60)
        starting = "from hot_anvil.cli.main import main" in told  # Python's own words, before ours
        assert "Traceback" not in told or starting or "hot_anvil" not in told, told
    closed = subprocess.run(f'"{COMMAND}" check "{folder}" >&-', shell=True, check=False)
    assert closed.returncode == 0
    assert not [*(folder / ".hot-anvil" / "work").iterdir()]
