"""The sentences on instructions, shipped in the folder of each instruction set."""

import tomllib
from functools import cache
from pathlib import Path

from hot_anvil.core.arch import words_file
from hot_anvil.core.arch.reference import Dictionary, read_reference


@cache
def dictionary(isa: str) -> Dictionary:
    """Return the texts of an instruction set, read when first asked for."""
    tables = tomllib.loads(Path(words_file(isa)).read_text())
    return Dictionary(read_reference(isa, tables))
