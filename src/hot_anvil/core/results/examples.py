"""The benches that ship with the tool, as records."""

from typing import NamedTuple


class Example(NamedTuple):
    """One shipped snippet, or a whole bench."""

    name: str
    about: str
    sources: tuple[str, ...]
    stanza: str  # its part of the demo's anvil.toml; "" for a whole bench
