"""Faults that only some way of watching shows: another compiler, several files, what is unset."""

import shutil
from pathlib import Path
from typing import Any

import pytest

from conftest import document, hot_anvil, lacking, write_bench

SOURCE = """#include <limits.h>
#include <stdint.h>
#include <stdlib.h>
int32_t folded(int32_t level) { int32_t far = INT_MAX; return level + (far + 1 > far); }
int32_t unset(int32_t level)
{
    int32_t open;
    if (level > 900)
        open = 1;
    return open ? level : level;
}
int32_t heap(int32_t level)
{
    int32_t *kept = malloc(8 * sizeof *kept);
    int32_t found = kept[3] == 77 && level < 0;
    free(kept);
    return found;
}
int32_t cast(float height) { return *(int32_t *)&height; }
"""
MARK = "struct mark { int8_t kind; int32_t level; };\n"


def checked(tmp_path: Path, entry: str, inputs: str, code: int = 1) -> Any:
    source = tmp_path / "watched.c"
    source.write_text(SOURCE)
    words = ["--build", "gcc -O2", "--entry", entry, "--inputs", inputs]
    return document("check", source, *words, code=code)


def test_what_one_front_end_folds_away_another_compiler_traps(tmp_path: Path, need: Any) -> None:
    need("clang-16")
    found = checked(tmp_path, "folded", 'level = "uniform(0, 9)"')
    (shown,) = (u for u in found["undefined"] if not u["edge"])
    assert shown["build"].endswith("traps") and shown["place"]["line"] == 4
    assert {v["verdict"] for v in found["verdicts"]} == {"undefined"}


@pytest.mark.parametrize(
    ("entry", "told", "line"), [("unset", "'open'", 10), ("heap", "memory", 15)]
)
def test_a_value_that_was_never_set_is_named(
    tmp_path: Path, entry: str, told: str, line: int
) -> None:
    found = checked(tmp_path, entry, 'level = "uniform(0, 300)"')
    if found["scope"][0]["unset_watched"] is None:
        lacking("clang's memory sanitizer")
    (shown,) = (u for u in found["undefined"] if not u["edge"])
    assert told in shown["message"] and "never set" in shown["message"]
    assert shown["place"]["line"] == line


def test_what_we_pass_is_set(tmp_path: Path) -> None:
    (tmp_path / "passed.c").write_text(
        f"#include <stdint.h>\n{MARK}int64_t total(struct mark m, const struct mark *all,"
        " int32_t a, double b, int32_t c, int32_t d, int32_t e, int32_t f, int32_t g)\n"
        "{ return (m.level > 2) + (all[1].level > a) + (b > c) + (d > e) + (f > g) + m.kind; }\n"
    )
    words: list[str | Path] = ["check", tmp_path / "passed.c", "--build", "gcc -O0"]
    mark = 'members = { kind = "uniform(0, 5)", level = "uniform(0, 5)" }'
    given = [f"m = {{ {mark} }}", f"all = {{ {mark}, count = 3 }}", 'b = "uniform(0, 9)"']
    for text in [*given, *(f"{name} = 1" for name in "acdefg")]:
        words += ["--inputs", text]
    assert {v["verdict"] for v in document(*words)["verdicts"]} == {"correct"}


def test_what_only_compilers_see_is_told_of_correct_code(tmp_path: Path) -> None:
    found = checked(tmp_path, "cast", 'height = "uniform(0, 9)"', code=0)
    assert any("watched.c:19: dereferencing type-punned" in n["text"] for n in found["notes"])


FILES = {
    "asks.c": "double rate(int level);\nint gap(int level);\n"
    "long asked(int level) { return (long)rate(level); }\n"
    "int apart(int level) { return gap(level); }\n",
    "has.c": "float rate(int level) { return level / 2.0f; }\n"
    "int gap(int level) { return level; }\n",
}


def test_files_that_differ_make_what_reaches_it_undefined(tmp_path: Path) -> None:
    for name, text in FILES.items():
        (tmp_path / name).write_text(text)
    snippet = '[[snippet]]\nname = "{0}"\nsources = ["asks.c", "has.c"]\nentries = ["{0}"]\n' \
        "inputs = {{ level = 5 }}\n"  # fmt: skip
    grid = '[flags]\na = "-O1"\n[grid]\ntoolchains = ["gcc"]\n'
    write_bench(tmp_path, grid + snippet.format("asked") + snippet.format("apart"))
    found = document("check", tmp_path, code=1)
    assert {v["entry"]: v["verdict"] for v in found["verdicts"]} == {
        "asked": "undefined", "apart": "correct",
    }  # fmt: skip
    one = found["disagreements"][0]
    assert "'float' should match type 'double'" in one["message"]
    assert (one["place"], one["other"]) == (
        {"file": "asks.c", "line": 1}, {"file": "has.c", "line": 1},
    )  # fmt: skip


def test_overlapping_arguments_of_fortran_are_named(tmp_path: Path, need: Any) -> None:
    need("gfortran")
    source = tmp_path / "shift.f90"
    source.write_text(
        "subroutine shift(a, b, n)\n  integer, value :: n\n  real, intent(in) :: a(n)\n"
        "  real, intent(inout) :: b(n)\n  integer :: i\n  do i = 2, n\n    b(i) = a(i-1) + 1\n"
        "  end do\nend\n"
    )
    words: list[str | Path] = [
        "check",
        source,
        "--build",
        "gfortran -O0",
        "--build",
        "gfortran -O3",
    ]
    for text in ('a = { fill = "uniform(0, 1)", count = "n" }', 'b = { alias = "a" }', "n = 40"):
        words += ["--inputs", text]
    (row,) = (v for v in document(*words, code=1)["verdicts"] if v["verdict"] == "wrong")
    assert any("arguments 'b' and 'a' overlap" in said for said in row["suspects"])


def test_a_sanitized_build_keeps_the_limit_of_memory(tmp_path: Path) -> None:
    source = tmp_path / "greedy.c"
    source.write_text(
        "#include <stdlib.h>\nint greedy(int n) { char *all = malloc((size_t)n << 30);\n"
        "    if (!all) return 7;\n    all[n] = 1; int found = all[n]; free(all); return found; }\n"
    )
    found = document("check", source, "--build", "gcc -O1", "--inputs", "n = 3", "--values")
    assert {value["output"] for value in found["values"]} == {"returned 7"}
    assert not found["undefined"]


def test_a_driver_to_fill_in_is_laid_out_and_refused_until_then(tmp_path: Path) -> None:
    source = tmp_path / "reset.cpp"
    source.write_text(
        "#include <vector>\nstruct Gauge { std::vector<int> levels; };\n"
        "void reset(Gauge &gauge) { for (int &level : gauge.levels) level = 0; }\n"
    )
    assert "reset_driver.cpp" in hot_anvil("start", source).stdout
    draft = (tmp_path / "reset_driver.cpp").read_text()
    assert "HOT_ANVIL_CALL(reset)" in draft and "// struct Gauge" in draft
    bench = tmp_path / "anvil.toml"
    text = bench.read_text()
    assert '# driver  = "reset_driver.cpp"' in text
    asked = text.index("# [[snippet]]")
    bench.write_text(text[:asked] + text[asked:].replace("# ", ""))
    assert "fill in what this driver makes" in hot_anvil("check", tmp_path).stderr


SETTINGS = "[snippet.inputs]\nx = 3\n"
OF_LANGUAGES = {
    "f90": ("!", "function twice(x) bind(c) result(y)\n  use iso_c_binding\n"
            "  integer(c_int), value :: x\n  integer(c_int) :: y\n  y = 2 * x\nend\n"),
    "rs": ("//", '#[no_mangle] pub extern "C" fn twice(x: i32) -> i32 { 2 * x }\n'),
    "c": ("//", "int twice(int x) { return 2 * x; }\n"),
}  # fmt: skip


@pytest.mark.parametrize("ending", OF_LANGUAGES)
def test_settings_stand_in_the_first_comment_of_any_language(tmp_path: Path, ending: str) -> None:
    sign, code = OF_LANGUAGES[ending]
    compiler = {"f90": "gfortran", "rs": "rustc", "c": "gcc"}[ending]
    if not shutil.which(compiler):
        lacking(compiler)
    comment = "".join(f"{sign} {line}\n" for line in ("hot-anvil:", *SETTINGS.splitlines()))
    source = tmp_path / f"twice.{ending}"
    source.write_text(comment + code)
    found = document("check", source, "--build", compiler, "--values")
    assert {value["output"] for value in found["values"]} == {"returned 6"}


def test_what_to_write_around_a_rust_slice_is_said(tmp_path: Path, need: Any) -> None:
    need("rustc")
    source = tmp_path / "sum.rs"
    source.write_text("pub fn total(levels: &[i32]) -> i32 { levels.iter().sum() }\n")
    told = hot_anvil("check", source, "--build", "rustc -O").stderr
    assert "fn total_of(levels: *const i32, n: usize)" in told
    source.write_text("fn total(levels: &[i32]) -> i32 { levels.iter().sum() }\n")
    assert "pub and not generic" in hot_anvil("check", source, "--build", "rustc -O").stderr
