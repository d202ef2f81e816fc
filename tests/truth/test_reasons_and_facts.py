"""Reasons and facts speak of one code: none contradicts the other, whatever is shown."""

from pathlib import Path
from typing import Any

import pytest
from agreement import against

from conftest import CORPUS, document

PAIRS = [
    ("levels.c", "gcc -O1", "gcc -O3"),
    ("tide.c", "gcc -O2", "gcc -O3"),
    ("gate.c", "clang-16 -O1", "clang-16 -O2"),
    ("levels.c", "aarch64-linux-gnu-gcc -O2", "aarch64-linux-gnu-gcc -O3"),
    ("sync.c", "gcc -O1", "clang-16 -O2"),
]


@pytest.mark.parametrize(("source", "left", "right"), PAIRS)
def test_no_reason_contradicts_a_fact(source: str, left: str, right: str) -> None:
    builds = ["--build", left, "--build", right]
    diff = document("diff", CORPUS / source, *builds)
    facts = document("facts", CORPUS / source, *builds)
    said, found = against(diff, facts)
    assert found == []
    assert said > 5


@pytest.mark.parametrize(
    ("source", "builds", "entry"),
    [
        ("calls.c", ("gcc -O1", "gcc -O2"), "certain"),
        ("calls.c", ("gcc -O0", "gcc -O2"), "middle"),
        ("tide.c", ("gcc -O1", "gcc -O3"), "smooth"),
        ("levels.c", ("gcc -O2", "clang-16 -O2"), "blend"),
    ],
)
def test_what_is_shown_does_not_change_what_is_said(
    source: str, builds: tuple[str, str], entry: str
) -> None:
    words = [word for build in builds for word in ("--build", build)]
    whole = document("diff", CORPUS / source, *words)
    if not any(reason["function"] == entry for reason in whole["reasons"]):
        pytest.skip("nothing is said of it")
    alone = document("diff", CORPUS / source, *words, "--entry", entry)
    assert _said(whole, entry) == _said(alone, entry)


def test_what_is_shown_of_linked_code_does_not_change_what_is_said(tmp_path: Path) -> None:
    (tmp_path / "quay.c").write_text(
        "static int step(int v) { return v * 3 + 1; }\n"
        "int rise(const int *v, int n) {\n"
        "    int s = 0;\n"
        "    for (int i = 0; i < n; i++)\n"
        "        s += step(v[i]);\n"
        "    return s;\n"
        "}\n"
    )
    words = ["--build", "gcc -O1", "--build", "gcc -O2 -flto"]
    whole = document("diff", tmp_path / "quay.c", *words)
    alone = document("diff", tmp_path / "quay.c", *words, "--entry", "rise")
    assert _said(whole, "rise") == _said(alone, "rise")


def _said(diff: dict[str, Any], entry: str) -> list[tuple[str, str]]:
    return sorted((r["kind"], r["text"]) for r in diff["reasons"] if r["function"] == entry)
