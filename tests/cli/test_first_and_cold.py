"""First calls, cold calls, compile times, and where a program's time goes."""

import os
from pathlib import Path
from typing import Any

from conftest import document, hot_anvil, refused

# A table that lies in another page for each entry: a call that finds it in no cache is far slower.
SOURCE = """#include <stdint.h>
int64_t table[1 << 16];
int64_t looked_up(int32_t n)
{
    int64_t sum = 0;
    for (int32_t i = 0; i < n; i++)
        sum += table[(i * 4096 + 17) & 65535];
    return sum;
}
"""


def measured(tmp_path: Path, *words: str) -> list[dict[str, Any]]:
    source = tmp_path / "table.c"
    source.write_text(SOURCE)
    asked: list[str | Path] = ["measure", source, "--build", "gcc -O1", "--sweep", "n = [1, 16]"]
    found = document(*asked, "--inputs", 'n = "n"', "--seconds", "0.1", *words)
    rows: list[dict[str, Any]] = found["results"]
    return rows


def test_a_first_call_finds_nothing_that_another_size_has_warmed(tmp_path: Path) -> None:
    warm = {row["inputs"]: row for row in measured(tmp_path)}
    first = {label: row["first_seconds"] for label, row in warm.items()}
    # Sixteen pages that nobody has touched yet, against one; in one process the second size
    # would find one of them there, and the code too.
    assert first["n=16"] > 3 * first["n=1"]
    assert all(first[label] > 5 * row["seconds_per_call"] for label, row in warm.items())


def test_cold_calls_find_no_cache_warm(tmp_path: Path) -> None:
    warm = {row["inputs"]: row["seconds_per_call"] for row in measured(tmp_path)}
    cold = {row["inputs"]: row["seconds_per_call"] for row in measured(tmp_path, "--cold")}
    assert all(cold[label] > 3 * seconds for label, seconds in warm.items()), (cold, warm)
    source = tmp_path / "table.c"
    told = hot_anvil("measure", source, "--build", "gcc -O1", "--inputs", "n = 1", "--cold",
                     "--seconds", "0.05").stdout  # fmt: skip
    assert "branch predictors were displaced" in told


PROGRAM = """#include <stdio.h>
int main(int argc, char **argv)
{
    volatile unsigned sum = 0, by = (unsigned)argc + 6;
    for (unsigned i = 1; i < 20000000; i++)
        sum += i / by;
    printf("%u\\n", sum);
    return 0;
}
"""


def test_a_whole_program_is_looked_into(tmp_path: Path) -> None:
    source = tmp_path / "log.c"
    source.write_text(PROGRAM)
    words: list[str | Path] = ["hotspots", source, "--build", "gcc -O1", "--seconds", "0.3"]
    (found,) = document(*words)["candidates"]
    assert found["unit"] == "run" and found["processes"] >= 4
    lines = {line["line"]: line["share"] for line in found["lines"]}
    assert max(lines, key=lambda line: lines[line]) == 6 and lines[6] > 0.5
    assert " a run, " in hot_anvil(*words).stdout
    assert "--cold is for calls of functions" in refused(
        "measure", source, "--build", "gcc -O1", "--cold"
    )


def test_compile_times_are_of_several_runs_where_they_decide(tmp_path: Path) -> None:
    source = tmp_path / "table.c"
    source.write_text(SOURCE)
    words: list[str | Path] = ["pick", source, "--inputs", "n = 16", "--seconds", "0.05"]
    ranking = document(*words, "--build", "gcc -O0", "--build", "gcc -O2")["ranking"]
    assert {row["compile_runs"] for row in ranking} == {5}
    for row in ranking:
        assert 0 < row["compile_low"] <= row["compile_seconds"] <= row["compile_high"]
    (alone,) = document(*words, "--build", "gcc -O2")["ranking"]  # nothing rests on it
    assert (alone["compile_runs"], alone["compile_high"]) == (1, None)


def test_a_compiler_behind_a_front_is_asked_again_when_the_front_changes(tmp_path: Path) -> None:
    from hot_anvil.core.toolchain.records import Front
    from hot_anvil.system.toolchain.fronts import front_state, real_compiler

    settings = tmp_path / "settings.toml"
    front = Front(("QUAY_TOOLCHAIN",), (str(settings),), ("quay-toolchain",), ("--where",), "cc")
    seen = {front_state(front, str(tmp_path))}
    settings.write_text("default = 'one'")
    seen.add(front_state(front, str(tmp_path)))
    inner = tmp_path / "bench"
    inner.mkdir()
    (tmp_path / "quay-toolchain").write_text("two")
    seen.add(front_state(front, str(inner)))
    os.environ["QUAY_TOOLCHAIN"] = "three"
    try:
        seen.add(front_state(front, str(inner)))
    finally:
        del os.environ["QUAY_TOOLCHAIN"]
    assert len(seen) == 4 and front_state(None, str(inner)) == ""
    (tmp_path / "cc").write_text("")
    command = tmp_path / "front"
    command.write_text(f"#!/bin/sh\necho {tmp_path}\n")
    command.chmod(0o755)
    assert real_compiler(front, str(command), str(inner)) == [str(tmp_path / "cc")]
