"""What compilers complain about: with its notes, the line and a caret, once for all builds."""

from pathlib import Path

import pytest

from conftest import document, hot_anvil, lacking
from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import Built, Unit
from hot_anvil.core.proof.records import UNKNOWN, Proof
from hot_anvil.core.toolchain.diagnostics import Diagnostic
from hot_anvil.core.toolchain.messages import file_name, read_diagnostics
from hot_anvil.views.text.compile import compile_report
from unit_snippets import SURGE

SOURCES = {"surge.c": ["\tif (level = 3) /* é */ alarm();", "int ebb(int level, int other);"]}
WARNING = Diagnostic("surge.c", 1, 12, "warning", "assignment in a condition [-Wparentheses]")
NOTE = Diagnostic("surge.c", 1, 12, "note", "place parentheses around it")
LATER = Diagnostic("surge.c", 2, 24, "warning", "unused parameter")
ELSEWHERE = Diagnostic("tide.h", 9, 1, "note", "declared here")


def built(name: str, *diagnostics: Diagnostic) -> Built:
    chain, _, flags = name.partition(":")
    proof = Proof(UNKNOWN, "made up", 1, 0)
    unit = Unit("surge.c", "a1", "compiled", "", 0.1, diagnostics, 40, {}, proof)
    return Built(SURGE, Build(chain, flags, ("-O2",)), (unit,), False)


def lines_of(*builts: Built, width: int = 100) -> list[str]:
    return compile_report(builts, (), {}, SOURCES, width).text.split("\n")


def test_notes_stay_with_their_warning_whatever_their_place() -> None:
    lines = lines_of(built("gcc:fast", LATER, ELSEWHERE, WARNING, NOTE))
    at = [k for k, line in enumerate(lines) if ": warning:" in line or ": note:" in line]
    said = [lines[k].strip().split(":")[0] + lines[k].split(":")[1] for k in at]
    assert said == ["surge.c1", "surge.c1", "surge.c2", "tide.h9"]  # by the warnings' lines
    assert all(lines[k].startswith("      ") == (": note:" in lines[k]) for k in at)


def test_the_caret_stands_under_what_is_meant() -> None:
    for complaint, mark in ((WARNING, "= 3)"), (LATER, "other);")):
        lines = lines_of(built("gcc:fast", complaint))
        (at,) = (k for k, line in enumerate(lines) if line.strip() == "^")
        assert lines[at - 1][lines[at].index("^") :].startswith(mark)
    behind = Diagnostic("surge.c", 1, 26, "warning", "implicit declaration")  # é is two bytes
    lines = lines_of(built("gcc:fast", behind))
    (at,) = (k for k, line in enumerate(lines) if line.strip() == "^")
    assert lines[at - 1][lines[at].index("^") :].startswith("alarm")


def test_one_complaint_of_two_builds_stands_once() -> None:
    both = lines_of(built("gcc:fast", WARNING, NOTE), built("gcc:lean", WARNING, NOTE))
    assert sum(": warning:" in line for line in both) == 1 and "      from all builds" in both
    apart = lines_of(built("gcc:fast", WARNING, NOTE), built("gcc:lean", WARNING))
    assert sum(": warning:" in line for line in apart) == 2
    assert {"      from gcc:fast", "      from gcc:lean"} <= set(apart)


def test_a_long_line_is_cut_around_its_caret() -> None:
    text = "x" * 150 + "HERE" + "y" * 100
    own = built("gcc:fast", Diagnostic("s.c", 1, 151, "error", "bad"))
    lines = compile_report([own], (), {}, {"s.c": [text]}, 80).text.split("\n")
    (at,) = (k for k, line in enumerate(lines) if line.strip() == "^")
    assert lines[at - 1][lines[at].index("^") :].startswith("HERE") and len(lines[at - 1]) <= 80


@pytest.mark.parametrize(("name", "plain"), [
    ("./a.h", "a.h"), ("x/../a.h", "a.h"), ("a.h", "a.h"), ("sub/./a.h", "sub/a.h"),
    ("/usr/include/../include/a.h", "/usr/include/a.h"), ("<command-line>", "<command-line>"),
    ("../a.h", "../a.h"), ("", ""),
])  # fmt: skip
def test_files_are_named_alike(name: str, plain: str) -> None:
    assert file_name(name) == plain


def test_notes_inside_gccs_json_follow_their_warning() -> None:
    note = (
        '{"kind":"note","message":"first here","locations":[{"caret":{"file":"./a.h","line":2}}]}'
    )
    stream = (
        '[{"kind":"error","message":"twice","locations":[{"caret":{"file":"a.c","line":5,'
        f'"column":9,"byte-column":8}}}}],"children":[{note}]}}]\n'
    )
    error, told = read_diagnostics(stream, "gcc-json")
    assert (error.file, error.line, error.column) == ("a.c", 5, 8)
    assert told == Diagnostic("a.h", 2, 0, "note", "first here")


def test_gcc_and_clang_make_one_row_of_one_header(tmp_path: Path) -> None:
    (tmp_path / "a.h").write_text("static int never_used(int a) { return a; }\n")
    source = tmp_path / "m.c"
    source.write_text('#include "./a.h"\nint ebb(int level) { return level; }\n')
    words = ("compile", source, "--build", "gcc -O1 -Wall", "--build", "clang -O1 -Wall")
    if hot_anvil(*words).returncode:
        lacking("clang")
    found = [d for one in document(*words)["builds"] for d in one["diagnostics"]]
    assert {(d["file"], d["line"], d["column"]) for d in found} == {("a.h", 1, 12)}
    assert len(found) == 2
