"""Comparisons of entries, edits and files, and ledgers: the installed command on real files."""

import re
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import CORPUS, document, hot_anvil, refused, write_bench
from hot_anvil.core.diff.edited import match_lines
from hot_anvil.core.diff.ledger import Cell, LedgerRow

GAUGE = """int rise(const int *level, int n)
{
    int sum = 0;
    for (int i = 0; i < n; i++)
        sum += level[i] * 3;
    return sum;
}

int fall(int level)
{
    return level / 7;
}
"""


def states(*words: str | Path) -> dict[str, int]:
    found = document("diff", *words)
    return {state: n for totals in found["totals"] for state, n in totals["states"].items() if n}


def test_two_entries_are_aligned_by_their_instructions(demo: Path) -> None:
    sides = "crossings_signed@gcc:fast", "crossings_mixed@gcc:fast"
    found = document("diff", demo, *sides)
    assert (found["left"], found["right"]) == sides
    signed = [x for x in found["lines"] if any(r["kind"] == "signedness" for r in x["reasons"])]
    line = signed[0]
    assert len(signed) == 2 and signed[1]["text"].strip() == "count++;"
    assert line["left_source"]["text"] == line["right_source"]["text"]
    assert line["left_source"]["line"] + 12 == line["right_source"]["line"]
    assert ["changed", "jge .L3", "jnb .L10"] in line["parts"][0]["pairs"]
    assert states(demo, "crossings_mixed@gcc:fast", "crossings_mixed@gcc:fast") == {"same": 5}
    assert "'crossings_mixed'" in refused("diff", demo, "crossings_mixd@gcc:fast", sides[0])
    assert "on both sides" in refused("diff", demo, sides[0], "gcc:fast")


@pytest.mark.parametrize(
    "build", ["gcc -O0", "gcc -O2", "clang-16 -O2", "avr-gcc -Os -mmcu=atmega328p"]
)
def test_what_changes_no_code_changes_no_line(
    build: str, tmp_path: Path, need: Callable[..., None]
) -> None:
    need(build.split()[0])
    source, other = tmp_path / "gauge.c", tmp_path / "elsewhere" / "gauge.c"
    other.parent.mkdir()
    source.write_text(GAUGE)
    other.write_text(GAUGE)
    assert set(states(source, build, build, "--build", build)) == {"same"}
    assert set(states(source, other, "--build", build)) == {"same"}
    assert set(states(source, "--build", build, "--build", f"{build} -g")) == {"same"}
    other.write_text(GAUGE.replace("    for", "\n    // all levels\n\n    for"))
    assert set(states(source, other, "--build", build)) == {"same"}
    other.write_text(re.sub(r"\b(sum|i|level)\b", r"the_\1", GAUGE))
    assert set(states(source, other, "--build", build)) <= {"same", "renamed", "reordered"}
    if "gcc" in build:
        assert set(states(source, "--build", build, "--build", f"{build} -frandom-seed=7")) == {
            "same"
        }


def test_before_and_after_an_edit(tmp_path: Path) -> None:
    bench = write_bench(
        tmp_path / "quay",
        '[flags]\nfast = "-O2"\n[grid]\ntoolchains = ["gcc"]\nflags = ["fast"]\n'
        '[[snippet]]\nname = "gauge"\nsources = ["gauge.c"]\nentries = ["rise"]\n',
        gauge=GAUGE,
    )
    assert "Compile before an edit" in refused("diff", bench, "--before")
    hot_anvil("compile", bench)
    (bench / "gauge.c").write_text(
        GAUGE.replace("    int sum", "    // millimetres\n    int sum").replace("* 3", "* 5")
    )
    found = document("diff", bench, "gcc:fast", "--before")
    changed = [line for line in found["lines"] if line["state"] not in ("same", "renamed")]
    assert [(x["line"], x["left_source"]["line"]) for x in changed] == [(6, 5)]
    assert (
        "* 3" in changed[0]["left_source"]["text"] and "* 5" in changed[0]["right_source"]["text"]
    )
    text = hot_anvil("diff", bench, "--before").stdout
    assert "before the last edit" in text and "left: 5  sum += level[i] * 3;" in text
    (bench / "gauge.c").write_text(GAUGE.replace("level / 7", "level / 8"))
    twice = document("diff", bench, "--before", "2")
    assert [x["line"] for x in twice["lines"] if x["state"] == "changed"] == [11]
    assert "--before 0" in refused("diff", bench, "--before", "0")


def test_two_files_with_one_function_each(tmp_path: Path) -> None:
    one, other = tmp_path / "old.c", tmp_path / "new.c"
    one.write_text("int ebb(int a)\n{\n    return a * 8;\n}\n")
    other.write_text("int flow(int a)\n{\n    return a << 3;\n}\n")
    found = document("diff", one, other, "--build", "gcc -O2")
    assert {line["state"] for line in found["lines"]} == {"same"}
    assert found["totals"][0]["functions"][0]["title"] == "ebb and flow"
    assert "under one build" in refused("diff", one, other)


def test_lines_of_an_edited_source_are_matched() -> None:
    old = [
        "int a;",
        "for (i = 0; i < n; i++)",
        "  sum += level[i];",
        "",
        "return sum;",
        "int last;",
    ]
    new = [
        "int last;",
        "int a;",
        "/* all */",
        "for (i = 1; i < n; i++)",
        "  sum += level[i];",
        "return sum;",
    ]
    assert match_lines(old, new) == {1: 2, 2: 4, 3: 5, 5: 6, 6: 1}


def test_code_made_while_linking_is_compared_in_the_view_that_both_sides_have(demo: Path) -> None:
    found = document("diff", demo, "gcc:fast", "gcc:whole", "--snippet", "frame")
    (totals,) = found["totals"]
    assert totals["states"]["same"] > 3  # would be none, were one side the compiler's text
    assert ("frame_crc_split", "call inlined") in {
        (r["function"], r["kind"]) for r in found["reasons"]
    }


def test_rows_can_be_chosen(demo: Path) -> None:
    whole = document("diff", demo, "gcc:plain", "gcc:fast", "--snippet", "clamp")
    some = document("diff", demo, "gcc:plain", "gcc:fast", "--snippet", "clamp", "--state", "gone")
    assert {line["state"] for line in some["lines"]} == {"gone"}
    assert some["totals"] == whole["totals"] and some["reasons"] == whole["reasons"]
    few = document("diff", demo, "gcc:plain", "gcc:fast", "--snippet", "clamp", "--lines", "8-9")
    assert [line["line"] for line in few["lines"]] == [8, 9]
    assert "'gone'" in refused("diff", demo, "gcc:plain", "gcc:fast", "--state", "gon")
    assert "12-20" in refused("diff", demo, "gcc:plain", "gcc:fast", "--lines", "9-8")


def test_a_kept_comparison_is_not_used_for_other_code(tmp_path: Path) -> None:
    source = tmp_path / "gauge.c"
    builds = ["--build", "gcc -O1", "--build", "gcc -O2"]
    source.write_text(GAUGE)
    first = document("diff", source, *builds)
    assert document("diff", source, *builds) == first
    source.write_text(GAUGE.replace("level / 7", "level / 8"))
    second = document("diff", source, *builds)
    shown = {line["line"]: line["right"]["instructions"] for line in second["lines"]}
    assert shown[11] != {line["line"]: line["right"]["instructions"] for line in first["lines"]}[11]


def test_the_ledger_counts_what_listings_show(demo: Path) -> None:
    builds = ["gcc:plain", "gcc:lean", "gcc:fast"]
    (ledger,) = document("ledger", demo, *builds, "--snippet", "crossings")["ledgers"]
    assert [name.partition(":")[2] for name in ledger["builds"]] == ["plain", "lean", "fast"]
    for column, build in enumerate(builds):
        listed = document("listing", demo, build, "--snippet", "crossings")
        assert ledger["totals"][column] == sum(f["count"] for f in listed["functions"])
        counts = sum(line["cells"][column]["instructions"] for line in ledger["lines"])
        assert counts == ledger["totals"][column]
    by_text = {line["text"].strip(): line for line in ledger["lines"]}
    loop = by_text["for (int32_t i = 1; i < n; i++)"]
    assert all("loop" in cell["marks"] for cell in loop["cells"])


def test_wide_ledgers_page_by_columns_and_keep_to_the_width(demo: Path) -> None:
    source = CORPUS / "values.c"
    builds = [
        f"gcc -O{level} -f{flag}"
        for level in "0123"
        for flag in ("wrapv", "no-inline", "gcse", "ipa-ra")
    ]
    words = [word for build in builds for word in ("--build", build)]
    text = hot_anvil("ledger", source, *words, COLUMNS="100").stdout
    assert max(map(len, text.split("\n"))) <= 100
    pages = re.findall(r"^builds (\d+) of (\d+)$", text, re.MULTILINE)
    assert [int(k) for k, _ in pages] == list(range(1, int(pages[0][1]) + 1)) and len(pages) > 1
    assert text.count("all instructions") == len(pages)
    few = hot_anvil(
        "ledger", source, *words, "--only-differing", "--entry", "same", COLUMNS="100"
    ).stdout
    assert len(few) < len(text)


def test_a_refused_build_has_its_place_in_the_ledger(tmp_path: Path) -> None:
    source = tmp_path / "gauge.c"
    source.write_text(GAUGE)
    (ledger,) = document("ledger", source, "--build", "gcc -O1", "--build", "gcc -mtide")["ledgers"]
    assert ledger["totals"][1] is None and ledger["refused"][0]["build"].endswith(" -mtide")
    assert (
        " -mtide: "
        in hot_anvil("ledger", source, "--build", "gcc -O1", "--build", "gcc -mtide").stdout
    )


def test_disagreement_sorts_by_spread() -> None:
    row = LedgerRow("a.c", 1, "", (Cell(3), None, Cell(9, ("loop",))))
    assert row.spread == 6 and row.differs
    assert not LedgerRow("a.c", 1, "", (Cell(3), None, Cell(3))).differs


def test_a_bench_that_moved_keeps_what_it_knows(demo: Path, tmp_path: Path) -> None:
    copy = tmp_path / "other"
    shutil.copytree(demo, copy)
    text = hot_anvil("diff", copy, "gcc:plain", "gcc:lean", "--snippet", "checksum").stdout
    assert text == hot_anvil("diff", demo, "gcc:plain", "gcc:lean", "--snippet", "checksum").stdout


EQUAL = """
long ebb(const int *levels, long n)
{
    long s = 0;
    for (long i = 0; i < n; i++) s += levels[i];
    return s;
}
long sea(const int *heights, long m)
{
    long s = 0;
    for (long i = 0; i < m; i++) s += heights[i];
    return s;
}
"""


def test_a_function_folded_into_an_equal_one_is_no_loop_removed(tmp_path: Path) -> None:
    source = tmp_path / "tide.c"
    source.write_text(EQUAL)
    builds = ("--build", "gcc -O1", "--build", "gcc -Os")
    found = document("diff", source, "gcc -O1", "gcc -Os", *builds)
    kinds = {r["kind"]: r["text"] for r in found["reasons"] if r["function"] == "sea"}
    assert kinds.keys() == {"function folded"} and "ebb" in kinds["function folded"]
    # Both can still be called, as the same code.
    picked = document(
        "pick", source, "--build", "gcc -Os", "--entry", "ebb", "--entry", "sea",
        "--seconds", "0.1",
        "--inputs", 'levels = { fill = "zeros", count = 64 }', "--inputs", "n = 64",
        "--inputs", 'heights = { fill = "zeros", count = 64 }', "--inputs", "m = 64",
    )  # fmt: skip
    assert {row["word"] for row in picked["ranking"]} <= {"best", "tied", "not enough data"}
    (ebb, sea) = sorted(picked["ranking"], key=lambda row: row["candidate"])
    assert ebb["code_bytes"] < sea["code_bytes"] < 2 * ebb["code_bytes"]
