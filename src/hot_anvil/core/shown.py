"""A snippet's code as it is shown: one build's, or two compared."""

from typing import NamedTuple

from hot_anvil.core.built import Built
from hot_anvil.core.diff import Diff
from hot_anvil.core.listing import ListedFunction


class Listing(NamedTuple):
    """One snippet's code under one build, by source line."""

    built: Built
    functions: tuple[ListedFunction, ...]


class SnippetDiff(NamedTuple):
    """One snippet under two builds, compared by source line."""

    left: Built
    right: Built
    diff: Diff
