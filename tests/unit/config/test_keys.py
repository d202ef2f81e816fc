"""The table of keys: what it says is what the docs say, and all mistakes are told at once."""

import tomllib

import docs_tables
import pytest

from hot_anvil.core.config.keys import KEYS
from hot_anvil.core.config.reading import read_bench
from hot_anvil.errors import RequestError

BENCH = '''title = """
[grid]
flag = 3
"""
titel = 1

[grid]
toolchains = "gcc"
flags = ["fsat"]

[flags]
fast = "-O3"

[[snippet]]
sources = ["surge.c"]
tolerance = { ulps = 3 }

[[snippet]]
sources = ["ebb.c"]
inputs = { n = { fil = "zeros" } }
'''


def test_all_mistakes_of_a_bench_are_told_at_once_with_their_lines() -> None:
    with pytest.raises(RequestError) as caught:
        read_bench(tomllib.loads(BENCH), BENCH, "anvil.toml", "/quay")
    told = str(caught.value).split("\n")
    assert told[0] == "anvil.toml: 6 mistakes:"
    wanted = [(5, "titel"), (8, "grid.toolchains"), (9, "grid.flags"), (16, "'ulps'")]
    wanted += [(20, "'fill'"), (20, "'fil'")]
    for line, (number, part) in zip(told[1:], wanted, strict=True):
        assert line.startswith(f"  anvil.toml:{number}: ") and part in line


@pytest.mark.parametrize("page", sorted(docs_tables.PARTS))
def test_the_tables_of_the_docs_are_those_of_the_code(page: str) -> None:
    text = (docs_tables.DOCS / page).read_text()
    parts = docs_tables.PARTS[page]
    assert text.count(docs_tables.BEGIN) == len(parts)
    assert docs_tables.with_parts(text, [part() for part in parts]) == text, (
        "run python tools/docs_tables.py"
    )


def test_every_key_is_explained_and_every_table_has_a_name() -> None:
    for table, keys in KEYS.items():
        assert len({key.name for key in keys}) == len(keys) > 1, table
        assert all(key.says and not key.says.endswith(".") for key in keys)
