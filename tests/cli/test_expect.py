"""Expectations: facts that must hold, and what is said when they do not."""

from pathlib import Path

import pytest

from conftest import document, hot_anvil, refused, write_bench
from hot_anvil.core.facts.expectations import FAILED, HELD, UNKNOWN, holds
from hot_anvil.core.facts.records import Fact

SOURCE = """int lift(int *level, int n)
{
    for (int i = 0; i < n; i++)
        level[i] += 3;
    return 7;
}
int day(void) { return 24 * 60; }
"""
BENCH = """[flags]
plain = "-O0"
fast = "-O3"
[grid]
toolchains = ["gcc"]
[[snippet]]
sources = ["tide.c"]
"""


def bench(folder: Path, *tables: str) -> Path:
    """Write a bench with these expectations."""
    text = BENCH + "".join(f"[[snippet.expect]]\n{table}\n" for table in tables)
    return write_bench(folder, text, tide=SOURCE)


@pytest.mark.parametrize(
    ("value", "wanted", "state"),
    [
        (4, 4, HELD), (4, "<= 4", HELD), (4, "< 4", FAILED), (4, True, HELD), (0, False, HELD),
        (None, 3, UNKNOWN), (("a", "b"), 2, HELD), (("a", "b"), ("b", "a"), HELD),
        (("a", "b"), "a", HELD), ((), True, FAILED), ("at its end", "at its end", HELD),
        ("42", ">= 40", HELD),
    ],
)  # fmt: skip
def test_statements(value: object, wanted: object, state: str) -> None:
    assert holds(Fact("calls", value), wanted) == state  # type: ignore[arg-type]


def test_what_holds_and_what_does_not(tmp_path: Path) -> None:
    folder = bench(
        tmp_path,
        'entry = "lift"\nbuilds = ["fast"]\nloop = 4\nfacts = { vector = ">= 4", calls = 0 }',
        'entry = "day"\nbuilds = ["gcc*:fast"]\nfacts = { constant = 1440, frame = 0 }',
    )
    good = hot_anvil("expect", folder)
    assert good.returncode == 0 and "4 statements, 0 not held" in good.stdout
    folder = bench(
        tmp_path,
        'entry = "lift"\nloop = "any"\nfacts = { vector = true }\nwhy = "it is sent by the year"',
        'entry = "lift"\nloop = 99\nfacts = { "per pass" = "<= 6" }',
    )
    bad = hot_anvil("expect", folder)
    assert bad.returncode == 1
    assert "vector yes" in bad.stdout and "found: vector scalar" in bad.stdout
    assert "there is no loop at line 99" in bad.stdout and "sent by the year" in bad.stdout
    assert "anvil.toml:8)" in bad.stdout
    found = document("expect", folder, "gcc:plain", code=1)
    assert (found["held"], found["not_held"]) == (0, 2)
    bench(tmp_path, 'entry = "lift"\nfacts = { bytes = "<= 20" }')
    (row, _) = document("expect", folder, code=1)["outcomes"]
    assert row["fact"] == "bytes" and row["state"] == FAILED


@pytest.mark.parametrize(
    ("table", "said"),
    [
        ('entry = "lift"\nfacts = { calls_ = 0 }', "Did you mean 'calls'?"),
        ('entry = "lift"\nfacts = { vector = 4 }', "say of which"),
        ('entry = "lift"\nloop = 3\nfacts = { frame = 4 }', "leave 'loop' out"),
        ('entry = "lift"\nloop = "every"\nfacts = { calls = 0 }', "'any' or 'all'"),
        ('facts = { calls = 0 }', "needs 'entry'"),
        ('entry = "lift"\nfacts = { calls = 0.5 }', "a whole number"),
        ('entry = "lyft"\nfacts = { calls = 0 }', "Did you mean 'lift'?"),
        ('entry = "lift"\nbuilds = ["icc*"]\nfacts = { calls = 0 }', "no build is called icc*"),
        ('entry = "lift"\nbuild = "x"\nfacts = { calls = 0 }', "Did you mean 'builds'?"),
    ],
)  # fmt: skip
def test_bad_expectations_are_named(table: str, said: str, tmp_path: Path) -> None:
    message = refused("expect", bench(tmp_path, table))
    assert said in message and "anvil.toml:" in message
