"""A new instruction set is one folder: all commands know it, with no other file touched.

``quay8`` beside this file was made by following CONTRIBUTING, "Adding an instruction set".
"""

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

HERE = Path(__file__).parent
SOURCE = """\
int total(const int *levels, int n) {
  int sum = 0;
  for (const int *at = levels; n; at++, n--)
    sum += *at * 10;
  return sum;
}
"""
# What dropping the folder ``quay8`` into ``core/arch`` does, without writing there.
RUN = f"""
import sys, hot_anvil.core.arch as arch
arch.__path__.append({str(HERE)!r})
from hot_anvil.cli.main import main
sys.exit(main(sys.argv[1:]))
"""
BUILDS = [f"--build=quay8-unknown-elf-gcc {flag}" for flag in ("-O0", "-O2")]
SLOTS, REGISTERS = "quay8-unknown-elf-gcc -O0", "quay8-unknown-elf-gcc -O2"


@pytest.fixture(scope="module")
def quay(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("quay8")
    (folder / "bin").mkdir()
    (folder / "bin" / "quay8-unknown-elf-gcc").symlink_to(HERE / "quay8-gcc")
    (folder / "total.c").write_text(SOURCE)
    return folder


def run(quay: Path, *words: str, form: str = "json") -> Any:
    path = f"{quay / 'bin'}:{os.environ['PATH']}"
    cache = str(quay / "cache")
    done = subprocess.run(
        [sys.executable, "-c", RUN, *words, "--format", form],
        cwd=quay, env={**os.environ, "PATH": path, "XDG_CACHE_HOME": cache}, text=True,
        capture_output=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return json.loads(done.stdout) if form == "json" else done.stdout


def test_it_is_listed_by_source_line_with_its_phases_and_words(quay: Path) -> None:
    found = run(quay, "listing", "total.c", SLOTS, *BUILDS, "--words")["functions"][0]
    assert (found["instruction_set"], found["proof"], found["count"]) == ("quay8", "unknown", 25)
    by_line = {line["line"]: line["instructions"] for line in found["lines"]}
    assert [i["phase"] for i in by_line[1]][:2] == ["prologue", None]
    assert by_line[4][3]["words"] == "r3 = r3 * r4"
    assert by_line[5][-1]["phase"] == "epilogue"


def test_differences_have_their_reasons(quay: Path) -> None:
    found = run(quay, "diff", "total.c", SLOTS, REGISTERS, *BUILDS)
    assert {r["kind"] for r in found["reasons"]} >= {
        "multiply into shifts", "value kept in a register", "stack frame gone",
    }  # fmt: skip
    assert found["totals"][0]["not_explained"] == 0
    (same,) = (t["states"] for t in run(quay, "diff", "total.c", SLOTS, SLOTS, *BUILDS)["totals"])
    assert sum(same.values()) == same["same"]


def test_facts_of_functions_and_loops(quay: Path) -> None:
    slots, registers = run(quay, "facts", "total.c", *BUILDS)["functions"]
    told = [{k: f["facts"][k]["value"] for k in ("frame", "slots")} for f in (slots, registers)]
    assert told == [{"frame": 16, "slots": 3}, {"frame": 0, "slots": 0}]
    (loop,) = registers["loops"]
    values = {name: fact["value"] for name, fact in loop["facts"].items()}
    assert (values["per pass"], values["bytes per pass"], values["loads"]) == (8, 4, 1)


def test_frames_name_its_registers(quay: Path) -> None:
    (found,) = run(quay, "frame", "total.c", SLOTS, *BUILDS)["functions"]
    places = {v["name"]: [p["where"] for p in v["places"]] for v in found["variables"]}
    assert places["levels"][0] == "r5" and not any("%" in w for w in places["levels"])


def test_its_instructions_are_explained(quay: Path) -> None:
    (told,) = run(quay, "explain", "tms")["instructions"]
    assert (told["instruction_set"], told["reading"]) == ("quay8", "r1 = r2 * 1")
    assert "Quay-8" in run(quay, "explain", "hne", form="text")
