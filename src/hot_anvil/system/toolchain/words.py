"""The instruction reference that is shipped as package data."""

import tomllib
from functools import cache
from pathlib import Path

from hot_anvil.core.arch.reference import Dictionary, read_reference

_FOLDER = Path(__file__).parent.parent.parent / "data" / "instructions"


@cache
def dictionary(isa: str) -> Dictionary:
    """Return the texts of an instruction set, read when first asked for."""
    tables = tomllib.loads((_FOLDER / f"{isa}.toml").read_text())
    return Dictionary(read_reference(isa, tables))


def known_isas() -> list[str]:
    """Return the names of the instruction sets that have texts."""
    return sorted(file.stem for file in _FOLDER.glob("*.toml"))
