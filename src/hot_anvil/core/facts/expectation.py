"""What a bench expects of facts, as a record."""

from collections.abc import Mapping
from typing import NamedTuple

Wanted = bool | int | str | tuple[str, ...]


class Expectation(NamedTuple):
    """Facts that must hold for one function, in some builds."""

    entry: str
    builds: tuple[str, ...]  # patterns of builds or flag sets; none: every build
    loop: int | str | None  # a source line of it, "any" or "all"; None: about the function
    facts: Mapping[str, Wanted]
    why: str
    place: tuple[str | int, ...]  # its table: keys, and indices in arrays of tables
    line: int = 0  # of the bench's file, once it was looked for; 0 when not known
