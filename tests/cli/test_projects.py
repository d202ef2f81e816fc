"""Beyond one file: link-time optimisation, packages, real projects, limits, broken compilers."""

import json
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import DEMO, document, hot_anvil, refused, write_bench
from hot_anvil.core.build.project_flags import project_flags, without_levels
from hot_anvil.core.proof.debug_flag import functions_that_differ
from hot_anvil.errors import RequestError

SURGE = "int surge(int level) { return level * 3; }\n"


def test_link_time_optimisation_is_shown_checked_and_run_as_one(demo: Path) -> None:
    code = {}
    for build in ("gcc:fast", "gcc:whole"):
        words = ("listing", demo, build, "--snippet", "frame", "--entry", "frame_crc_split")
        (function,) = document(*words)["functions"]
        code[build] = [i["mnemonic"] for line in function["lines"] for i in line["instructions"]]
        assert function["proof"] == "proved"
        files = {line["file"] for line in function["lines"] if line["instructions"]}
        inlined = {
            i["inlined"]["function"]
            for line in function["lines"]
            for i in line["instructions"]
            if "inlined" in i
        }
    assert any(m.startswith("call") for m in code["gcc:fast"])
    assert not any(m.startswith("call") for m in code["gcc:whole"])
    assert files == {"frame.c", "frame_step.c"} and inlined == {"crc_step"}
    found = document("check", demo, "--snippet", "frame")["verdicts"]
    assert {v["verdict"] for v in found} == {"correct"} and len(found) == 6


def test_the_debug_flag_changes_no_code_over_the_demo(demo: Path) -> None:
    builds = document("compile", demo, "--prove")["builds"]
    states = {b["debug"]["state"] for b in builds if "flto" not in " ".join(b["flags"])}
    assert states == {"proved"} and len(builds) > 15


def test_code_that_a_debug_flag_changed_is_named(tmp_path: Path) -> None:
    objects = []
    for name, factor in (("a", 3), ("b", 5)):
        source = f"int ebb(int x) {{ return x * {factor}; }}\nint flow(int x) {{ return x + 1; }}\n"
        (tmp_path / f"{name}.c").write_text(source)
        run = ["gcc", "-O1", "-c", f"{name}.c", "-o", f"{name}.o"]
        subprocess.run(run, cwd=tmp_path, check=True)
        objects.append((tmp_path / f"{name}.o").read_bytes())
    assert functions_that_differ(*objects) == ("ebb",)
    assert functions_that_differ(objects[0], objects[0]) == ()


def test_flags_come_from_a_real_project(tmp_path: Path) -> None:
    source = tmp_path / "src" / "quay.c"
    source.parent.mkdir()
    source.write_text('#include "depth.h"\nint quay(void) { return DEPTH + EBB; }\n')
    (tmp_path / "include").mkdir()
    (tmp_path / "include" / "depth.h").write_text("#define DEPTH 4000\n")
    entry = {
        "directory": str(tmp_path), "file": "src/quay.c",
        "command": "cc -Iinclude '-DEBB=(7 + 1)' -O1 -g -MD -MF x.d -c -o quay.o src/quay.c",
    }  # fmt: skip
    project = tmp_path / "compile_commands.json"
    project.write_text(json.dumps([entry]))
    words = ("listing", source, "--build", "gcc -O2", "--from", tmp_path)
    (function,) = document(*words)["functions"]
    texts = [i["text"] for line in function["lines"] for i in line["instructions"]]
    assert texts == ["movl $4008, %eax", "ret"]
    assert "compiled under" not in refused(*words[:-1], tmp_path / "none.json")
    project.write_text('[{"file": "other.c", "directory": "/quay"}]')
    assert "does not say how" in refused(*words)


def test_a_projects_flags_lose_what_says_what_to_make() -> None:
    entry = {
        "directory": "/quay/build", "file": "../a.c",
        "arguments": ["cc", "-I../inc", "-isystem", "sys", "-O2", "-o", "a.o", "-c", "../a.c"],
    }  # fmt: skip
    kept = project_flags([entry], "/quay/a.c", "x.json")
    assert kept == ("-I/quay/inc", "-isystem", "/quay/build/sys", "-O2")
    assert without_levels(kept, ["-O3"]) == kept[:-1] and without_levels(kept, ["-g"]) == kept
    with pytest.raises(RequestError, match="no compile_commands"):
        project_flags({}, "/quay/a.c", "x.json")


def test_a_missing_package_refuses_its_own_snippet_only(
    tmp_path: Path, need: Callable[..., None]
) -> None:
    need("pkg-config")
    (tmp_path / "lib").mkdir()
    (tmp_path / "lib" / "tides.pc").write_text(
        "Name: tides\nDescription: x\nVersion: 1\nCflags: -DTIDES=12\nLibs: -lm\n"
    )
    bench = write_bench(
        tmp_path / "bench",
        '[flags]\nfast = "-O2"\n[grid]\ntoolchains = ["gcc"]\n'
        '[[snippet]]\nsources = ["ebb.c"]\npackages = ["tides"]\n'
        '[[snippet]]\nsources = ["flow.c"]\npackages = ["no-such-tides"]\n',
        ebb="int ebb(void) { return TIDES; }\n",
        flow=SURGE,
    )
    answer = hot_anvil("compile", bench, "--format", "json", PKG_CONFIG_PATH=str(tmp_path / "lib"))
    ebb, flow = json.loads(answer.stdout)["builds"]
    assert (ebb["status"], flow["status"]) == ("compiled", "refused")
    assert "no-such-tides" in flow["why"] and "pkg-config" in flow["why"]


def test_source_flags_hold_for_their_source_alone(tmp_path: Path) -> None:
    text = "int {0}(void) {{\n#ifdef DEEP\nreturn 2;\n#else\nreturn 1;\n#endif\n}}\n"
    bench = write_bench(
        tmp_path,
        '[flags]\nfast = "-O2"\n[grid]\ntoolchains = ["gcc"]\n[[snippet]]\n'
        'sources = ["ebb.c", "flow.c"]\n[snippet.source_flags]\n"flow.c" = "-DDEEP"\n',
        ebb=text.format("ebb"),
        flow=text.format("flow"),
    )
    functions = document("listing", bench, "gcc:fast")["functions"]
    first = {
        f["name"]: next(i["text"] for line in f["lines"] for i in line["instructions"])
        for f in functions
    }
    assert first == {"ebb": "movl $1, %eax", "flow": "movl $2, %eax"}
    (bench / "anvil.toml").write_text(
        (bench / "anvil.toml").read_text().replace('flow.c" =', 'f" =')
    )
    assert "none of the sources" in refused("compile", bench)


def compiler(folder: Path, body: str) -> Path:
    """Write a compiler that answers like gcc and then does something else."""
    path = folder / "quaycc"
    path.write_text(f'#!/bin/sh\nif [ "$1" = -v ]; then exec gcc -v; fi\n{body}\n')
    path.chmod(0o755)
    return path


@pytest.mark.parametrize(
    ("body", "told"),
    [
        ("kill -SEGV $$", "SIGSEGV"),
        ("yes 'an endless complaint' | head -c 30000000 >&2; exit 1", "an endless compl"),
        ("exit 0", "without a word"),
        ("sleep 60", "stopped after"),
        ("exec python3 -c 'x = bytes(1 << 31)'", "MemoryError"),
        ('for a in "$@"; do case "$a" in */code.s) head -c 99999 /dev/urandom > "$a";; esac; done',
         "assembl"),
    ],
)  # fmt: skip
def test_a_broken_compiler_is_told_and_others_go_on(body: str, told: str, tmp_path: Path) -> None:
    path = compiler(tmp_path, body)
    bench = write_bench(
        tmp_path / "bench",
        '[flags]\nfast = "-O2"\n[grid]\ntoolchains = ["quaycc", "gcc"]\n[[snippet]]\n'
        f'sources = ["surge.c"]\n[toolchain.quaycc]\ncommand = "{path}"\nfamily = "gcc"\n',
        surge=SURGE,
    )
    words = ("compile", bench, "--job-seconds", "3", "--job-memory", "1500", "--jobs", "2",
             "--trust")  # fmt: skip
    broken, good = document(*words)["builds"]
    assert (broken["status"], good["status"]) == ("refused", "compiled")
    assert told in broken["why"] and len(broken["why"]) < 700


def test_odd_sources_end_in_a_word(tmp_path: Path) -> None:
    loop = tmp_path / "loop.c"
    loop.symlink_to(loop)
    assert "no such file" in refused("listing", loop, "--build", "gcc")
    itself = tmp_path / "itself.c"
    itself.write_text('#include "itself.c"\n')
    found = document("compile", itself, "--build", "gcc", code=1)
    assert "nested" in found["builds"][0]["why"]
    odd = tmp_path / "a;b 'c'\n$(d).c"
    odd.write_bytes(b"/* caf\xe9 */ int ebb(void) { return 1; }\n")
    assert document("compile", odd, "--build", "gcc -O1")["builds"][0]["status"] == "compiled"
    half = tmp_path / "half.c"
    half.write_text("int ebb(void) { if (")
    assert document("compile", half, "--build", "gcc", code=1)["builds"][0]["diagnostics"]


def test_a_cache_that_cannot_be_read_only_costs_time(tmp_path: Path) -> None:
    (tmp_path / "hot-anvil").write_text("a file where a folder should be")
    bench = tmp_path / "bench"
    shutil.copytree(DEMO, bench)
    words = ("compile", str(bench), "--snippet", "crossings")
    answer = hot_anvil(*words, XDG_CACHE_HOME=str(tmp_path))
    assert answer.returncode == 0, answer.stderr


def test_portability_is_told_by_line(tmp_path: Path, need: Callable[..., None]) -> None:
    need("clang-16")
    source = tmp_path / "odd.c"
    source.write_text(
        "int odd(int level)\n{\n    int half(int x) { return x / 2; }\n    return half(level);\n}\n"
    )
    said = hot_anvil("compile", source, "--build", "gcc", "--build", "clang-16")
    assert "odd.c:3" in said.stdout and ". E" in said.stdout
