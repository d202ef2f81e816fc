"""A snippet's code as it is shown: one build's, or two compared."""

from typing import NamedTuple

from hot_anvil.core.built import Built
from hot_anvil.core.code import EMITTED
from hot_anvil.core.diff import Diff
from hot_anvil.core.listing import ListedFunction


class Listing(NamedTuple):
    """One snippet's code under one build, by source line."""

    built: Built
    functions: tuple[ListedFunction, ...]
    isa: str = "x86"
    view: str = EMITTED
    library: str = ""  # the library that the code comes from, "" for the snippet's own
    note: str = ""


class SnippetDiff(NamedTuple):
    """One snippet under two builds, compared by source line."""

    left: Built
    right: Built
    diff: Diff
    isa: str = "x86"
    right_isa: str = "x86"
