"""Faults that no result shows by itself: the shipped bench of them, and the sound code beside."""

import shutil
from pathlib import Path
from typing import Any, NamedTuple

import pytest

from conftest import document
from hot_anvil.system.bench import examples

UNSEEN = Path(examples.__file__).parents[2] / "data" / "unseen"


class Broken(NamedTuple):
    """What is known of a broken entry from reading its source."""

    verdicts: str  # that it may get, parted by blanks
    said: str  # in the words of one that fails
    line: str  # to blame: how its text begins, "" where several may be
    builds: str = ""  # under which it must fail, "" for all


LEFT, RUNS, RARE = "changed after it returns", "runs", "expected"
LOST = "wrong unstable undefined crashed"
TRUTH = {
    "feet_left": Broken("wrong", LEFT, "fesetround(FE_UPWARD);"),
    "quiet_for_ever": Broken("wrong", LEFT, "sigprocmask(SIG_BLOCK, &all, 0);"),
    "folder_left": Broken("wrong", LEFT, 'return level + 1 + chdir("/");'),
    "name_left": Broken("wrong", LEFT, ""),
    "log_left": Broken("wrong", LEFT, ""),
    "all_closed": Broken("wrong", LEFT, ""),
    "mmx_left": Broken("wrong", LEFT, ""),
    "tiny_left": Broken("wrong", LEFT, "__builtin_ia32_ldmxcsr(__builtin"),
    "down_left": Broken("wrong", LEFT, '__asm__ volatile("std" : : : "cc");'),
    "open_unset": Broken("unstable", RUNS, "return open ? level : -level;"),
    "marks_padded": Broken("unstable", RUNS, ""),
    "day_deep": Broken("unstable", RUNS, ""),
    "heap_unset": Broken("unstable", RUNS, ""),
    "band_but_one": Broken("wrong", RARE, "int32_t band_but_one("),
    "berth_mixed": Broken("wrong", RARE, "case 4990: return 3;"),
    "spring_short": Broken("wrong", RARE, "int32_t spring_short("),
    "marks_once": Broken("wrong", RARE, "return 1;"),
    "leap_short": Broken("wrong", RARE, "int32_t leap_short("),
    "mark_past": Broken("wrong", RARE, "int32_t mark_past("),
    "sign_missed": Broken("wrong", RARE, "count += text[i] == '~' + 1;"),
    "highest_lost": Broken("wrong", "highest", "highest[i & (OFF)] = levels[i];", "narrow"),
    "sum_hasty": Broken("undefined", "overflow", "int32_t sum_hasty("),
    "carry_promised": Broken("wrong", RARE, "#pragma GCC ivdep", "gcc-12:full"),
    "berth_by_fours": Broken(LOST, "", "__builtin_unreachable();"),
    "drawn_promised": Broken("wrong", RARE, "__attribute__((const, noinline)) static", "fast"),
    "room_folded": Broken(LOST, "", "int32_t room_folded("),
    "mask_folded": Broken(LOST, "", "return level + (1 << bits >> bits);"),
    "far_folded": Broken("undefined", "", "return level + (&none[1] != 0);"),
    "whole_hasty": Broken(LOST, "", "int32_t whole_hasty("),
    "mean_freed_first": Broken(LOST, "", "return kept[n];"),
    "slide_copied": Broken("undefined wrong", "", "memcpy(levels, levels + 1"),
    "kept_outside": Broken(LOST, "", "int32_t kept_outside("),
    "rate_asked": Broken("undefined wrong", "rate", "double rate("),
    "stepped": Broken("undefined wrong", "step", "inline int step("),
}  # fmt: skip
# Wrong by the language, though no build of the grid shows it: named, and no more is known.
NAMED = ("carry_apart", "bits_cast", "step_at_once")


@pytest.fixture(scope="module")
def found(tmp_path_factory: pytest.TempPathFactory) -> Any:
    folder = tmp_path_factory.mktemp("unseen") / "bench"
    shutil.copytree(UNSEEN, folder)
    return {**document("check", folder, code=1), "folder": folder}


@pytest.mark.parametrize("entry", TRUTH)
def test_each_broken_entry_is_found_where_it_is_broken(found: Any, entry: str) -> None:
    truth = TRUTH[entry]
    rows = [v for v in found["verdicts"] if v["entry"] == entry]
    bad = [v for v in rows if v["verdict"] != "correct"]
    assert {v["verdict"] for v in bad} <= {*truth.verdicts.split()}, rows
    assert {v["build"] for v in bad} == {v["build"] for v in rows if truth.builds in v["build"]}
    assert bad and all(truth.said in v["why"] for v in bad), bad


def test_lines_are_right_for_most_and_false_for_none(found: Any) -> None:
    right = [entry for entry, truth in TRUTH.items() if truth.line and blamed(found, entry, truth)]
    wrong = {e for e, t in TRUTH.items() if t.line} - {*right}
    assert not wrong, sorted(wrong)


def blamed(found: Any, entry: str, truth: Broken) -> bool:
    """Tell whether a failing build's line, or the lines it is narrowed to, hold the one."""
    rows = [v for v in found["verdicts"] if v["entry"] == entry and v["verdict"] != "correct"]
    for row in rows:
        place = row["place"] or {}
        near = row["between"] or {"file": place.get("file"), "first": place.get("line", 0)}
        if not near["file"]:
            continue
        lines = (found["folder"] / near["file"]).read_text().split("\n")
        own = lines[near["first"] - 1 : near.get("last", near["first"])]
        if any(line.strip().startswith(truth.line) for line in own):
            return True
    return False


def test_what_no_build_shows_is_named(found: Any) -> None:
    notes = [note["text"] for note in found["notes"]]
    assert any("strict-aliasing" in note for note in notes)
    assert any("sequence-point" in note for note in notes)
    assert [p["word"] for p in found["promises"] if p["snippet"] == "halves"] == ["restrict"] * 2
    assert "restrict" in {p["word"] for p in found["promises"] if p["snippet"] == "carry"}
    files = {(d["snippet"], d["place"]["file"], d["other"]["file"]) for d in found["disagreements"]}
    assert ("rate", "far_a.c", "far_b.c") in files and (
        "one_body",
        "one_b.cpp",
        "one_a.cpp",
    ) in files


def test_every_sound_entry_is_correct_under_every_build(found: Any) -> None:
    rows = [v for v in found["verdicts"] if v["entry"] and v["entry"] not in TRUTH]
    wrong = {(v["candidate"], v["verdict"], v["why"]) for v in rows if v["verdict"] != "correct"}
    # The sum of floats in another order is wrong, and only there.
    loose = {row for row in wrong if row[0] in ("gcc-12:loose", "clang-16:loose")}
    assert loose and not wrong - loose
    assert all("the variable means[" in why for *_, why in wrong)
    assert len({v["entry"] for v in rows} - {*NAMED}) >= 40
    tainted = {u["entry"] for u in found["undefined"] if not u["edge"]}
    assert tainted <= {*TRUTH, "main"}


def test_a_racing_program_is_not_correct(found: Any) -> None:
    rows = [v for v in found["verdicts"] if v["snippet"] == "log"]
    assert rows and {v["verdict"] for v in rows} <= {"undefined", "unstable"}
