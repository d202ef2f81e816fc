"""What stands behind labels is told beside the instructions that name them."""

from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import document, hot_anvil

NEED = Callable[..., None]
SOURCE = """int g(int);
const char *name(int k) { return k ? "mole" : "quay"; }
double scaled(double x) { return x * 0.3 + 1.5; }
int ways(int k)
{
    switch (k) {
    case 0: return k * 7 + 1;
    case 1: k = g(k); break;
    case 2: return g(k + 9) - k;
    case 3: return 1 + g(3);
    case 4: k = g(9) + 2; break;
    case 5: return g(g(k));
    }
    return k + g(1);
}
"""


@pytest.mark.parametrize("build", ["gcc-12 -O2", "clang-16 -O2", "riscv64-linux-gnu-gcc -O2"])
def test_numbers_texts_and_jump_tables(build: str, tmp_path: Path, need: NEED) -> None:
    need(build.split()[0])
    source = tmp_path / "named.c"
    source.write_text(SOURCE)
    found = document("listing", source, build, "--build", build)
    values = {
        f["name"]: [i["value"] for li in f["lines"] for i in li["instructions"] if "value" in i]
        for f in found["functions"]
    }
    assert set(values["scaled"]) == {"0.3", "1.5"}
    assert set(values["name"]) == {'"mole"', '"quay"'}
    (table,) = values["ways"]
    count, _, lines = table.partition(" ways, to lines ")
    assert count == "6"  # of the cases, which lead to their own lines
    assert {7, 9, 10, 12} & set(map(int, lines.split(", "))), table


def test_a_diff_tells_them_too(tmp_path: Path, need: NEED) -> None:
    need("gcc-12", "clang-16")
    source = tmp_path / "named.c"
    source.write_text(SOURCE)
    builds = ("gcc-12 -O2", "clang-16 -O2")
    given = [word for build in builds for word in ("--build", build)]
    text = hot_anvil("diff", source, *builds, *given, "--entry", "scaled", COLUMNS="120").stdout
    below = [line.split() for line in text.split("\n") if line.strip().startswith("= ")]
    assert ["=", "0.3", "=", "0.3"] in below and ["=", "1.5", "=", "1.5"] in below
    found = document("diff", source, *builds, *given, "--entry", "ways")
    words = [
        item["words"]
        for line in found["lines"]
        for item in (*line["left"]["instructions"], *line["right"]["instructions"])
        if "words" in item
    ]
    assert len([one for one in words if one.startswith("= 6 ways")]) == 2
