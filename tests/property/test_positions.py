"""Where a bench's keys stand, whatever their texts hold."""

import tomllib
from collections.abc import Mapping
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from hot_anvil.core.config.positions import dotted, line_of

# Texts that look like other parts of a bench.
tricky = st.sampled_from(["[grid]", "flags = 1", "[[snippet]]", "#", "]", "a\n[grid]\nname = 2\n"])
names = st.sampled_from(["name", "flags", "sources", "n", "grid", "title"])


def written(value: Any) -> str:
    """Return a value as TOML, over several lines where it can be."""
    if isinstance(value, list):
        return "[\n" + "".join(f"  {written(item)},\n" for item in value) + "]"
    return f'"""\n{value}"""' if "\n" in value else f"'{value}'"


values = tricky | st.lists(tricky, max_size=3)
tables = st.dictionaries(names, values, max_size=4)


@settings(max_examples=40)
@given(tables, st.lists(tables, max_size=4), st.booleans())
def test_each_key_is_found_on_the_line_it_was_written_on(
    top: Mapping[str, Any], snippets: list[Mapping[str, Any]], spaced: bool
) -> None:
    text, places = "", {}
    for table, keys in [((), top), *((("snippet", n), s) for n, s in enumerate(snippets))]:
        text += "\n# [grid]\n" if spaced else ""
        if table:
            places[table] = text.count("\n") + 1
            text += "[[snippet]]\n"
        for key, value in keys.items():
            places[(*table, key)] = text.count("\n") + 1
            text += f"{key} = {written(value)}\n"
    tomllib.loads(text)
    for path, line in places.items():
        assert line_of(text, path) == line, (dotted(path), text)
    if snippets:  # what is not there has the line of the table that lacks it
        last = ("snippet", len(snippets) - 1)
        assert line_of(text, (*last, "absent")) == places[last]
    assert line_of(text, ("absent",)) is None
