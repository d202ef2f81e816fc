"""The forms an answer can have: each says the same as the JSON, and other programs can read it."""

import csv
import io
import json
import shutil
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest
from markdown_it import MarkdownIt

import hot_anvil as package
from conftest import document, hot_anvil, refused, write_bench

EVIL = 'x < y | `a` *b* _c_ <img src=x onerror="alert(1)"> [l](http://quay.invalid) ![p](p) & ~~s~~'
SOURCE = f"""\
#include <string.h>
// {EVIL}
int tide(int level)
{{
    unsigned mark = 200;
    int unused_level; // {EVIL}
    return level < mark ? level : 200; /* {EVIL} */
}}
int surge(int level) {{ return level << 31 >> 31; }}
"""
BENCH = """\
[flags]
plain = "-O0 -Wall -Wextra"
fast = "-O2 -Wall -Wextra"
[grid]
toolchains = ["gcc"]
flags = ["plain", "fast"]
[[snippet]]
name = "tides"
sources = ["tides.c"]
entries = ["tide", "surge"]
reference = "tide"
accept = { wrong = "surge is another thing" }
[snippet.inputs]
level = 5
[[snippet.expect]]
entry = "tide"
facts = { loops = 0 }
[[snippet.expect]]
entry = "surge"
facts = { loops = 2 }
why = "it has two passes"
"""


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return write_bench(tmp_path_factory.mktemp("forms") / "quay", BENCH, tides=SOURCE)


def rows_of(*words: str | Path) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(hot_anvil(*words, "--format", "csv").stdout)))


def test_csv_says_what_json_says(bench: Path) -> None:
    for command, key, name in (
        ("compile", "builds", "code_bytes"), ("check", "verdicts", "verdict"),
    ):  # fmt: skip
        plain = document(command, bench)[key]
        assert [row[name] for row in rows_of(command, bench)] == [str(one[name]) for one in plain]
    counted = {"gcc-12:plain": 0, "gcc-12:fast": 0}
    for row in rows_of("ledger", bench):
        counted[row["build"]] += int(row["instructions"])
    compiled = rows_of("compile", bench)
    assert counted == {row["build"]: int(row["instructions"]) for row in compiled}
    states = {row["line"]: row["state"] for row in rows_of("diff", bench, "gcc:plain", "gcc:fast")}
    told = document("diff", bench, "gcc:plain", "gcc:fast")["lines"]
    assert states == {str(one["line"] or ""): one["state"] for one in told}
    listed = rows_of("listing", bench, "gcc:plain", "--entry", "tide")
    assert [row["mnemonic"] for row in listed][-1].startswith("ret")


def test_junit_counts_what_fails(bench: Path) -> None:
    tree = ElementTree.fromstring(hot_anvil("check", bench, "--format", "junit").stdout)
    (suite,) = tree
    verdicts = document("check", bench)["verdicts"]
    assert [case.get("name") for case in suite] == [v["candidate"] for v in verdicts]
    assert suite.get("failures") == "0" and int(suite.get("skipped", "0")) == 2
    said = [one.get("message", "") for one in suite.iter("skipped")]
    assert all("surge is another thing" in text for text in said)
    strict = bench / "anvil.toml"
    text = strict.read_text()
    strict.write_text(text.replace("accept =", "# accept ="))
    try:
        done = hot_anvil("check", bench, "--format", "junit")
        assert done.returncode == 1
        (suite,) = ElementTree.fromstring(done.stdout)
        assert suite.get("failures") == "2" and suite.get("tests") == "4"
        accepted = hot_anvil("check", bench, "--format", "junit", "--accept", "wrong").stdout
        assert ElementTree.fromstring(accepted)[0].get("failures") == "0"
    finally:
        strict.write_text(text)
    done = hot_anvil("expect", bench, "--format", "junit")
    (suite,) = ElementTree.fromstring(done.stdout)
    states = [one["state"] for one in document("expect", bench, code=1)["outcomes"]]
    assert int(suite.get("failures", "0")) == sum(state != "held" for state in states) > 0
    assert "it has two passes" in done.stdout


def test_sarif_has_every_complaint_once_at_its_place(bench: Path) -> None:
    plain = json.loads(hot_anvil("compile", bench, "--format", "sarif").stdout)
    (run,) = plain["runs"]
    rules = [rule["id"] for rule in run["tool"]["driver"]["rules"]]
    assert {"-Wsign-compare", "-Wunused-variable"} <= set(rules)
    for result in run["results"]:
        assert rules[result["ruleIndex"]] == result["ruleId"]
        assert result["properties"]["builds"] == ["gcc-12:plain", "gcc-12:fast"]
        place = result["locations"][0]["physicalLocation"]
        assert (bench / place["artifactLocation"]["uri"]).is_file()
        assert place["region"]["startLine"] in (6, 7) and "[-W" not in result["message"]["text"]
    shown = json.loads(hot_anvil("check", bench, "--format", "sarif").stdout)
    assert plain["version"] == shown["version"] == "2.1.0"
    assert "no check" in refused_show(bench)


def refused_show(bench: Path) -> str:
    """Ask for verdicts of an answer that has none."""
    assert hot_anvil("hotspots", bench, "gcc:fast", "--seconds", "0.05").returncode == 0
    return refused("show", bench, "--format", "junit")


def tokens(text: str) -> list[Any]:
    parsed = MarkdownIt("commonmark", {"html": True}).enable(["table", "strikethrough"]).parse(text)
    return [*parsed, *(inner for one in parsed for inner in one.children or ())]


@pytest.mark.parametrize("words", [
    ["compile"], ["listing", "gcc:plain"], ["diff", "gcc:plain", "gcc:fast", "--all"],
    ["ledger"], ["facts"], ["check"], ["expect"],
])  # fmt: skip
def test_markdown_is_tables_and_texts_and_nothing_that_acts(bench: Path, words: list[str]) -> None:
    text = hot_anvil(words[0], bench, *words[1:], "--format", "markdown").stdout
    kinds = {token.type for token in tokens(text)}
    assert not kinds & {"html_inline", "html_block", "link_open", "image", "s_open", "em_open"}
    if words[0] == "compile":
        assert "table_open" in kinds
    if words[0] in ("listing", "diff", "ledger"):
        code = "".join(token.content for token in tokens(text) if token.type == "fence")
        assert "level < mark" in code


def test_results_are_data_frames(bench: Path) -> None:
    anvil = package.open_bench(bench)
    frame = anvil.check().to_frame()
    assert list(frame["verdict"]) == ["correct"] * 2 + ["wrong"] * 2
    diff = anvil.diff("gcc:plain", "gcc:fast").to_frame()
    assert int(diff["left_instructions"].sum()) > int(diff["right_instructions"].sum())
    assert set(anvil.facts().to_frame().columns) >= {"build", "fact", "value"}
    ledger = anvil.ledger().to_frame()
    assert ledger.pivot_table("instructions", "line", "build").shape[1] == 2


@pytest.mark.parametrize("width", [60, 80, 100, 200])
def test_no_line_is_wider_than_asked_for(demo: Path, tmp_path: Path, width: int) -> None:
    bench = tmp_path / "gauge"
    shutil.copytree(demo, bench)
    for command, *words in (
        ("compile",), ("ledger",), ("diff", "gcc:plain", "gcc:wide"), ("facts",),
        ("frame", "gcc:fast"), ("listing", "gcc:fast"), ("check", "--snippet", "clamp"),
        ("toolchains",), ("explain", "add"),
    ):  # fmt: skip
        place = [bench] if command not in ("toolchains", "explain") else []
        answer = hot_anvil(command, *place, *words, COLUMNS=str(width))
        wide = [line for line in answer.stdout.split("\n") if len(line) > width]
        # What is to be copied into a terminal stands in one line.
        assert [line for line in wide if "hot-anvil" not in line] == [], (command, width)


def test_what_the_width_leaves_no_room_for_is_said_or_goes_on_below(demo: Path) -> None:
    narrow = hot_anvil("compile", demo, "--snippet", "clamp", COLUMNS="60").stdout
    assert "left out, for the width: instructions" in narrow
    assert narrow.count("gcc-12:wide") == 2 and "-O3 -march=native" in narrow
    wide = hot_anvil("compile", demo, "--snippet", "clamp", COLUMNS="200").stdout
    assert "left out" not in wide and wide.count("gcc-12:wide") == 1


def test_a_comparison_of_many_functions_leads_with_what_changed_most(tmp_path: Path) -> None:
    body = "int tide_{0}(const int *a, int n) {{ int s = {0};\n for (int i = 0; i < n; i++)\n" \
           "  s += a[i] * {0};\n return s; }}\n"  # fmt: skip
    source = tmp_path / "many.c"
    source.write_text("".join(body.format(k) for k in range(40)) + "int same(void) { return 1; }\n")
    words = ("diff", source, "--build", "gcc -O1", "--build", "gcc -O3")
    text = hot_anvil(*words).stdout
    assert len(text.splitlines()) < 60 and "--all prints everything" in text
    assert "loop vectorised" in text and "more functions that change less" in text
    assert "1 of 41 functions are the same" in text and "movl" not in text
    assert len(hot_anvil(*words, "--all").stdout.splitlines()) > 1000
    one = hot_anvil(*words, "--entry", "tide_7").stdout
    assert "s += a[i] * 7;" in one and "--all prints" not in one
