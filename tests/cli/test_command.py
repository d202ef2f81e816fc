"""The installed command as people use it: documents, text, exit codes, the whole demo."""

import json
import os
import re
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import COMMAND, DEMO, ROOT, document, hot_anvil, refused
from hot_anvil.cli.main import COMMANDS
from hot_anvil.views.json.document import FORMAT


def test_version_and_help_say_what_there_is() -> None:
    assert re.fullmatch(r"hot-anvil \d+\.\d+\.\d+\n", hot_anvil("--version").stdout)
    overview = hot_anvil("--help").stdout
    for name in COMMANDS:
        assert f"\n  {name} " in overview
        assert hot_anvil(name, "--help").returncode == 0
    assert hot_anvil().returncode == 2
    helps = "".join(hot_anvil(name, "--help").stdout for name in COMMANDS)
    for page in [*(ROOT / "src" / "hot_anvil" / "views").rglob("*.py"), ROOT / "README.md"]:
        named = set(re.findall(r"(?<!var\()(?<![\w-])--[a-z][a-z-]+", page.read_text()))
        assert all(f"{option} " in helps or f"{option}]" in helps for option in named), page
    assert "'diff'" in refused("dif")
    assert "--format" in refused("compile", "--format", "xml")


def test_the_demo_with_gcc_alone_ends_with_a_pick(tmp_path: Path) -> None:
    """The first thing a newcomer sees, without clang on PATH."""
    tools = tmp_path / "bin"
    tools.mkdir()
    for name in ("gcc", "g++", "as", "ld", "objdump", "objcopy", "sh"):
        (tools / name).symlink_to(str(shutil.which(name)))
    answer = hot_anvil("demo", cwd=tmp_path, PATH=str(tools))
    assert answer.returncode == 0, answer.stderr
    text = answer.stdout
    assert "clang: not on this machine" in text
    assert re.search(r"proved for (\d+) of \1\n", text)
    assert "feet_fortran, feet_rust: left out: no compiler of the grid is here" in text
    assert re.search(r"wrong: returned -?\d+, expected -?\d+", text)
    assert "checksum_hasty@gcc-12:fast" in text
    assert len(re.findall(r"^  pick  \S+@gcc-12:\w+", text, re.MULTILINE)) == 5
    assert re.search(r"^ +gcc -O3( -march=native)? -c clamp\.c$", text, re.MULTILINE)
    assert "\x1b" not in text and not re.search("[─-╿]", text)
    assert max(map(len, text.splitlines())) <= 100


def test_pick_has_its_backbone_and_runs_what_it_names(demo: Path, tmp_path: Path) -> None:
    found = document("pick", demo, "--seconds", "0.1")
    assert found["kind"] == "pick" and found["hot_anvil"] == FORMAT
    assert set(found["choice"]) == {"clamp", "checksum", "crossings", "frame", "feet", "log"}
    ranked = {row["candidate"] for row in found["ranking"]}
    for snippet, choice in found["choice"].items():
        assert choice in ranked
        shutil.copytree(demo, tmp_path / snippet)
        run = found["command"][snippet]
        done = subprocess.run(run, shell=True, cwd=tmp_path / snippet, check=False)
        assert done.returncode == 0 and list((tmp_path / snippet).glob("*.o"))
    for row in found["excluded"]:
        assert row["verdict"] != "correct" and row["why"]
        assert row["candidate"] not in ranked
    assert {row["snippet"] for row in found["excluded"]} == {"checksum", "crossings"}
    ratios = [row["ratio"] for row in found["ranking"] if row["snippet"] == "clamp"]
    assert ratios[0] == 1.0 and ratios[1:] == sorted(ratios[1:]) and ratios[-1] > 5
    by_size = [row for row in found["by_size"] if row["snippet"] == "clamp"]
    assert {row["inputs"] for row in by_size} == {"n=64", "n=4096"}
    assert len(by_size) == 2 * len(ratios)
    assert [row["word"] for row in by_size].count("best") == 2


def test_json_and_text_agree_and_out_writes_the_same(demo: Path, tmp_path: Path) -> None:
    found = document("listing", demo, "gcc:lean", "--snippet", "crossings")
    answer = hot_anvil("listing", demo, "gcc:lean", "--snippet", "crossings")
    for function in found["functions"]:
        assert f"{function['name']}  {function['count']} instructions" in answer.stdout
        listed = [i for line in function["lines"] for i in line["instructions"]]
        assert sorted(i["index"] for i in listed) == list(range(function["count"]))
    file = tmp_path / "listing.txt"
    hot_anvil("listing", demo, "gcc:lean", "--snippet", "crossings", "--out", file)
    assert file.read_text() == answer.stdout
    assert "cannot be written" in refused("toolchains", "--out", tmp_path / "no" / "file")
    for kind in ("toolchains", "compile"):
        words = [kind] if kind == "toolchains" else [kind, demo]
        assert document(*words)["kind"] == kind


@pytest.mark.parametrize("width", [60, 80, 100, 160])
def test_text_keeps_to_the_width(demo: Path, width: int) -> None:
    commands: list[list[str | Path]] = [
        ["diff", demo, "gcc:plain", "gcc:fast"],
        ["listing", demo, "gcc:lean"],
        ["compile", demo],
        ["pick", demo, "--snippet", "crossings", "--seconds", "0.01"],
    ]
    for words in commands:
        answer = hot_anvil(*words, COLUMNS=str(width))
        assert answer.returncode == 0
        assert max(map(len, answer.stdout.splitlines())) <= max(width, 80)


def test_no_compiler_at_all_is_told_with_a_cure(demo: Path, tmp_path: Path) -> None:
    empty = str(tmp_path)
    told = hot_anvil("toolchains", PATH=empty)
    assert told.returncode == 3 and "apt install gcc" in told.stdout
    assert "apt install" in refused("compile", demo, code=3, path=empty)
    assert "'gcc'" in refused("compile", DEMO / "clamp.c", "--build", "gc -O2", code=3)


def test_flags_that_say_what_to_make_are_refused() -> None:
    for flag in ("-o x", "-c", "-E", "-fwhole-program", "-save-temps", "-shared", "-masm=intel"):
        told = refused("compile", DEMO / "clamp.c", "--build", f"gcc -O2 {flag}")
        assert flag.split()[0] in told


def test_builds_given_in_place_need_no_reference_of_the_bench(demo: Path) -> None:
    found = document("check", demo, "--snippet", "clamp", "--build", "gcc -O2")
    assert found["references"] == {"clamp": "clamp_branch@gcc-12 -O2"}


def test_a_flag_the_compiler_does_not_know_refuses_that_build_only() -> None:
    found = document(
        "compile", DEMO / "clamp.c", "--build", "gcc -O2", "--build", "gcc -fno-such-tide"
    )
    assert [b["status"] for b in found["builds"]] == ["compiled", "refused"]
    assert "-fno-such-tide" in found["builds"][1]["why"]


@pytest.mark.parametrize("reader", ["head -1", "true"])
def test_a_reader_that_goes_away_is_no_error(demo: Path, reader: str) -> None:
    hot_anvil("compile", demo)
    for words in ("diff '{}' gcc:plain gcc:wide --all", "compile '{}' --format json"):
        line = f"'{COMMAND}' {words.format(demo)} | {reader}; echo ${{PIPESTATUS[0]}} >&2"
        said = subprocess.run(["bash", "-c", line], capture_output=True, text=True, check=False)
        assert said.stderr == "0\n"


def test_a_terminal_gets_colour_and_no_color_is_honoured(
    demo: Path, need: Callable[..., None]
) -> None:
    need("script")
    hot_anvil("compile", demo)  # nothing is left to show the progress of
    line = f"'{COMMAND}' diff '{demo}' gcc:plain gcc:lean"
    run = ["script", "-qec", line, "/dev/null"]
    env = {**os.environ, "TERM": "xterm", "COLUMNS": "100"}
    coloured = subprocess.run(run, env=env, capture_output=True, text=True, check=True).stdout
    plain = subprocess.run(
        run, env={**env, "NO_COLOR": "1"}, capture_output=True, text=True, check=True
    ).stdout
    assert "\x1b[" in coloured and "\x1b" not in plain
    stripped = re.sub(r"\x1b\[[0-9;]*m", "", coloured)
    assert stripped.split() == plain.split()


@pytest.mark.parametrize(("pager", "lines"), [("head -n 3", 3), ("", 99), ("cat", 99)])
def test_long_answers_on_a_terminal_go_through_the_pager(
    demo: Path, need: Callable[..., None], pager: str, lines: int
) -> None:
    need("script")
    line = f"stty rows 20; '{COMMAND}' listing '{demo}' gcc:plain --snippet clamp"
    run = ["script", "-qec", line, "/dev/null"]
    env = {**os.environ, "TERM": "xterm", "HOT_ANVIL_PAGER": pager, "COLUMNS": "100"}
    shown = subprocess.run(run, env=env, capture_output=True, text=True, check=True).stdout
    found = len(shown.strip().splitlines())
    assert found == lines if lines < 20 else found >= lines


def test_the_python_api_does_what_the_docs_show(demo: Path, tmp_path: Path) -> None:
    text = (ROOT / "docs" / "python.md").read_text()
    (example,) = re.findall(r"```python\n(.*?)```", text, re.DOTALL)
    (tmp_path / "tide-gauge").symlink_to(demo)
    run = [COMMAND.parent / "python", "-c", example]
    said = subprocess.run(
        run, cwd=tmp_path, capture_output=True, text=True, check=False, timeout=300
    )
    assert said.returncode == 0, said.stderr
    shown = text.split("```text\n")[1].split("\n")[0]
    assert shown.split()[0] in said.stdout and "picked" in said.stdout


def test_the_documents_fields_are_described(demo: Path) -> None:
    text = (ROOT / "docs" / "formats.md").read_text()
    documents = [
        document("toolchains"),
        document("compile", demo),
        document("listing", demo, "gcc:lean"),
        document("diff", demo, "gcc:plain", "gcc:lean"),
        document("facts", demo, "gcc:fast", "--snippet", "clamp", "--evidence"),
        document("frame", demo, "gcc:lean", "--snippet", "clamp"),
        document("explain", "lea"),
        document("explain", "--used", "gcc:lean", demo),
        document("expect", demo),
        document("check", demo, "--snippet", "crossings", code=1),
        document("pick", demo, "--snippet", "crossings", "--seconds", "0.1"),
    ]
    for name in sorted(_fields(documents)):
        assert f"`{name}`" in text, f"docs/formats.md does not describe '{name}'"


# Keys that are names of the person's own, or of the machine's.
_NAMES = {"facts", "caution", "choice", "why", "command", "references", "states", "drivers"}


def _fields(value: object) -> set[str]:
    if isinstance(value, list):
        return {name for item in value for name in _fields(item)}
    if not isinstance(value, dict):
        return set()
    inside = {
        name
        for key, item in value.items()
        if not (key in _NAMES and isinstance(item, dict))
        for name in _fields(item)
    }
    return inside | set(value)


def test_readme_names_only_commands_that_exist() -> None:
    text = (ROOT / "README.md").read_text()
    named = set(re.findall(r"hot-anvil ([a-z]+)", text))
    assert named <= set(COMMANDS) and {"start", "pick", "report", "diff"} <= named
    for picture in re.findall(r"\((docs/screenshots/[^)]+)\)", text):
        assert (ROOT / picture).exists()
    assert json.loads(json.dumps(COMMANDS)) == COMMANDS
