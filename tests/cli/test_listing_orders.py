"""Code as it lies in memory, and the compiler's own text: nothing added, lost or moved."""

import re
from pathlib import Path

import pytest

from conftest import document, hot_anvil, refused


@pytest.mark.parametrize("build", ["gcc:plain", "gcc:wide"])
@pytest.mark.parametrize("view", ["emitted", "linked"])
def test_by_address_every_instruction_stands_once_in_order(
    demo: Path, build: str, view: str
) -> None:
    words = (demo, build, "--entry", "crossings_signed", "--view", view)
    text = hot_anvil("listing", *words, "--order", "address", COLUMNS="160").stdout
    (function,) = document("listing", *words)["functions"]
    wanted = {item["index"]: (line["line"], item) for line in function["lines"]
              for item in line["instructions"]}  # fmt: skip
    base = 16 if view == "linked" else 10
    rows = re.findall(r"^ {0,5}(\d*) +([0-9a-f]+)   (\S+)", text, re.M)
    places = [int(place, base) for _, place, _ in rows]
    assert len(rows) == len(wanted) == function["count"]
    assert places == sorted(places)
    here = 0
    for (number, _, mnemonic), (_, (line, item)) in zip(rows, sorted(wanted.items()), strict=True):
        here = int(number) if number else here
        assert mnemonic == item["mnemonic"].split()[0]
        assert here == line or line == 0


def test_raw_is_the_compilers_own_text(demo: Path, tmp_path: Path) -> None:
    raw = hot_anvil("listing", demo, "gcc:fast", "--snippet", "crossings", "--raw").stdout
    assert raw.startswith('\t.file\t"crossings.c"') and raw.rstrip().endswith("@progbits")
    stored = {file.read_text() for file in (demo / ".hot-anvil" / "artefacts").glob("*/code.s")}
    assert raw in stored
    (one,) = document("listing", demo, "gcc:fast", "--snippet", "crossings", "--raw")["texts"]
    assert one["text"] == raw and one["source"] == "crossings.c"
    goal = tmp_path / "own.s"
    words = ("listing", demo, "gcc:fast", "--snippet", "crossings", "--raw", "--out", goal)
    assert hot_anvil(*words).returncode == 0 and goal.read_text() == raw


def test_what_has_no_text_of_a_compilers_says_so(demo: Path) -> None:
    told = refused("listing", demo, "gcc:whole", "--snippet", "frame", "--raw")
    assert "made while linking" in told
    assert "--find" in refused("listing", demo, "gcc:fast", "--raw", "--find", "call")
    assert "--view" in refused("listing", demo, "gcc:fast", "--raw", "--view", "linked")
