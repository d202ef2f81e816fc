"""Faults that no result shows by itself: the shipped bench of them, and the sound code beside."""

import shutil
from pathlib import Path
from typing import Any

import pytest

from conftest import document
from hot_anvil.system.bench import examples

UNSEEN = Path(examples.__file__).parents[2] / "data" / "unseen"
LEFT, UNSET, RARE, PROOF = "changed after it returns", "runs", "expected", "overflow"
# Decided by reading the sources: broken entry -> verdict under every build, and what is said of it.
BROKEN = {
    "feet_left": ("wrong", LEFT), "quiet_for_ever": ("wrong", LEFT), "folder_left": ("wrong", LEFT),
    "name_left": ("wrong", LEFT), "log_left": ("wrong", LEFT), "all_closed": ("wrong", LEFT),
    "mmx_left": ("wrong", LEFT), "open_unset": ("unstable", UNSET),
    "marks_padded": ("unstable", UNSET), "day_deep": ("unstable", UNSET),
    "heap_unset": ("unstable", UNSET), "band_but_one": ("wrong", RARE),
    "berth_mixed": ("wrong", RARE), "spring_short": ("wrong", RARE), "marks_once": ("wrong", RARE),
    "sum_hasty": ("undefined", PROOF),
}  # fmt: skip


@pytest.fixture(scope="module")
def found(tmp_path_factory: pytest.TempPathFactory) -> Any:
    folder = tmp_path_factory.mktemp("unseen") / "bench"
    shutil.copytree(UNSEEN, folder)
    return document("check", folder, code=1)


def test_each_broken_entry_is_found_under_every_build(found: Any) -> None:
    for entry, (verdict, said) in BROKEN.items():
        rows = [v for v in found["verdicts"] if v["entry"] == entry]
        assert {v["verdict"] for v in rows} == {verdict}, (entry, rows)
        assert all(said in v["why"] for v in rows), rows


def test_every_sound_entry_is_correct_under_every_build(found: Any) -> None:
    rows = [v for v in found["verdicts"] if v["entry"] and v["entry"] not in BROKEN]
    wrong = {(v["candidate"], v["verdict"], v["why"]) for v in rows if v["verdict"] != "correct"}
    # The sum of floats in another order is wrong, and only there.
    assert {name for name, *_ in wrong} <= {"gcc-12:loose", "clang-16:loose"} and wrong
    assert all("the variable means[" in why for *_, why in wrong)
    assert len({v["entry"] for v in rows}) >= 18


def test_a_racing_program_is_not_correct(found: Any) -> None:
    rows = [v for v in found["verdicts"] if v["snippet"] == "log"]
    assert rows and {v["verdict"] for v in rows} <= {"undefined", "unstable"}
