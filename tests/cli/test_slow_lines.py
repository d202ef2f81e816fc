"""The line of an instruction that is known to be slow leads the hotspots."""

from pathlib import Path

import pytest

from conftest import document

KERNEL = """#include <math.h>
#include <stdatomic.h>
#include <stdint.h>
static uint32_t next[4096];
static atomic_long seen;
double mix(const uint64_t *levels, int32_t n)
{{
    uint64_t s = 1, at = 0;
    double f = 1;
    for (uint32_t i = 0; i < 4096; i++) next[i] = (i * 1103 + 7) & 4095;
    for (int32_t i = 0; i < n; i++) {{
        uint64_t v = levels[i & 63] | 1;
        s += v;
        {slow}
        s = (s << 1) ^ v;
        f = f * 0.5 + 1;
    }}
    return f + (double)s + (double)at;
}}
"""
SLOW = {
    "division": "s ^= (s + 12345678901) / v;",
    "remainder": "s ^= (s + 12345678901) % v;",
    "signed division": "s ^= (uint64_t)((int64_t)(s >> 2) / (int64_t)v);",
    "narrow division": "s ^= (uint32_t)s / (uint32_t)v;",
    "float division": "f = (f + 2) / (double)(f + 1.5);",
    "square root": "f = sqrt(f + 2.5);",
    "atomic": "atomic_fetch_add(&seen, 3);",
    "chase": "at = next[next[next[next[next[next[next[next[at]]]]]]]];",
}


@pytest.mark.parametrize("kind", SLOW)
def test_the_line_that_is_slow_leads(tmp_path: Path, kind: str) -> None:
    text = KERNEL.format(slow=SLOW[kind])
    line = text.split("\n").index(f"        {SLOW[kind]}") + 1
    source = tmp_path / "mix.c"
    source.write_text(f'/* hot-anvil:\n[snippet]\nlink_flags = "-lm"\n*/\n{text}')
    found = document(
        "hotspots", source, "--build", "gcc -O1 -fno-math-errno", "--seconds", "0.4",
        "--inputs", 'levels = { fill = "uniform(1, 900)", count = 64 }', "--inputs", "n = 20000",
    )  # fmt: skip
    (candidate,) = found["candidates"]
    hottest = max(candidate["lines"], key=lambda row: row["share"])
    assert hottest["line"] == line + 4, candidate["lines"]
