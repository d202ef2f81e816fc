"""Edits that change what is computed are never called the same; what agrees may be."""

from pathlib import Path

import pytest
from edits import BUILDS, Edit, edits, judge, really_differ

from conftest import NEED_ALL


@pytest.mark.parametrize("build", BUILDS)
def test_no_edit_that_changes_results_is_called_the_same(build: str, tmp_path: Path) -> None:
    made = edits(60, 7)
    found = judge(made, really_differ(made, tmp_path), build, tmp_path)
    if found is None:
        assert not NEED_ALL
        pytest.skip(f"no {build} here")
    assert found.differ > 40
    assert found.false == []
    assert found.named > found.differ // 2


@pytest.mark.parametrize(
    ("build", "before", "after"),
    [
        ("gcc -O1", "return a * 9u;", "return (a << 3) + a;"),
        ("gcc -O0", "return a - b;", "return a + ~b + 1u;"),
        ("clang-16 -O1", "return a << 13 | a >> 19;", "return a >> 19 | a << 13;"),
        ("gcc -O0", "return a * 8u;", "return a << 3;"),
        ("gcc -O0", "return a % 16u;", "return a & 15u;"),
    ],
)
def test_what_agrees_is_not_said_to_differ(
    build: str, before: str, after: str, tmp_path: Path
) -> None:
    made = [Edit(before, after)]
    assert really_differ(made, tmp_path) == [False]
    found = judge(made, [True], build, tmp_path)  # as if it did: a claim is then counted
    assert found is None or len(found.false) == 1 or not found.kinds["other operation"]
