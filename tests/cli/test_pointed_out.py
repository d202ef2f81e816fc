"""What ``facts`` points out below its table."""

import textwrap
from pathlib import Path

import pytest

from conftest import document, hot_anvil


@pytest.mark.parametrize(
    ("body", "only_time"),
    [
        ("for (volatile int i = 0; i < n; i++) ;", True),
        # Which exit is taken decides what is returned.
        ("int c = 0; while (n > 1) { n = n & 1 ? n * 3 : n / 2; if (c++ > 9) return 5; }", False),
    ],
)  # fmt: skip
def test_only_a_loop_without_a_result_lets_time_pass(
    body: str, only_time: bool, tmp_path: Path
) -> None:
    source = tmp_path / "pause.c"
    source.write_text(f"int pause(unsigned n) {{ {body} return 7; }}\n")
    for build in ("gcc -O0", "gcc -O2"):
        text = hot_anvil("facts", source, "--build", build).stdout
        assert ("let time pass" in text) is only_time, text


def test_a_constant_is_pointed_out_also_where_all_builds_agree(tmp_path: Path) -> None:
    source = tmp_path / "tides.c"
    source.write_text(
        textwrap.dedent("""
            int tides(void) { int s = 0; for (int i = 0; i < 10; i++) s += i; return s; }
            int ebb(int n) { return n + 1; }
        """)
    )
    words: list[str | Path] = ["facts", source, "--build", "gcc -O2"]
    text = hot_anvil(*words, "--build", "gcc -O3").stdout
    assert "Nothing but a constant under every build: tides (45)." in text
    assert (
        "tides is the constant 45 under gcc-12 -O2"
        in hot_anvil(*words, "--build", "gcc -O0").stdout
    )


def test_two_stores_that_a_pass_may_make_are_not_two_passes(tmp_path: Path) -> None:
    source = tmp_path / "marks.c"
    source.write_text(
        textwrap.dedent("""
            int wanted(int);
            int marks(int *out, int n)
            {
                int kept = 0;
                for (int i = 1; i <= n; i++) {
                    if (wanted(i))
                        out[kept++] = i;
                    if (wanted(-i))
                        out[kept++] = -i;
                }
                return kept;
            }
        """)
    )
    builds = ["--build", "gcc -O0", "--build", "gcc -O2"]
    (function,) = [
        f for f in document("facts", source, *builds)["functions"] if "-O2" in f["build"]
    ]
    assert [loop["facts"]["unrolled"]["value"] for loop in function["loops"]] == [None]
    reasons = document("diff", source, *builds)["reasons"]
    assert "loop unrolled" not in {reason["kind"] for reason in reasons}
